#!/usr/bin/env python3
"""Writes src/data_model/modules.tree: the modules of this folder, resolved, a line a node.

    pip install pyang && ./make-schema.py

Read once at start by src/data_model/schema.rs, which has the notation. Deprecated and obsolete
nodes, and operations are left out. The modules are those of the standards, but for the addresses of
their editors: `contact` names the working group."""

import pathlib
import sys

from pyang import context, repository, statements

HERE = pathlib.Path(__file__).resolve().parent
OUT = HERE.parent / "src" / "data_model" / "modules.tree"

# typedefs whose notation the reader knows by name
KNOWN = {
    "ip-prefix", "ipv4-prefix", "ipv6-prefix", "ip-address", "ipv4-address", "ipv6-address",
    "ip-address-no-zone", "ipv4-address-no-zone", "ipv6-address-no-zone", "date-and-time",
    "dotted-quad", "phys-address", "mac-address",
}


def main():
    ctx = context.Context(repository.FileRepository(str(HERE), use_env=False))
    modules = []
    for path in sorted(HERE.glob("*.yang")):
        modules.append(ctx.add_module(path.name, path.read_text()))
    ctx.validate()
    if ctx.errors:
        sys.exit("\n".join(f"{pos}: {tag} {args}" for pos, tag, args in ctx.errors))
    lines = ["# Made by yang/make-schema.py: the modules of yang/, resolved. Notation: schema.rs."]
    for module in modules:
        if module.keyword != "module":
            continue
        revision = module.search_one("revision")
        space = module.search_one("namespace")
        lines.append(f"module {module.arg} {revision.arg} {space.arg}")
    for module in modules:
        for identity in module.search("identity"):
            bases = [qualified(b, b.i_identity) for b in identity.search("base")]
            lines.append(" ".join(["identity", f"{module.arg}:{identity.arg}", *bases]))
    for module in modules:
        for child in module.i_children:
            node(child, None, 0, lines)
    OUT.write_text("\n".join(lines) + "\n")


def qualified(_, identity):
    return f"{identity.i_module.arg}:{identity.arg}"


def node(stmt, module, depth, lines):
    status = stmt.search_one("status")
    if status is not None and status.arg in ("deprecated", "obsolete"):
        return
    if stmt.keyword in ("rpc", "action", "input", "output"):
        return
    own = stmt.i_module.arg
    name = stmt.arg if own == module else f"{own}:{stmt.arg}"
    kind = stmt.keyword
    words = [kind, name]
    if kind == "container" and stmt.search_one("presence") is not None:
        words[0] = "presence"
    if kind == "list":
        words.append("[" + " ".join(k.arg for k in getattr(stmt, "i_key", [])) + "]")
    if kind in ("leaf", "leaf-list"):
        words += [":", type_of(stmt.search_one("type"), stmt)]
    flags = []
    mandatory = stmt.search_one("mandatory")
    if mandatory is not None and mandatory.arg == "true":
        flags.append("mandatory")
    if stmt.search_one("min-elements") is not None and stmt.search_one("min-elements").arg != "0":
        flags.append("mandatory")
    ordered = stmt.search_one("ordered-by")
    if ordered is not None and ordered.arg == "user":
        flags.append("user")
    if getattr(stmt, "i_config", True) is False:
        flags.append("state")
    default = stmt.search_one("default")
    if default is not None and kind == "leaf":
        flags.append(f"default {default.arg}")
    for must in stmt.search("must"):
        flags.append("must " + xpath(must))
    when = stmt.search_one("when")
    if when is not None:
        flags.append("when " + xpath(when))
    augment = getattr(stmt, "i_augment", None)
    if augment is not None and augment.search_one("when") is not None:
        flags.append("parent-when " + xpath(augment.search_one("when")))
    if getattr(stmt, "i_uses", None):
        for uses in stmt.i_uses:
            when = uses.search_one("when")
            if when is not None:
                flags.append("parent-when " + xpath(when))
    lines.append("  " * depth + " ".join(words) + "".join(f" ; {f}" for f in flags))
    for child in getattr(stmt, "i_children", []):
        node(child, own, depth + 1, lines)


def xpath(stmt):
    """An expression with the prefixes of names in it left out, and those of identities as module names."""
    text = " ".join(stmt.arg.split())
    prefixes = stmt.i_module.i_prefixes
    out, quote = [], None
    word = ""
    for c in text + " ":
        if quote:
            if c == quote:
                prefix, _, rest = word.partition(":")
                if rest and prefix in prefixes:
                    word = f"{prefixes[prefix][0]}:{rest}"
                out.append(f"'{word}'")
                word, quote = "", None
            else:
                word += c
        elif c in "'\"":
            out.append(word)
            word, quote = "", c
        elif c.isalnum() or c in "-_:.":
            word += c
        else:
            prefix, _, rest = word.partition(":")
            out.append(rest if rest and prefix in prefixes else word)
            out.append(c)
            word = ""
    return "".join(out).strip()


def type_of(stmt, leaf):
    name = stmt.arg.split(":")[-1]
    typedef = getattr(stmt, "i_typedef", None)
    if name in KNOWN:
        return name
    if name == "leafref":
        path = stmt.search_one("path")
        return "leafref(" + xpath(path) + ")"
    if name == "identityref":
        return "identity(" + " ".join(qualified(b, b.i_identity) for b in stmt.search("base")) + ")"
    if name == "enumeration":
        return "enum(" + " ".join(e.arg for e in stmt.search("enum")) + ")"
    if name == "bits":
        return "bits(" + " ".join(b.arg for b in stmt.search("bit")) + ")"
    if name == "union":
        return "union(" + " , ".join(type_of(t, leaf) for t in stmt.search("type")) + ")"
    if typedef is not None:
        inner = type_of(typedef.search_one("type"), leaf)
        if stmt.search_one("range") is not None:
            inner = inner.split(" ")[0] + "(" + stmt.search_one("range").arg.replace(" ", "") + ")"
        return inner
    if stmt.search_one("range") is not None:
        return name + "(" + stmt.search_one("range").arg.replace(" ", "") + ")"
    if name == "string":
        if stmt.search_one("length") is not None:
            return "string(" + stmt.search_one("length").arg.replace(" ", "") + ")"
        return "string"
    return name


main()
