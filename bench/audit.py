"""The audit of a whole estate: python bench/audit.py [--planted|--changed] [HOSTS]

50 zones (49 forward, one reverse) with 50,000 hosts on two real NSD servers. Without more: each round runs `audit`, and then
`authority`, `pairs` and `rollcall`, one after the other; questions, seconds and peak memory are those of whole processes, start
and report included.

--planted: 50,000 hosts, of which each tenth has one of four faults. What is written of them, which is what stands on the
terminal, every form of report and the history, against the time of asking; the workbook, whose library takes most, by itself.

--changed: full audits with a history, then one after a single zone has changed: its questions against those of a full one.
"""

from __future__ import annotations

import json
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import NamedTuple

sys.path.insert(0, str(Path(__file__).parent))

import world
from world import nsd

from salt_mirror.report.files import FORMS

ROUNDS = 3
ZONES = 49
SINGLE = ("authority", "pairs", "rollcall")
KINDS = ("no pointer", "another's pointer", "another address", "no name")
"""What is planted, one after the other; the second server has a fifth of each in its own way, so that servers disagree."""

MEASURED = """
import atexit, resource, sys, time
from salt_mirror.cli import audit, execution, main, outputs
from salt_mirror.keeping import history
from salt_mirror.report.files import xlsx
told_s, book_s = [0.0], [0.0]
def counted(room, name, told_s=told_s):
    inner = getattr(room, name)
    def timed(*given, **named):
        begin = time.perf_counter()
        try:
            return inner(*given, **named)
        finally:
            told_s[0] += time.perf_counter() - begin
    setattr(room, name, timed)
for room, name in ((outputs, "written"), (audit, "_print"), (history, "add_run")):
    counted(room, name)
counted(xlsx, "written", book_s)
run, asked = execution.run, [0.0, time.perf_counter()]
def timed(*given, **named):
    begin = time.perf_counter()
    try:
        return run(*given, **named)
    finally:
        asked[:] = time.perf_counter() - begin, time.perf_counter()
execution.run = timed
def told():
    after = time.perf_counter() - asked[1]
    print(asked[0], after, told_s[0], book_s[0], resource.getrusage(resource.RUSAGE_SELF).ru_maxrss, file=sys.stderr)
atexit.register(told)
main.main()
"""
"""The program, which says at its end how long it asked, how long it worked after that, how much of that was for the terminal,
reports and history, and for the workbook among them, and its peak memory in KiB."""


def apex(number: int) -> str:
    """A forward zone's name."""
    return f"z{number:02d}.pans.internal"


