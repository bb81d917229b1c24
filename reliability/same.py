#!/usr/bin/env python3
"""Tells whether two builds of the program give the same answers, octet by octet, and what each of them costs.

    reliability/same.py OLD NEW                                  the demo and its planted faults
    reliability/same.py OLD NEW FOLDER...                        and other estates: each folder with its plans and traffic
    reliability/same.py OLD NEW --times PLAN TRAFFIC...          and large traffic: equal tables, time and memory in turn

For a change that is meant to change nothing: build before it, put the program aside, build after it. Every plan of a folder is
asked every question (check, behaviour, addresses, expect, impact, and with each traffic of that folder predict, capacity,
compare, follow, why), in JSON and CSV; exit code, answer and messages must be equal. Needs Python 3.11 and nothing else. Exit
code 1 if anything differs.
"""
import argparse
import collections
import csv
import hashlib
import os
import pathlib
import shutil
import statistics
import subprocess
import sys
import tempfile
import tomllib
from concurrent.futures import ThreadPoolExecutor

ROOT = pathlib.Path(__file__).resolve().parent.parent
LONGEST = 300  # seconds; what takes longer counts as a difference
TOO_LONG = (-1, b"", b"")
COLUMNS = "protocol=1,internal=2,external=3"  # of an observed table
FLOWS = 6  # flows of a list that are followed and asked why, spread over it


def tables(path):
    """What a TOML file holds; nothing where it is none."""
    try:
        return tomllib.loads(path.read_text())
    except (tomllib.TOMLDecodeError, UnicodeDecodeError):
        return {}


def header(path):
    with path.open(newline="") as lines:
        return next(csv.reader(line for line in lines if not line.startswith("#")), [])


