"""An audit of 50,000 names in a signed zone beside the same in an unsigned one, both on NSD: python bench/signed.py

The two in turns, medians of the ratios. Of the signed zone the keys, the apex, denials and a sample of what is expected are
verified, on each of two servers; the audit says how many.
"""

from __future__ import annotations

import json
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from salt_mirror.dns.questions import Server
from support.realservers import nsd, program

NAMES = 50_000
ROUNDS = 5
ZONE = "pans.example"
HEAD = "$TTL 300\n@ SOA ns1 h 1 7200 1800 1209600 300\n@ NS ns1\n@ NS ns2\nns1 A 192.0.2.53\nns2 A 198.51.100.53\n"


def signed(folder: Path, text: str) -> str:
    """Return the zone signed by the tools that come with BIND."""
    (folder / "zone").write_text(f"$ORIGIN {ZONE}.\n{text}", encoding="utf-8")
    for more in (["-f", "KSK"], []):
        command = [program("dnssec-keygen"), "-a", "ECDSAP256SHA256", "-K", str(folder), *more, ZONE]
        subprocess.run(command, check=True, capture_output=True)
    command = [program("dnssec-signzone"), "-S", "-K", str(folder), "-o", ZONE, "-f", "zone.signed", "zone"]
    subprocess.run(command, check=True, capture_output=True, cwd=folder)
    return (folder / "zone.signed").read_text(encoding="utf-8")


def estate(folder: Path, label: str, servers: list[Server]) -> Path:
    """Write the estate of one of the two, and return its path."""
    path = folder / f"{label}.toml"
    text = f'[[zones]]\nname = "{ZONE}"\nview = "public"\nservers = ["a", "b"]\nexpect = ["expected.zone"]\n'
    for name, server in zip("ab", servers, strict=True):
        text += f'[servers.{name}]\naddress = "127.0.0.1"\nport = {server.port}\n'
    path.write_text(text, encoding="utf-8")
    return path


def audit(path: Path) -> tuple[float, int, str]:
    """Run an audit of roll and authority; return the seconds, the questions, and what was verified."""
    command = [sys.executable, "-m", "salt_mirror", "authority", "--estate", str(path), "--json"]
    sheet = json.loads(subprocess.run(command, capture_output=True, check=False).stdout)["sheets"][0]
    before = time.perf_counter()
    command[3:4] = ["audit", "--only", "rollcall", "--only", "authority"]
    report = json.loads(subprocess.run(command, capture_output=True, check=False).stdout)
    return time.perf_counter() - before, report["counts"]["questions"], (sheet.get("signed") or {}).get("verified", "")


def main() -> None:
    """Measure both, in turns."""
    hosts = "".join(f"rake-{n:05d} A 10.{n >> 16}.{n >> 8 & 255}.{n & 255}\n" for n in range(NAMES))
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "expected.zone").write_text(f"$ORIGIN {ZONE}.\n$TTL 300\n{hosts}", encoding="utf-8")
        whole = signed(folder, HEAD + hosts)
        with (
            nsd(folder / "a", {ZONE: HEAD + hosts}) as first, nsd(folder / "b", {ZONE: HEAD + hosts}) as second,
            nsd(folder / "c", {ZONE: whole}) as third, nsd(folder / "d", {ZONE: whole}) as fourth,
        ):  # fmt: skip
            plain, proved = estate(folder, "plain", [first, second]), estate(folder, "signed", [third, fourth])
            turns = [(audit(plain), audit(proved)) for _ in range(ROUNDS)]
    ratios = [after[0] / before[0] for before, after in turns]
    for label, told in (("unsigned", [one for one, _ in turns]), ("signed", [one for _, one in turns])):
        seconds = statistics.median(one[0] for one in told)
        print(f"{label}: {seconds:.2f} s, {told[0][1]:,} questions; {told[0][2] or 'nothing to verify'}")
    low, high = min(ratios), max(ratios)
    print(f"signed to unsigned: {statistics.median(ratios):.2f} ({low:.2f} to {high:.2f})")


if __name__ == "__main__":
    main()
