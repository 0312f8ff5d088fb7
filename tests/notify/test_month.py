"""A month of nights on the demo's world: what breaks, heals, comes and goes, falls silent and is closed, and what is sent.

Strategy: real runs of the program against running servers. After each night every moment in the history is moved back by a day,
which is what a day that passes is to it; the servers, and what they sign, stay in the present.
"""

from __future__ import annotations

import json
import re
import sqlite3
from collections.abc import Callable, Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import dns.name
import dns.rdataset
import dns.zone
import pytest

from salt_mirror.demo.world import gullmarsh
from salt_mirror.standin.server import Fault, StandIn
from support.program import Run

PANS = "pans.gullmarsh.internal"
CLOSED = ("rake-01", "rake-04", "rake-06")
AUDIT = ("audit", "--quiet", "--only", "internal", "--only", "pairs", "--only", "rollcall", "--only", "authority",
         "--timeout", "2", "--tries", "2")  # fmt: skip
NIGHTS = 30
_MOMENT = re.compile(r"\d{4}-\d\d-\d\d(?:T\d\d:\d\d:\d\d(?:\+00:00|Z))?")


class Works:
    """The running world, and what is done to its zones."""

    def __init__(self, estate: Path, servers: dict[str, StandIn]) -> None:
        self.estate = estate
        self.servers = servers
        self._kept: dict[tuple[str, str, str, str], dns.rdataset.Rdataset] = {}

    def _edited(self, zone: str, edit: Callable[[str, dns.zone.Zone], None]) -> None:
        origin = dns.name.from_text(zone)
        for label, server in self.servers.items():
            held = server.authority.zones.get(origin)
            if held is not None and label != "harbour-office":
                changed = dns.zone.from_text(held.to_text(relativize=False), origin=origin, relativize=False)
                edit(label, changed)
                rdataset = changed.find_rdataset(origin, "SOA")
                rdataset.add(rdataset[0].replace(serial=rdataset[0].serial + 1))
                server.authority.hold(changed)

    def lose(self, zone: str, *names: str, rdtype: str = "PTR") -> None:
        """Records vanish from every server."""

        def edit(label: str, changed: dns.zone.Zone) -> None:
            for name in names:
                owner = dns.name.from_text(name, changed.origin)
                found = changed.get_rdataset(owner, rdtype)
                if found is not None:
                    self._kept[label, zone, name, rdtype] = found
                    changed.delete_rdataset(owner, rdtype)

        self._edited(zone, edit)

    def restore(self, zone: str, *names: str, rdtype: str = "PTR") -> None:
        """They are back."""

        def edit(label: str, changed: dns.zone.Zone) -> None:
            for name in names:
                if (label, zone, name, rdtype) in self._kept:
                    changed.replace_rdataset(
                        dns.name.from_text(name, changed.origin), self._kept[label, zone, name, rdtype]
                    )

        self._edited(zone, edit)

    def close_the_branch(self) -> None:
        """A row of pans is given up: the names and pointers of its hosts go, and nobody tells the list."""
        self.lose(PANS, *CLOSED, rdtype="A")
        self.lose(PANS, *CLOSED, rdtype="AAAA")
        self.lose("10.77.10.in-addr.arpa", "11", "14", "16")
        self.lose("0.1.0.0.7.7.0.0.8.b.d.0.1.0.0.2.ip6.arpa", "1.1.0.0.0.0.0.0.0.0.0.0.0.0.0.0")

    def strike_from_the_list(self) -> None:
        """The list is told at last."""
        for name in ("pans.zone", "leases.csv"):
            path = self.estate.parent / "records" / name
            lines = path.read_text(encoding="utf-8").splitlines(keepends=True)
            path.write_text("".join(line for line in lines if not line.startswith(CLOSED)), encoding="utf-8")


def a_day_passes(history: Path) -> None:
    """Move every moment in a history back by a day."""

    def back(match: re.Match[str]) -> str:
        moment = datetime.fromisoformat(match[0].replace("Z", "+00:00")) - timedelta(days=1)
        return moment.date().isoformat() if "T" not in match[0] else moment.isoformat().replace("+00:00", match[0][19:])

    columns = {
        "runs": ["started"], "lives": ["first", "last", "ended"], "agreements": ["last"], "looks": ["at"], "doubts": ["first"],
        "serials": ["since"], "failures": ["first", "last"], "channels": ["sent", "failing"],
        "told": ["what", "key"],
    }  # fmt: skip
    with sqlite3.connect(history) as connection:
        for table, names in columns.items():
            for name in names:
                for number, value in connection.execute(f"SELECT rowid, {name} FROM {table}").fetchall():
                    text = value.decode("utf-8") if isinstance(value, bytes) else value
                    if text:
                        moved = _MOMENT.sub(back, text)
                        blob = moved.encode("utf-8") if isinstance(value, bytes) else moved
                        connection.execute(f"UPDATE {table} SET {name} = ? WHERE rowid = ?", (blob, number))


