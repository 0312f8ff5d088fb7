"""The reports of the main commands on Gullmarsh's world, recorded byte for byte but for times and ports.

`python tests/support/recording.py` writes the recordings anew, after a change that is meant to be seen.
"""

from __future__ import annotations

import json
import re
import subprocess
import sys
import tempfile
from pathlib import Path

FOLDER = Path(__file__).parent.parent / "recorded"
COMMANDS = {
    "pairs": ["pairs"],
    "pairs-network": ["pairs", "10.77.20.0/24"],
    "rollcall": ["rollcall"],
    "authority": ["authority"],
    "mail": ["mail", "gullmarsh.example"],
    "services": ["services"],
    "descend": ["descend", "www.gullmarsh.example"],
    "ask": ["ask", "sluice.pans.gullmarsh.internal", "rake-77.pans.gullmarsh.internal", "--at", "authoritative,harbour-office"],
    "audit": ["audit"],
}  # fmt: skip

_CHANGING = (
    (re.compile(r'"(started|version|estate)":"[^"]*"'), r'"\1":"…"'),
    (re.compile(r'"over":"tcp"'), '"over":"udp"'),  # what a busy machine lost goes over TCP in the end
    (re.compile(r'"(seconds|rtt_ms|round_trip_sum|strays|late|saved)":(?:null|[-+0-9.e]+)'), r'"\1":0'),
    (re.compile(r'"round_trips":\{[^}]*\}'), '"round_trips":{}'),
    (re.compile(r"127\.0\.0\.1:\d+"), "127.0.0.1:…"),
    (re.compile(r"\d{1,2} [A-Z][a-z]{2} \d{4} \d\d:\d\d [-+]\d{4}"), "a moment"),
    (re.compile(r"no-such-[0-9a-f]{12}"), "no-such-…"),
    # signatures are made when the world is: NSEC records of a name that nobody has are as they are, their times are not
    (re.compile(r'"(begins|ends|first_end|signatures_end)":"[^"]*"'), r'"\1":"…"'),
    (re.compile(r'"left_s":-?\d+'), '"left_s":0'),
    (re.compile(r"since \d{4}-\d\d-\d\d \d\d:\d\d [^,]+, "), "since a moment, "),
    (re.compile(r"\b\d{14} \d{14} \d+ [a-z.]+ [A-Za-z0-9+/= ]+"), "a signature"),
)


def normalised(document: str) -> str:
    """A report without what changes from run to run: times and ports, and the order in which equal things came in."""
    for pattern, instead in _CHANGING:
        document = pattern.sub(instead, document)
    found: list[str] = []
    rows: list[str] = []
    for line in [*document.splitlines(), ""]:
        end = _object_end(line)
        if end is not None:  # a finding or a subject: their order depends on which answer came first
            rows.append(line[:end])
            continue
        found += [*sorted(rows), line]
        rows = []
    return "\n".join(found)


def _object_end(line: str) -> int | None:
    """Where the JSON object ends that a line begins with; None for any other line."""
    try:
        _, end = json.JSONDecoder().raw_decode(line)
    except json.JSONDecodeError:
        return None
    return end


def main() -> None:
    """Writes every recording."""
    from salt_mirror.demo.world import gullmarsh

    FOLDER.mkdir(exist_ok=True)
    with tempfile.TemporaryDirectory() as folder, gullmarsh(Path(folder)) as (estate, _):
        for name, words in COMMANDS.items():
            command = [sys.executable, "-m", "salt_mirror", *words, "--json", "--estate", str(estate)]
            done = subprocess.run(command, capture_output=True, text=True, encoding="utf-8", check=False)
            (FOLDER / f"{name}.json").write_text(normalised(done.stdout), encoding="utf-8", newline="\n")


if __name__ == "__main__":
    main()
