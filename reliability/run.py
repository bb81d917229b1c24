#!/usr/bin/env python3
"""Throws things at the built program and counts what comes of it.

    reliability/run.py mutations 100000    mutated inputs of every format, through every command
    reliability/run.py kills 2000          SIGKILL at random moments of an edit
    reliability/run.py signals 400         SIGINT and SIGTERM at random moments of an edit
    reliability/run.py writers 1000        two edits of one file at once
    reliability/run.py disk                full disks, files and folders that must not be written

Needs a release build (`cargo build --release`) and Python 3, and nothing else. `--seed N` repeats a run; without it a fresh
one is chosen and printed. Exit code 1 if anything is not as docs/reliability.md says it is.
"""
import argparse
import collections
import gzip
import os
import pathlib
import random
import resource
import signal
import subprocess
import sys
import tempfile
import threading
import time
from concurrent.futures import ThreadPoolExecutor

ROOT = pathlib.Path(__file__).resolve().parent.parent
PROGRAM = os.environ.get("ZARNET", str(ROOT / "target/release/zarnet"))
DEMO = ROOT / "demo/saltmere"
MOST_SECONDS, MOST_MEGABYTES = 5.0, 512

# ---------------------------------------------------------------- mutations

SEEDS = {
    "plan": [DEMO / "harbour.toml", DEMO / "jetty.toml", DEMO / "terminal.toml"]
    + sorted((ROOT / "demo/faults").glob("*.toml"))
    + sorted((ROOT / "fuzz/seeds/plan").iterdir()),
    "list": [DEMO / "morning.csv"] + sorted((ROOT / "fuzz/seeds/engine_list").iterdir()),
    "scenario": [DEMO / "storm.toml", DEMO / "saturday.toml"],
    "capture": [DEMO / "quay.pcap.gz"] + sorted((ROOT / "crates/zarnet-formats/tests/samples/captures").iterdir()),
    "observed": [DEMO / "observed.csv"] + sorted((ROOT / "fuzz/seeds/observed").iterdir()),
    "flow": sorted((ROOT / "fuzz/seeds/flow").iterdir()),
}
WORDS = [
    b'"', b"'", b"[", b"]", b"[[", b"{", b"}", b"=", b",", b"\n", b"\0", b"\x1b[2J", "\u202e".encode(), b"\xff\xfe", b"#",
    b"0", b"-1", b"65535", b"65536", b"4294967296", b"18446744073709551615", b"1e308", b"nan", b"36500d", b"999999999d",
    b"0.0.0.0/0", b"255.255.255.255", b"::/0", b"10.0.0.0/33", b"any", b"true", b"next", b"include = \"/dev/zero\"\n",
]


def mutated(octets, rng):
    """A few changes of some octets: of bits, of words, of lines; cut, doubled, swapped."""
    data = bytearray(octets)
    for _ in range(rng.choice([1, 1, 1, 2, 3, 8])):
        if not data:
            break
        at = rng.randrange(len(data))
        kind = rng.randrange(9)
        if kind == 0:
            data[at] ^= 1 << rng.randrange(8)
        elif kind == 1:
            data[at : at + rng.randrange(1, 9)] = b""
        elif kind == 2:
            data[at:at] = rng.choice(WORDS)
        elif kind == 3:
            del data[at:]
        elif kind == 4:
            piece = data[at : at + rng.randrange(1, 400)]
            data[at:at] = piece * rng.choice([1, 2, 50])
        elif kind == 5:
            lines = data.split(b"\n")
            i, j = rng.randrange(len(lines)), rng.randrange(len(lines))
            lines[i], lines[j] = lines[j], lines[i]
            data = bytearray(b"\n".join(lines))
        elif kind == 6:
            lines = data.split(b"\n")
            del lines[rng.randrange(len(lines))]
            data = bytearray(b"\n".join(lines))
        elif kind == 7:
            digits = [i for i, b in enumerate(data) if 48 <= b < 58]
            if digits:
                data[rng.choice(digits)] = rng.randrange(48, 58)
        else:
            data[at : at + 4] = rng.randbytes(4)
    return bytes(data)


def octets_of(path):
    data = path.read_bytes()
    if path.name == "morning.csv":
        data = b"".join(data.splitlines(True)[:60])
    return gzip.decompress(data) if path.suffix == ".gz" else data


