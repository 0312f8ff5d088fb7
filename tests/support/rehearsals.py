"""Zone files that somebody might load into a random world, the rehearsal of that, and the truth afterwards."""

from __future__ import annotations

import copy
from dataclasses import dataclass
from pathlib import Path

import dns.zone
from hypothesis import strategies as st

from salt_mirror.checks.audit.accepting import sort_out
from salt_mirror.checks.audit.causes import with_causes
from salt_mirror.checks.audit.work import AuditWork
from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.coverage import coverage
from salt_mirror.checks.common.part import Holdings, Setting
from salt_mirror.checks.rehearse.judging import ProposedChange, Rehearsal
from salt_mirror.checks.rehearse.proposed import ProposedZone
from salt_mirror.dns.dialogue import Exchange, Runner
from salt_mirror.dns.holding import Holding
from salt_mirror.dns.names import Name, from_text
from salt_mirror.dns.questions import Server
from salt_mirror.dns.records import Record
from salt_mirror.estate.masterfile import read_master_text
from salt_mirror.estate.model import Estate
from salt_mirror.findings import Finding
from salt_mirror.standin.authority import read_zone
from support.tables import NOW
from support.worlds import FORWARD, REVERSE, SECOND, SERVER, World, contents

ODD = (
    "sub NS ns.sub\nns.sub A 10.77.20.3\nh9.sub A 10.77.20.4",
    "sub NS s0",
    "*.wild A 10.77.20.2\n*.wild MX 10 h1",
    "old DNAME h1.pans.example.",
    "deep.er.still A 10.77.20.3",
    "txt TXT \"a;b\" ( \"c\" )",
    "$GENERATE 5-6 g$ A 10.77.20.$",
    "hex \\# 0",
)  # fmt: skip


STRANGER = b"nobody"


@dataclass
class Edit:
    """New files for some of a world's zones, and how far the serial goes."""

    texts: dict[str, str]
    whole: bool


@st.composite
def edits(draw: st.DrawFn) -> Edit:
    """Files of one or both zones: with content of their own, records too many or too few, odd ones, and any serial."""
    fresh = draw(contents())
    zones = draw(st.sampled_from(((FORWARD,), (REVERSE,), (FORWARD, REVERSE))))
    serial = draw(st.sampled_from((9, 9, 9, 8, 7, 2**31 + 6, 2**31 + 9)))
    mname = draw(st.sampled_from(("s0", "s0", "s0", "s1", "elsewhere")))
    servers = draw(st.sampled_from(("@ NS s0.pans.example.\n", "@ NS s0.pans.example.\n@ NS s1.pans.example.\n")))
    texts = {}
    for origin in zones:
        lines = list(fresh[origin])
        if origin == FORWARD:
            own = ["s0 A 192.0.2.53", *draw(st.sampled_from((["s1 A 192.0.2.54"], [])))]
            lines = own + lines + draw(st.lists(st.sampled_from(ODD[:-1]), max_size=2, unique=True))
        soa = f"@ SOA {mname}.pans.example. h.pans.example. {serial} 3600 600 1209600 300\n"
        texts[origin] = f"$TTL {draw(st.sampled_from((600, 900)))}\n{soa}{servers}" + "\n".join(lines) + "\n"
    return Edit(texts, draw(st.booleans()))


def holding_of(zone: dns.zone.Zone) -> Holding:
    """A zone of a stand-in, as a transfer would bring it."""
    assert zone.origin is not None
    return Holding(
        zone.origin.to_digestable(),
        (
            Record(name.to_digestable(), int(rdataset.rdtype), rdataset.ttl, rdata.to_digestable())
            for name, rdataset in zone.iterate_rdatasets()
            for rdata in rdataset
        ),
    )


def handed_over(world: World) -> Holdings:
    """What the servers of a world hand over that answer at all."""
    held = {
        (server, zone.origin.to_digestable()): holding_of(zone)
        for server, zones in world.held.items()
        if not (world.second == "silent" and server is SECOND)
        for zone in zones.zones.values()
        if zone.origin is not None
    }
    return lambda server, apex: held.get((server, apex))


def proposed(estate: Estate, edit: Edit, view: str = "") -> list[ProposedZone]:
    found = []
    for origin, text in edit.texts.items():
        apex = from_text(origin)
        records = read_master_text(text, Path(f"{origin}.zone"), apex)
        found.append(ProposedZone(estate.zones[view][apex], Path(f"{origin}.zone"), records))
    return found


def beside(world: World) -> World:
    """The same world again, whose zones may change while the first one's stay."""
    later = copy.copy(world)
    later.held = {server: copy.copy(zones) for server, zones in world.held.items()}
    for held in later.held.values():
        held.zones, held._there = dict(held.zones), dict(held._there)
    return later


def load(world: World, edit: Edit) -> World:
    """The same world once the primary has loaded the files, and every secondary has done what its serial says."""
    later = beside(world)
    for server, held in later.held.items():
        for text, origin in ((text, origin) for origin, text in edit.texts.items()):
            new = read_zone(text, origin)
            assert new.origin is not None
            old = held.zones[new.origin].get_soa().serial
            distance = (new.get_soa().serial - old) % 2**32
            follows = 0 < distance < 2**31
            if server is SERVER or world.second == "twin" or follows:
                held.hold(new)
    return later


def audit(estate: Estate, exchange: Exchange, holdings: Holdings, names: set[Name]) -> list[Finding]:
    """What the audit finds now."""
    atlas = Atlas(estate)
    work = AuditWork(estate, atlas, coverage((), ("resolvers",), estate))
    setting = Setting(NOW, holdings, names, stranger=STRANGER)
    work.run(setting, Runner(exchange), lambda: None)
    standing, _ = sort_out(with_causes(work.findings()), [], NOW.date())
    return standing


def said(findings: list[Finding]) -> set[tuple[str, ...]]:
    return {(*one.identity, one.outcome, one.text) for one in findings}


def rehearsed(estate: Estate, exchange: Exchange, edit: Edit, handed: Holdings, view: str = "") -> Rehearsal:
    """The rehearsal of an edit in a view."""
    proposal = ProposedChange(proposed(estate, edit, view))
    rehearsal = Rehearsal(Atlas(estate), coverage((), ("resolvers",), estate), proposal, lambda: None)
    rehearsal.run(Setting(NOW, handed, stranger=STRANGER), Runner(exchange))
    return rehearsal


def nothing_handed_over(_: Server, __: Name) -> Holding | None:
    return None


def known_after(rehearsal: Rehearsal, loaded: Holdings, seen: Holdings) -> tuple[Holdings, set[Name]]:
    """What a rehearsal knows of the zones afterwards, taken from the servers themselves: the new ones where a server takes the
    file, else what was handed over before; and the names in the files."""
    taken = {(server, one.loading.served.apex) for one in rehearsal.zones for server in one.loading.takers}
    names = {name for one in rehearsal.zones for name in one.loading.served.holding.names}
    return (lambda server, apex: (loaded if (server, apex) in taken else seen)(server, apex)), names