def month(works: Works, run: Run, more: tuple[str, ...] = ()) -> list[tuple[int, dict[str, Any]]]:
    """Thirty nights, the present one last; return what was sent, with the night."""
    kiln = "20.77.10.in-addr.arpa"
    events: dict[int, Callable[[], None]] = {
        4: lambda: works.lose(kiln, "16"),
        6: lambda: works.restore(kiln, "16"),
        **{night: (lambda: works.lose(kiln, "13")) for night in (8, 10, 12)},
        **{night: (lambda: works.restore(kiln, "13")) for night in (9, 11, 13)},
        16: lambda: setattr(works.servers["dc-kiln"], "fault", Fault.SILENT),
        19: lambda: setattr(works.servers["dc-kiln"], "fault", Fault.NONE),
        24: works.close_the_branch,
        28: works.strike_from_the_list,
    }
    text, messages = works.estate.read_text(encoding="utf-8"), works.estate.parent / "messages.jsonl"
    sent: list[tuple[int, dict[str, Any]]] = []
    for night in range(1, NIGHTS + 1):
        if night > 1:
            a_day_passes(works.estate.parent / "audits.db")
        # Somebody accepted a finding until the 29th night.
        until = (datetime.now(UTC) + timedelta(days=29 - night)).date()
        accepted = f'\n[[accept]]\ncode = "pair.no-pointer"\nname = "rake-03.*"\nreason = "rebuilt"\nuntil = {until}\n'
        works.estate.write_text(text + accepted, encoding="utf-8")
        events.get(night, lambda: None)()
        run(*AUDIT, "--history", "audits.db", "--notify", "duty", *more, folder=works.estate.parent)
        lines = messages.read_text(encoding="utf-8").splitlines() if messages.exists() else []
        sent += [(night, json.loads(line)) for line in lines[len(sent) :]]
    return sent


@pytest.fixture
def works(tmp_path: Path) -> Iterator[Works]:
    with gullmarsh(tmp_path / "world") as (estate, servers):
        yield Works(estate, servers)


SIXTH = "10.77.20.16 of kiln-06.pans.gullmarsh.internal. has no PTR record."
THIRD = "10.77.20.13 of kiln-03.pans.gullmarsh.internal. has no PTR record."


def test_a_month_of_nights_sends_what_is_new_and_nothing_else(works: Works, run: Run) -> None:
    sent = month(works, run)
    assert [(night, one["says"].removeprefix("Gullmarsh Saltworks: ")) for night, one in sent] == [
        (4, f"1 new fault: {SIXTH}"),
        (6, f"1 gone: {SIXTH}"),
        (8, f"1 new fault: {THIRD}"),
        (9, f"1 gone: {THIRD}"),
        (10, f"1 new fault: {THIRD}"),
        (11, f"1 gone: {THIRD}"),
        (12, f"1 comes and goes: {THIRD}"),  # and no word of it on the 13th
        (18, "1 no longer changing, 2 unverified for 3 runs"),
        (19, "2 verified again"),
        (22, "1 acceptance ending soon"),
        (24, "4 new faults"),
        (28, "4 gone"),
        (30, "1 new fault, 1 acceptance ended"),
    ]
    bodies = {night: "\n".join(one["lines"]) for night, one in sent}
    assert "UNVERIFIED FOR 3 RUNS: 2 (" in bodies[18] and "- dc-kiln (127.0.0.1:" in bodies[18]
    assert "NEW FAULTS" not in bodies[18]  # a server that is silent accuses nobody
    assert "- 3 names in pans.gullmarsh.internal. named rake-* have no address and 3 expected names" in bodies[24]
    assert "open for at most 4 d" in bodies[28] and "pair.no-pointer for rake-03.* ended on" in bodies[30]
    assert sent[6][1]["flapping"][0]["times"] == 3 and sent[7][1]["calm"][0]["ended"] is not None
    told = run("history", "audits.db", "--since", "31d", folder=works.estate.parent).out
    assert (
        told.startswith("25 faults and 6 cautions open, 4 unverified in the last run: 2 new this week, ")
        and " comes back again and again" in told
    )
    assert "(kiln-03: 3 times)" in told
