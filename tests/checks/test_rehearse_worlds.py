"""Random worlds and random zone files: what a rehearsal says is what the audit says once the files are really loaded.

The truth is told by stand-ins that hold the new zones, which share no code with the rehearsal's answers.
"""

from __future__ import annotations

from dataclasses import replace

import dns.rdatatype
import dns.zone
from hypothesis import given
from hypothesis import strategies as st

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.coverage import coverage
from salt_mirror.checks.common.part import Setting
from salt_mirror.checks.plan.sets import PlannedSet
from salt_mirror.checks.rehearse.judging import ProposedChange, Rehearsal
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.holding import Holding
from salt_mirror.dns.names import Name, from_text, to_text
from salt_mirror.dns.questions import Server
from salt_mirror.dns.records import rdata_text, type_text
from support.examples import examples
from support.rehearsals import (
    STRANGER,
    Edit,
    audit,
    beside,
    edits,
    handed_over,
    known_after,
    load,
    nothing_handed_over,
    rehearsed,
    said,
)
from support.tables import NOW
from support.worlds import PUBLIC, SERVER, Asking, TwoViews, World, in_two_views, worlds


@given(worlds(), edits())
@examples(150)
def test_what_a_rehearsal_finds_is_what_the_audit_finds_after_the_files_were_loaded(world: World, edit: Edit) -> None:
    seen = handed_over(world) if edit.whole else nothing_handed_over
    rehearsal = rehearsed(world.estate, Asking(world), edit, seen)
    later = load(world, edit)
    known, names = known_after(rehearsal, handed_over(later), seen)
    assert said(rehearsal.after) == said(audit(later.estate, Asking(later), known, names))


def sets_of(zones: dict[str, dns.zone.Zone]) -> dict[tuple[str, str], set[str]]:
    """The record sets of some zones as text, by plain reading; the SOA left out."""
    return {
        (name.to_text().lower(), dns.rdatatype.to_text(rdataset.rdtype)): {one.to_text().lower() for one in rdataset}
        for zone in zones.values()
        for name, rdataset in zone.iterate_rdatasets()
        if rdataset.rdtype != dns.rdatatype.SOA
    }


def gone_by(change: PlannedSet) -> tuple[tuple[str, str], set[str]]:
    rdtype = change.key.rdtype
    gone = {rdata_text(rdtype, value).lower() for value in change.before - change.after}
    return (to_text(change.key.name), type_text(rdtype)), gone


@given(worlds(("follows", "none")), edits())
@examples(100)
def test_what_vanishes_is_what_the_old_zone_had_and_the_new_one_lacks(world: World, edit: Edit) -> None:
    rehearsal = rehearsed(world.estate, Asking(world), edit, handed_over(world))
    before = sets_of({str(origin): zone for origin, zone in world.held[SERVER].zones.items()})
    after = sets_of({str(origin): zone for origin, zone in load(world, edit).held[SERVER].zones.items()})
    wanted = {key: gone for key, values in before.items() if (gone := values - after.get(key, set()))}
    assert dict(found for change in rehearsal.changes if (found := gone_by(change))[1]) == wanted
    rows = {(row.name, row.type) for row in rehearsal.sheet().vanishing}
    assert rows == {key for key in wanted if not after.get(key, set()) - before[key]}


@given(in_two_views(), edits(), st.booleans())
@examples(60)
def test_a_file_of_one_view_changes_nothing_in_the_other(world: TwoViews, edit: Edit, public: bool) -> None:
    """Views have zones of one name, and the checks compare them: each is loaded by its own servers only."""
    side = world.public if public else world.internal
    view = "public" if public else "internal"
    texts = {origin: text for origin, text in edit.texts.items() if from_text(origin) in world.estate.zones[view]}
    edit = Edit(texts, edit.whole)
    handed = {True: handed_over(world.public), False: handed_over(world.internal)}

    def seen(server: Server, apex: Name) -> Holding | None:
        if not edit.whole:
            return None
        return handed[True](SERVER, apex) if server is PUBLIC else handed[False](server, apex)

    rehearsal = rehearsed(world.estate, Asking(world), edit, seen, view)
    loaded = load(side, edit)
    later = (
        TwoViews(world.internal, loaded, world.provider) if public else TwoViews(loaded, world.public, world.provider)
    )
    new = handed_over(loaded)
    known, names = known_after(rehearsal, lambda server, apex: new(SERVER if public else server, apex), seen)
    assert said(rehearsal.after) == said(audit(later.estate, Asking(later), known, names))


@given(worlds(("follows", "none", "silent")), edits())
@examples(60)
def test_sets_that_are_sent_do_what_their_rehearsal_says(world: World, edit: Edit) -> None:
    """The same edits as sets of a plan: sent to the primary by updates, in place of loading a file."""
    estate = world.estate
    sets = [
        replace(change, server=SERVER)
        for one in rehearsed(estate, Asking(world), edit, handed_over(world)).zones
        for change in one.sets
        if change.key.name != change.key.zone
    ]
    rehearsal = Rehearsal(Atlas(estate), coverage((), ("resolvers",), estate), ProposedChange(sets=sets), lambda: None)
    rehearsal.run(Setting(NOW, handed_over(world), stranger=STRANGER), Runner(Asking(world)))
    later = beside(world)
    later.carry_out(sets)
    held = handed_over(later)
    changed = {from_text(origin) for origin in edit.texts if any(one.key.zone == from_text(origin) for one in sets)}
    names = {name for apex in changed if (zone := held(SERVER, apex)) is not None for name in zone.names}
    truth = audit(estate, Asking(later), held, names)
    assert said(rehearsal.after) == said(truth)