def around(path):
    """The plan that a file is for, and a flow in it."""
    if "seeds" in path.parts:
        return str(ROOT / "fuzz/seeds/plan/edge.toml"), "desk -> 198.51.100.80:443/tcp"
    return str(DEMO / "harbour.toml"), "kiosk-3 -> 198.51.100.80:443/tcp"


def commands(kind, file, plan, flow, rng):
    """The commands that take a file of a kind."""
    if kind == "plan":
        return [
            ["check", file], ["check", file, "--format", "json"], ["predict", file, flow], ["follow", file, flow],
            ["why", file, flow], ["expect", file], ["addresses", file], ["sheet", file], ["behaviour", file],
            ["impact", file, plan], ["impact", plan, file], ["capacity", file, flow, "--brief"],
            ["define", file, "overload", "next", "--dry-run"], ["define", file, "forward", "next:443/tcp", "10.0.0.5:443", "--dry-run"],
        ]
    if kind == "observed":
        return [["compare", plan, flow, "--observed", file], ["capacity", plan, "--observed", file],
                ["why", plan, flow, "--observed", file],
                ["compare", plan, flow, "--observed", file, "--columns", "protocol=1,internal=2,external=3"]]
    if kind == "flow":
        return [["predict", plan, file], ["follow", plan, file], ["why", plan, file]]
    seen = ["--seen-at", "edge/floor" if "seeds" in plan else "harbour-edge/quay"] if kind == "capture" else []
    bad = ["--skip-bad"] if rng.random() < 0.5 else []
    return [
        ["predict", plan, file, *seen, *bad], ["predict", plan, file, "--at", "peak", "--format", "json", *seen, *bad],
        ["predict", plan, file, "--at", "1h", "--format", "csv", *seen, *bad], ["capacity", plan, file, "--brief", *seen, *bad],
        ["follow", plan, flow, "--during", file, *seen, *bad], ["why", plan, flow, "--during", file, *seen, *bad],
        ["compare", plan, file, "--observed", str(DEMO / "observed.csv"), *seen, *bad], ["impact", plan, plan, "--during", file, *seen, *bad],
    ]


def measured(arguments, folder):
    """Exit code, seconds, megabytes, and the end of what was said."""
    said = tempfile.TemporaryFile()
    start = time.monotonic()
    child = subprocess.Popen([PROGRAM, *arguments], cwd=folder, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=said)
    guard = threading.Timer(60, child.kill)
    guard.start()
    _, status, usage = os.wait4(child.pid, 0)
    guard.cancel()
    child.returncode = os.waitstatus_to_exitcode(status)
    said.seek(0)
    return child.returncode, time.monotonic() - start, usage.ru_maxrss / 1024, said.read()[-400:]


def mutations(count, seed):
    kinds = list(SEEDS)
    contents = {kind: [(path, octets_of(path)) for path in paths] for kind, paths in SEEDS.items()}
    outcomes, worst, bad = collections.Counter(), {"seconds": 0.0, "megabytes": 0.0}, []

    def one(number):
        rng = random.Random(f"{seed}-{number}")
        kind = rng.choice(kinds)
        path, octets = rng.choice(contents[kind])
        plan, flow = around(path)
        data = mutated(octets, rng)
        with tempfile.TemporaryDirectory() as folder:
            if kind == "flow":
                file = data.replace(b"\0", b"").decode("utf-8", "surrogateescape")
            else:
                file = os.path.join(folder, "input" + (path.suffix if path.suffix != ".gz" else ""))
                pathlib.Path(file).write_bytes(data)
                for named in ("jetty.toml", "after.toml") if kind in ("plan", "scenario") else ():
                    (pathlib.Path(folder) / named).write_bytes((DEMO / named).read_bytes())
            arguments = rng.choice(commands(kind, file, plan, flow, rng))
            try:
                code, seconds, megabytes, said = measured(arguments, folder)
            except ValueError:
                return None
            fine = code in (0, 1, 2) and seconds < MOST_SECONDS and megabytes < MOST_MEGABYTES
            if not fine:
                keep = pathlib.Path(tempfile.gettempdir()) / f"zarnet-mutation-{seed}-{number}"
                keep.write_bytes(data)
                said += f" kept as {keep}".encode()
            return kind, arguments[0], code, seconds, megabytes, fine, arguments, said, number

    with ThreadPoolExecutor(os.cpu_count()) as pool:
        for result in pool.map(one, range(count)):
            if result is None:
                continue
            kind, command, code, seconds, megabytes, fine, arguments, said, number = result
            outcomes[(kind, code)] += 1
            worst["seconds"], worst["megabytes"] = max(worst["seconds"], seconds), max(worst["megabytes"], megabytes)
            if not fine:
                bad.append((number, code, round(seconds, 1), round(megabytes), " ".join(arguments)[:160], said[-200:]))
    for kind in kinds:
        codes = ", ".join(f"{n} exit {code}" for (k, code), n in sorted(outcomes.items()) if k == kind)
        print(f"{kind:<9} {codes}")
    print(f"longest {worst['seconds']:.2f} s, largest {worst['megabytes']:.0f} MB, not as it should be: {len(bad)}")
    for each in bad[:20]:
        print("  ", each)
    return not bad