class Estate:
    """The files of a folder, by what they are."""

    def __init__(self, folder):
        files = sorted(p for p in folder.iterdir() if p.is_file())
        toml = {p.name: tables(p) for p in files if p.suffix == ".toml"}
        self.folder = folder
        parts = {part for t in toml.values() for part in t.get("include", [])}
        self.plans = {name: t for name, t in toml.items() if "device" in t and name not in parts}
        lists = {p.name: header(p) for p in files if p.suffix == ".csv"}
        self.lists = [name for name, head in lists.items() if "source" in head]
        self.observed = [name for name in lists if name not in self.lists]
        events = [name for name, t in toml.items() if t.keys() & {"flow", "event", "load"} and name not in self.plans]
        self.captures = [p.name for p in files if ".pcap" in p.name]
        self.traffic = self.lists + events + self.captures

    def first_device(self, plan):
        """The name of a device and of its first interface."""
        device = self.plans[plan]["device"][0]
        return device["name"], device["interface"][0]["name"]

    def seen_at(self, plan, traffic):
        """Where a capture was made: nobody says, so the first interface of the first device is taken."""
        return ["--seen-at", "/".join(self.first_device(plan))] if traffic in self.captures else []

    def flows(self, plan):
        """Flows to ask about: those that a plan expects something of, and some of each list."""
        flows = [e["flow"] for e in self.plans[plan].get("expect", []) if "flow" in e]
        for name in self.lists:
            with (self.folder / name).open(newline="") as lines:
                rows = list(csv.DictReader(lines))
            for row in rows[:: max(1, len(rows) // FLOWS)][:FLOWS]:
                end = lambda who, port: f"{row[who]}:{row[port]}" if row.get(port) else row[who]
                ends = end("source", "source-port"), end("destination", "destination-port")
                flows.append(f"{ends[0]} -> {ends[1]}/{row.get('protocol', 'tcp')}")
        return list(dict.fromkeys(flows))

    def without_a_rule(self, plan):
        """The plan with its first rule disabled that is not, written beside it; nothing where there is none."""
        head, *rules = (self.folder / plan).read_text().split("[[device.rule]]")
        enabled = (i for i, rule in enumerate(rules) if "enabled" not in rule.split("[[")[0])
        first = next(enabled, None)
        if first is None:
            return []
        rules[first] = "\nenabled = false" + rules[first]
        other = self.folder / f"changed-{plan}"
        other.write_text("[[device.rule]]".join([head, *rules]))
        return [other.name]

    def questions(self):
        for plan in self.plans:
            for word in ["check", "behaviour", "addresses", "expect"]:
                yield [word, plan]
            for other in [*self.without_a_rule(plan), *(p for p in self.plans if p != plan and len(self.plans) < 6)]:
                yield ["impact", plan, other]
            for flow in self.flows(plan):
                yield ["follow", plan, flow]
                yield ["why", plan, flow]
            for name in self.traffic:
                traffic = [name, *self.seen_at(plan, name)]
                for moment in [[], ["--at", "peak"], ["--at", "15"]]:
                    yield ["predict", plan, *traffic, *moment]
                yield ["predict", plan, *traffic, "--sessions", "--at", "peak"]
                yield ["capacity", plan, *traffic]
                for observed in self.observed:
                    table = ["--observed", observed, "--columns", COLUMNS, "--device", self.first_device(plan)[0]]
                    yield ["compare", plan, *traffic, *table]
                for flow in self.flows(plan)[:FLOWS]:
                    yield ["follow", plan, flow, "--during", *traffic]
                    yield ["why", plan, flow, "--during", *traffic]


def asked(program, question, folder):
    """Exit code, answer and messages; the program's own folder is the same for both."""
    try:
        done = subprocess.run([program, *question], cwd=folder, capture_output=True, timeout=LONGEST)
    except subprocess.TimeoutExpired:
        return TOO_LONG
    return done.returncode, done.stdout, done.stderr


def compare_answers(old, new, folders):
    """How often which exit code came, and the questions that the two answer differently."""
    with tempfile.TemporaryDirectory() as scratch, ThreadPoolExecutor(os.cpu_count()) as pool:
        every = []
        for number, folder in enumerate(folders):
            copy = pathlib.Path(scratch) / f"{number}-{folder.name}"
            shutil.copytree(folder, copy)
            for question in Estate(copy).questions():
                every += [([*question, "--format", form], copy) for form in ["json", "csv"]]

        def differs(one):
            question, folder = one
            before, after = (asked(program, question, folder) for program in (old, new))
            same = before == after and before != TOO_LONG
            return before[0], None if same else f"{folder.name.split('-', 1)[1]}: {' '.join(question)}"

        answers = list(pool.map(differs, every))
        return collections.Counter(code for code, _ in answers), [d for _, d in answers if d]


# A process counts what it was before it became another program: it is started by one that is small.
MEASURE = """
import os, sys, time
begin = time.monotonic()
child = os.posix_spawn(sys.argv[1], sys.argv[1:], os.environ)
_, status, used = os.wait4(child, 0)
print(time.monotonic() - begin, used.ru_maxrss, os.waitstatus_to_exitcode(status), file=sys.stderr)
"""


def cost(program, question):
    """Seconds, megabytes, and exit code with a digest of the answer."""
    with tempfile.TemporaryFile() as answer:
        words = [sys.executable, "-SE", "-c", MEASURE, str(program), *question, "--quiet"]
        done = subprocess.run(words, stdout=answer, stderr=subprocess.PIPE, text=True)
        seconds, kilobytes, code = done.stderr.splitlines()[-1].split()
        answer.seek(0)
        return float(seconds), int(kilobytes) / 1024, (int(code), hashlib.file_digest(answer, "sha256").digest())


def compare_costs(old, new, plan, traffic, seen_at, pairs):
    """Prints the medians of pairs that are run in turn; gives what differs."""
    differing = []
    print(f"{'':<24} {'TIME':>6} {'OLD s':>8} {'NEW s':>8} {'MEMORY':>7} {'OLD MB':>8} {'NEW MB':>8}")
    for name in traffic:
        question = ["predict", plan, name, "--format", "csv", *(["--seen-at", seen_at] if ".pcap" in name else [])]
        runs = []
        for pair in range(pairs):
            order = [old, new] if pair % 2 == 0 else [new, old]
            costs = {program: cost(program, question) for program in order}
            runs.append((costs[old], costs[new]))
        answers = {c[2] for run in runs for c in run}
        if len(answers) > 1 or not any(code in (0, 1) for code, _ in answers):
            differing.append(f"predict {plan} {name}")
        middle = lambda of: statistics.median(of(a, b) for a, b in runs)
        print(
            f"{pathlib.Path(name).name:<24} {middle(lambda a, b: b[0] / a[0]):>6.3f} "
            f"{middle(lambda a, _: a[0]):>8.3f} {middle(lambda _, b: b[0]):>8.3f} "
            f"{middle(lambda a, b: b[1] / a[1]):>7.3f} {middle(lambda a, _: a[1]):>8.1f} {middle(lambda _, b: b[1]):>8.1f}"
        )
    return differing


def main():
    words = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    words.add_argument("old", type=pathlib.Path)
    words.add_argument("new", type=pathlib.Path)
    words.add_argument("folders", nargs="*", type=pathlib.Path)
    words.add_argument("--times", nargs="+", metavar=("PLAN", "TRAFFIC"), default=[])
    words.add_argument("--seen-at", metavar="DEVICE/INTERFACE", help="where captures of --times were made")
    words.add_argument("--pairs", type=int, default=25, help="runs of each, in turn")
    given = words.parse_args()
    old, new = given.old.resolve(strict=True), given.new.resolve(strict=True)
    folders = [ROOT / "demo/saltmere", ROOT / "demo/faults", *(f.resolve(strict=True) for f in given.folders)]
    codes, differing = compare_answers(old, new, folders)
    if given.times:
        plan, *traffic = given.times
        differing += compare_costs(old, new, plan, traffic, given.seen_at, given.pairs)
    for question in differing:
        print(f"differs  {question}")
    by_code = ", ".join(f"{number} with exit code {code}" for code, number in sorted(codes.items()))
    print(f"{codes.total()} questions ({by_code}), {len(differing)} answered differently")
    return 1 if differing else 0


if __name__ == "__main__":
    sys.exit(main())
