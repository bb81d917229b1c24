#!/usr/bin/env python3
"""Holds documents against the modules with yangson, a validator by others (PyPI).

    yangson_judge.py MODULES-FOLDER config|all FILE.json...

Exit status 0 if all are valid, 1 otherwise, each fault on standard error."""

import json
import pathlib
import re
import sys

from yangson import DataModel
from yangson.enumerations import ContentType, ValidationScope

IMPORTED = {"ietf-inet-types", "ietf-yang-types", "ietf-packet-fields", "ietf-ethertypes"}


def library(folder, with_policy):
    modules = []
    for path in sorted(folder.glob("*.yang")):
        text = path.read_text()
        name, revision = path.stem.split("@")
        head = re.match(r"(?:\s|//[^\n]*\n|/\*.*?\*/)*(module|submodule)\s+(\S+)", text, re.S)
        if head.group(1) == "submodule" or name == "zarnet-policy" and not with_policy:
            continue
        namespace = re.search(r'namespace\s+"?([^";\s]+)"?\s*;', text).group(1)
        entry = {
            "name": name,
            "revision": revision,
            "namespace": namespace,
            "conformance-type": "import" if name in IMPORTED else "implement",
            "feature": re.findall(r"^\s*feature\s+([\w-]+)", text, re.M),
        }
        parts = re.findall(r"^\s*include\s+([\w-]+)", text, re.M)
        if parts:
            entry["submodule"] = [
                {"name": p, "revision": next(folder.glob(f"{p}@*.yang")).stem.split("@")[1]} for p in parts
            ]
        modules.append(entry)
    return json.dumps({"ietf-yang-library:modules-state": {"module-set-id": "judged", "module": modules}})


def main():
    folder, kind, files = pathlib.Path(sys.argv[1]), sys.argv[2], sys.argv[3:]
    content = ContentType.config if kind == "config" else ContentType.all
    wrong = 0
    models = {}
    for name in files:
        document = json.loads(pathlib.Path(name).read_text())
        with_policy = "zarnet-policy:edge" in document
        if with_policy not in models:
            models[with_policy] = DataModel(library(folder, with_policy), (str(folder),))
        try:
            models[with_policy].from_raw(document).validate(ValidationScope.all, content)
            print(f"valid: {name}")
        except Exception as error:  # whatever it says is a fault of the document
            wrong = 1
            print(f"invalid: {name}: {type(error).__name__}: {error}", file=sys.stderr)
    sys.exit(wrong)


if __name__ == "__main__":
    main()