# ---------------------------------------------------------------- edits


def edit(plan, name, **more):
    return subprocess.Popen([PROGRAM, "define", plan, "addresses", name, "10.99.0.1", "--device", "harbour-edge"], stdin=subprocess.DEVNULL,
                            stdout=subprocess.PIPE, stderr=subprocess.PIPE, cwd=os.path.dirname(plan), **more)


def estate(folder):
    for name in ("harbour.toml", "jetty.toml"):
        (pathlib.Path(folder) / name).write_bytes((DEMO / name).read_bytes())
    return os.path.join(folder, "harbour.toml")


def is_plan(plan):
    return subprocess.run([PROGRAM, "check", plan], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL).returncode in (0, 1)


def leftovers(folder):
    return sorted(n for n in os.listdir(folder) if n not in ("harbour.toml", "jetty.toml"))


def ended(count, seed, signals):
    """Ends edits at random moments: nothing acknowledged is lost, nothing is half written, the next edit cleans up."""
    rng = random.Random(seed)
    problems, acknowledged, left, codes = [], 0, 0, collections.Counter()
    with tempfile.TemporaryDirectory() as folder:
        plan = estate(folder)
        typical = []
        for n in range(5):
            start = time.monotonic()
            edit(plan, f"warm{n}").wait()
            typical.append(time.monotonic() - start)
        estate(folder)
        longest = sorted(typical)[2] * 1.3
        known = set()
        for n in range(count):
            if n % 50 == 0:
                known.clear()
                estate(folder)
            name = f"g{n}"
            child = edit(plan, name)
            time.sleep(rng.uniform(0, longest))
            number = rng.choice(signals)
            child.send_signal(number)
            child.communicate()
            codes[child.returncode] += 1
            text = pathlib.Path(plan).read_text()
            if child.returncode == 0:
                acknowledged += 1
                known.add(name)
            if any(f"{k} = [" not in text for k in known):
                problems.append((n, "an acknowledged change is lost"))
            if f"{name} = [" in text:
                known.add(name)
            rest = leftovers(folder)
            left += bool(rest)
            if rest and number != signal.SIGKILL:
                problems.append((n, "left behind", rest))
            if not is_plan(plan):
                problems.append((n, "no plan any more"))
        last = edit(plan, "last")
        last.communicate()
        if last.returncode != 0 or leftovers(folder):
            problems.append(("the next edit", last.returncode, leftovers(folder)))
    print(f"{count} ended, {acknowledged} had acknowledged their change, {left} left something beside the file; exit codes {dict(codes)}")
    print(f"not as it should be: {len(problems)}", *problems[:10], sep="\n  ")
    return not problems


def writers(count, seed):
    """Two edits at once: each is there, or was refused with a message."""
    both = refused = 0
    problems = []
    with tempfile.TemporaryDirectory() as folder:
        plan = estate(folder)
        for n in range(count):
            if n % 50 == 0:
                estate(folder)
            pair = [(f"a{n}", edit(plan, f"a{n}")), (f"b{n}", edit(plan, f"b{n}"))]
            ends = [(name, child, child.communicate()) for name, child in pair]
            text = pathlib.Path(plan).read_text()
            fine = 0
            for name, child, (_, said) in ends:
                there = f"{name} = [" in text
                fine += child.returncode == 0
                if child.returncode == 0 and not there:
                    problems.append((n, name, "lost in silence"))
                elif child.returncode != 0 and (there or child.returncode != 2 or b"changed-meanwhile" not in said):
                    problems.append((n, name, child.returncode, said[-200:]))
            both += fine == 2
            refused += 2 - fine
        if leftovers(folder) or not is_plan(plan):
            problems.append(("at the end", leftovers(folder)))
    print(f"{count} pairs: both written {both} times, {refused} changes refused with a message")
    print(f"not as it should be: {len(problems)}", *problems[:10], sep="\n  ")
    return not problems