def lay_out(folder: Path, hosts: int, every: int = 0) -> tuple[dict[str, str], dict[str, str]]:
    """The zones of two servers as master files by origin, and the files of expected records; each `every` host is planted."""
    heads = "$TTL 300\n@ SOA ns1 h 1 3600 600 1209600 300\n@ NS ns1\n@ NS ns2\nns1 A 192.0.2.1\nns2 A 198.51.100.2\n"
    soa = f"$TTL 300\n@ SOA ns1.{apex(0)}. h 1 3600 600 1209600 300\n@ NS ns1.{apex(0)}.\n@ NS ns2.{apex(0)}.\n"
    both: list[dict[str, list[str]]] = [{}, {}]
    for zones in both:
        zones |= {apex(number): [heads] for number in range(ZONES)} | {"10.in-addr.arpa": [soa]}
    for number in range(ZONES):
        listed = "".join(f"{world.host(n)},A,{world.address(n)}\n" for n in range(number, hosts, ZONES))
        (folder / f"{number}.csv").write_text("name,type,value\n" + listed, encoding="utf-8")
    for n in range(hosts):
        kind = KINDS[n // every % len(KINDS)] if every and n % every == 0 else ""
        apart = bool(kind) and n // every % 5 == 0
        for server, zones in enumerate(both):
            says = "" if apart and server else kind
            address = world.address(hosts + n) if says == "another address" else world.address(n)
            if says != "no name":
                zones[apex(n % ZONES)].append(f"{world.host(n)} A {address}\n")
            if says != "no pointer":
                leads_to = (n + every) % hosts if says == "another's pointer" else n
                zones["10.in-addr.arpa"].append(
                    f"{n & 255}.{n >> 8 & 255}.{n >> 16} PTR {world.host(leads_to)}.{apex(leads_to % ZONES)}.\n"
                )
    one, two = ({origin: "".join(lines) for origin, lines in zones.items()} for zones in both)
    return one, two


def estate(folder: Path, ports: list[int]) -> Path:
    """The estate of these zones."""
    zones = [(apex(number), f'expect = ["{number}.csv"]') for number in range(ZONES)] + [("10.0.0.0/8", "")]
    text = "".join(f'[[zones]]\nname = "{name}"\nservers = ["one", "two"]\n{more}\n' for name, more in zones)
    for label, port in zip(("one", "two"), ports, strict=True):
        text += f'[servers.{label}]\naddress = "127.0.0.1"\nport = {port}\n'
    text += f'[reach]\n"192.0.2.1" = "127.0.0.1:{ports[0]}"\n"198.51.100.2" = "127.0.0.1:{ports[1]}"\n'
    path = folder / "estate.toml"
    path.write_text(text, encoding="utf-8")
    return path


class Measured(NamedTuple):
    """One run of the program: seconds of the whole process, of asking, after it, of telling, and of the workbook; questions,
    findings, those of them that are no notes, peak in MiB, lines on standard output."""

    took: float
    asking: float
    after: float
    telling: float
    workbook: float
    questions: int
    findings: int
    wrong: int
    peak: float
    lines: int


def run(folder: Path, command: str, *words: str) -> Measured:
    """Runs a command over the estate, and measures it; its report is written as JSON beside what it prints."""
    before = time.perf_counter()
    line = [sys.executable, "-c", MEASURED, command, "--estate", "estate.toml", *words]
    done = subprocess.run(line, cwd=folder, capture_output=True, text=True, check=False)
    took = time.perf_counter() - before
    if done.returncode not in (0, 1):
        raise SystemExit(f"{command}: exit status {done.returncode}\n{done.stderr}")
    text = done.stdout if "--json" in words else (folder / "report.json").read_text(encoding="utf-8")
    report = json.loads(text)
    asking, after, telling, workbook, peak = map(float, done.stderr.split()[-5:])
    questions, findings = report["counts"]["questions"], len(report["findings"])
    wrong = sum(finding["weight"] != "note" for finding in report["findings"])
    print(
        f"  {command} {' '.join(words)}: {took:.1f} s, {questions:,} questions, {findings:,} findings", file=sys.stderr
    )
    return Measured(
        took, asking, after, telling, workbook, questions, findings, wrong, peak / 1024, done.stdout.count("\n")
    )


def against_singles(folder: Path, hosts: int) -> None:
    """The audit against its checks one by one."""
    times, asked, peak = [], [], 0.0
    for _ in range(ROUNDS):
        whole = run(folder, "audit", "--json")
        single = [run(folder, command, "--json") for command in SINGLE]
        if whole.wrong or any(one.wrong for one in single):
            raise SystemExit("something was found in a sound estate")
        times.append(whole.took / sum(one.took for one in single))
        asked.append(whole.questions / sum(one.questions for one in single))
        peak = max(peak, whole.peak)
    print(
        f"audit of {ZONES + 1} zones and {hosts:,} hosts, median of {ROUNDS}, against {', '.join(SINGLE)} one by one:"
    )
    shown = " ".join(f"{one:.2f}" for one in sorted(times))
    print(f"time {statistics.median(times):.2f} (rounds {shown}), questions {statistics.median(asked):.2f}")
    print(f"peak memory {peak:,.0f} MiB")


def planted(folder: Path, hosts: int) -> None:
    """What is written of many findings, against the time of asking."""
    reports = [word for form in FORMS for word in ("--report", f"{form}:report.{form}")]
    runs = [run(folder, "audit", "--history", "history.sqlite", *reports) for _ in range(ROUNDS)]
    parts = sorted((one.telling - one.workbook) / one.asking for one in runs)
    books = statistics.median(one.workbook / one.asking for one in runs)
    one = runs[-1]
    print(
        f"audit of {hosts:,} hosts, {hosts // 10:,} of them planted: {one.findings:,} findings, {one.questions:,} questions"
    )
    shown = " ".join(f"{part:.2f}" for part in parts)
    forms = len(FORMS) - 1
    told = statistics.median(parts)
    print(
        f"terminal, {forms} reports and history against asking: {told:.2f} (rounds {shown}); the workbook {books:.2f}"
    )
    after = statistics.median(each.after / each.asking for each in runs)
    print(f"all that follows asking, the counts by zone and the causes among it: {after:.2f}")
    print(f"the last round: asking {one.asking:.1f} s, after it {one.after:.1f} s, all {one.took:.1f} s")
    print(f"peak memory {max(one.peak for one in runs):,.0f} MiB; {one.lines} lines on standard output")
    print(f"the page: {(folder / 'report.html').stat().st_size / 1e6:.1f} MB")


def changed(folder: Path, hosts: int) -> None:
    """A run that follows changes, with a single zone changed, against a whole one."""
    ones, twos = lay_out(folder, hosts)
    follow = ("audit", "--json", "--changed", "--history", "history.sqlite")
    with nsd(folder / "one", ones) as one, nsd(folder / "two", twos) as two:
        estate(folder, [one.port, two.port])
        whole = run(folder, *follow)
        ports = one.port, two.port
    zone = apex(7)
    for texts in (ones, twos):
        texts[zone] = texts[zone].replace(" h 1 3600", " h 2 3600") + "new-host A 10.9.9.9\n"
    with nsd(folder / "one", ones, port=ports[0]), nsd(folder / "two", twos, port=ports[1]):
        after = run(folder, *follow)
    print(f"one of {ZONES + 1} zones of {hosts:,} hosts has changed")
    print(f"{after.questions:,} questions for {whole.questions:,} of a whole run")
    print(f"questions {after.questions / whole.questions:.3f}, time {after.took / whole.took:.2f} ({after.took:.1f} s)")


def main() -> None:
    words = sys.argv[1:]
    many = "--planted" in words
    hosts = int(next((word for word in words if word.isdigit()), 50_000))
    with tempfile.TemporaryDirectory() as text:
        folder = Path(text)
        if "--changed" in words:
            changed(folder, hosts)
            return
        ones, twos = lay_out(folder, hosts, 10 if many else 0)
        with nsd(folder / "one", ones) as one, nsd(folder / "two", twos) as two:
            estate(folder, [one.port, two.port])
            (planted if many else against_singles)(folder, hosts)


if __name__ == "__main__":
    main()
