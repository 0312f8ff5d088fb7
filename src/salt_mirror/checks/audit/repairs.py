"""The repairs that findings print, taken from the plan: what `mend` would send, and for everything else why it would not.

Strategy: the findings are planned for and proved as `mend` does it, over the answers in hand. So a report never prints a repair
that the plan refuses, and a finding whose change is already on the primary says what is really missing.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from msgspec.structs import replace

from salt_mirror.checks.audit.judge import AuditJudge
from salt_mirror.checks.audit.nearby import Links, Spoken
from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.coverage import coverage
from salt_mirror.checks.common.part import Setting
from salt_mirror.checks.common.proposing import remedy_of
from salt_mirror.checks.plan.proving import names_of, proved
from salt_mirror.checks.plan.sets import Plan, PlannedSet, record_lines
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.names import from_text, to_text
from salt_mirror.dns.records import rdata_from_text, type_from_text, type_text
from salt_mirror.estate.forms import address_in
from salt_mirror.findings import Change, Finding

MOST_PLANNED = 1_000
"""More findings with a repair than this are not planned for beside a check: `mend` does that."""


def plannable(findings: Iterable[Finding]) -> list[Finding]:
    """Return the findings that propose anything."""
    return [one for one in findings if one.outcome != "unverified" and one.weight != "note" and changes_of(one)]


def changes_of(finding: Finding) -> list[Change]:
    """Return all changes that a finding proposes, those of its choices too."""
    return [*finding.changes, *(change for choice in finding.choices for change in choice.changes)]


def plan_near(findings: Sequence[Finding], atlas: Atlas, setting: Setting, runner: Runner) -> Plan:
    """Plan for some findings, and judge what that touches; what is not in hand is asked for."""
    estate = atlas.estate
    addresses = [packed for one in findings if one.address and (packed := address_in(one.address)) is not None]
    links = Links(estate)
    links.add(runner.heard())
    scope = links.around([spoken for one in findings for spoken in _spoken(one)], addresses, everywhere=False)
    judge = AuditJudge(atlas, coverage((), (), estate), setting, lambda: None, scope=scope)
    return proved(judge, runner, atlas)  # with what else is wrong near them, as mend would plan it


def _spoken(finding: Finding) -> Iterable[Spoken]:
    """Return the sets that a finding would change, with all values that go or come, and what it is about."""
    yield from_text(finding.name), 0, ()
    for change in changes_of(finding):
        rdtype = type_from_text(change.type)
        yield (
            from_text(change.name),
            rdtype,
            [rdata_from_text(rdtype, text) for text in (*change.add, *change.remove)],
        )


def with_repairs(findings: Iterable[Finding], plan: Plan) -> list[Finding]:
    """Return the same findings with the repair that is planned for each, or the reason why none is."""
    mended = {(one.code, one.subject) for one in plan.mended}
    waiting = {(one.code, one.subject) for one in plan.waiting}
    left = {(one.finding.code, one.finding.subject): one for one in plan.not_ours}
    by_set: dict[tuple[str, str, str], PlannedSet] = {}
    by_name: dict[tuple[str, str], list[PlannedSet]] = {}
    for planned in plan.sets:
        name = to_text(planned.key.name)
        by_set[planned.key.view, name, type_text(planned.key.rdtype)] = planned
        by_name.setdefault((planned.key.view, name), []).append(planned)
    told = []
    for finding in findings:
        key = (finding.code, finding.subject)
        if key in mended:
            sets = [by_set[at] for one in finding.changes if (at := (one.view, one.name, one.type)) in by_set]
            sets = sets or [one for name in sorted(names_of(finding)) for one in by_name.get((finding.view, name), ())]
            lines = [line for one in sets for line in record_lines(one)]
            told.append(replace(finding, remedy="\n".join(lines), fate="planned"))
        elif key in waiting:
            choices = remedy_of((), finding.choices, finding.advice)
            told.append(replace(finding, remedy=choices, fate="choice") if finding.choices else finding)
        elif key in left and changes_of(finding):  # else there is advice at most, which stands there already
            told.append(replace(finding, remedy=f"; {left[key].why}", fate=left[key].fate))
        else:
            told.append(finding)
    return told