def disk(_count, _seed):
    """Full disks and places that must not be written: exit 2 or 3, and what was there before stays whole."""
    problems = []

    def attempt(what, arguments, folder, wanted, before=None):
        result = subprocess.run(arguments, cwd=folder, capture_output=True, preexec_fn=before)
        text = (pathlib.Path(folder) / "harbour.toml").read_bytes()
        whole = text == (DEMO / "harbour.toml").read_bytes()
        print(f"{what:<44} exit {result.returncode}, plan {'whole' if whole else 'CHANGED'}, left beside it: {len(leftovers(folder))}")
        if result.returncode not in wanted or not whole or leftovers(folder):
            problems.append((what, result.returncode, result.stderr[-300:]))

    def small_files():
        signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        resource.setrlimit(resource.RLIMIT_FSIZE, (512, 512))

    define = [PROGRAM, "define", "harbour.toml", "addresses", "g", "10.99.0.1", "--device", "harbour-edge"]
    with tempfile.TemporaryDirectory() as folder:
        estate(folder)
        attempt("no room for the new contents", define, folder, {3}, small_files)
        attempt("an answer that cannot be written", ["sh", "-c", f"'{PROGRAM}' check harbour.toml >/dev/full"], folder, {3})
        full = "mount -t tmpfs -o size=32k none mnt && cp harbour.toml jetty.toml mnt 2>/dev/null; cp harbour.toml mnt/; cd mnt && "
        os.mkdir(os.path.join(folder, "mnt"))
        probe = subprocess.run(["unshare", "-rm", "sh", "-c", "mount -t tmpfs -o size=32k none mnt"], cwd=folder, capture_output=True)
        if probe.returncode == 0:
            script = full + f"head -c 40000 /dev/zero >fill 2>/dev/null; '{PROGRAM}' define harbour.toml addresses g 10.99.0.1 --device harbour-edge; code=$?; cmp harbour.toml ../harbour.toml || exit 99; exit $code"
            result = subprocess.run(["unshare", "-rm", "sh", "-c", script], cwd=folder, capture_output=True)
            print(f"{'a file system without room':<44} exit {result.returncode}")
            if result.returncode not in (2, 3):
                problems.append(("a file system without room", result.returncode, result.stderr[-300:]))
        os.rmdir(os.path.join(folder, "mnt"))
        os.chmod(os.path.join(folder, "harbour.toml"), 0o444)
        attempt("a read-only file", define, folder, {2})
        os.chmod(os.path.join(folder, "harbour.toml"), 0o644)
        os.link(os.path.join(folder, "harbour.toml"), folder + "-second-name")
        attempt("a file with two names", define, folder, {2})
        os.unlink(folder + "-second-name")
        if os.geteuid() != 0:
            os.chmod(folder, 0o555)
            attempt("a read-only folder", define, folder, {2})
            os.chmod(folder, 0o755)
        for limit in (128, 256):
            bound = limit << 20
            attempt(f"an address space of {limit} MB", [PROGRAM, "check", "harbour.toml"], folder, {0, 1},
                    lambda bound=bound: resource.setrlimit(resource.RLIMIT_AS, (bound, bound)))
    print(f"not as it should be: {len(problems)}", *problems, sep="\n  ")
    return not problems


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("what", choices=["mutations", "kills", "signals", "writers", "disk"])
    parser.add_argument("count", type=int, nargs="?", default=100)
    parser.add_argument("--seed", type=int, default=random.SystemRandom().randrange(1 << 32))
    arguments = parser.parse_args()
    print(f"{arguments.what} {arguments.count}, seed {arguments.seed}")
    run = {
        "mutations": mutations,
        "kills": lambda n, s: ended(n, s, [signal.SIGKILL]),
        "signals": lambda n, s: ended(n, s, [signal.SIGINT, signal.SIGTERM]),
        "writers": writers,
        "disk": disk,
    }[arguments.what]
    sys.exit(0 if run(arguments.count, arguments.seed) else 1)


if __name__ == "__main__":
    main()
