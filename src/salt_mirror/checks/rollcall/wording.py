"""What the roll call says: one method for each finding, with its evidence and the set that would mend it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from functools import partial
from pathlib import PurePath
from typing import Any

from msgspec.structs import replace

from salt_mirror.checks.common.expected import ExpectedSet
from salt_mirror.checks.common.lookup import Lookup, Telling
from salt_mirror.checks.common.proposing import changed, whole_set
from salt_mirror.checks.common.standing import Standing
from salt_mirror.checks.common.wording import answers_of, labels_of, many, state, troubles_of
from salt_mirror.dns.names import to_text
from salt_mirror.dns.records import CNAME, ONE_HAND, rdata_text, type_text
from salt_mirror.findings import Change, Finding, Outcome

MANY = 3
"""So many records with one common old value are told as one cause."""

RIGHT, ABSENT_NAME, ABSENT_TYPE, DIFFERENT, EXTRA, ALIAS, STILL_THERE = (
    "right", "missing-name", "missing-type", "different", "extra", "alias", "still-there",
)  # fmt: skip
_SAID = {
    RIGHT: "as expected",
    ABSENT_NAME: "no such name",
    ABSENT_TYPE: "nothing of this type",
    DIFFERENT: "other values",
    EXTRA: "more than expected",
    ALIAS: "an alias in its place",
    STILL_THERE: "still there",
}


class RollWords:
    """Words the findings about one expected set."""

    def __init__(self, expected: ExpectedSet, looked_up: Lookup) -> None:
        self._expected = expected
        self._found = looked_up
        self._kind = type_text(expected.rdtype)
        self._what = f"{to_text(expected.name)} {self._kind}"

    def _finding(
        self,
        code: str,
        text: str,
        *,
        changes: Sequence[Change] = (),
        advice: str = "",
        outcome: Outcome | None = None,
        cause: str = "",
    ) -> Finding:
        expected = self._expected
        return state(
            code, text, name=expected.name, rdtype=expected.rdtype, view=expected.view, answers=answers_of(self._found),
            expected=self._texts(expected.values), changes=changes, advice=advice, outcome=outcome,
            cause=cause,
        )  # fmt: skip

    def _texts(self, values: Iterable[bytes]) -> list[str]:
        return sorted(rdata_text(self._expected.rdtype, value) for value in values)

    def _changes(self, kinds: Iterable[str]) -> list[Change]:
        """Return the set as it is expected, with an alias in its place taken away."""
        expected, looked_up = self._expected, self._found
        there = [telling.values for telling in looked_up.usable]
        anywhere = {value for values in there for value in values}
        ttls = {telling.answers[0].ttl for telling in looked_up.usable if telling.values}
        where: dict[str, Any] = {"view": expected.view, "zone": looked_up.authority.zone}
        reason = f"expected by {PurePath(expected.where).name}" if expected.where else "expected"
        changes = []
        aliases = {telling.alias for telling in looked_up.usable if telling.alias is not None}
        if aliases and (ALIAS in kinds or expected.gone):
            changes.append(changed(expected.name, CNAME, "expected", reason, remove=aliases, **where))
        set_at = partial(
            whole_set,
            expected.name,
            expected.rdtype,
            "expected",
            reason,
            there=there,
            ttl=expected.ttl,
            ttls=ttls,
            **where,
        )
        if expected.gone:
            if anywhere:
                changes.append(set_at(whole=(), ttl=None))
        elif expected.exact or (expected.values and not expected.absent):
            # Where one value has taken the place of another, the set becomes the expected one. Sets that several hands fill,
            # and addresses beside which there are more than are listed, are only added to: a list in part is not the whole set.
            moved = DIFFERENT in kinds and expected.rdtype in ONE_HAND and len(anywhere) <= len(expected.values)
            spare = set() if expected.exact or moved else anywhere
            changes.append(set_at(whole=expected.values | (spare - expected.absent)))
        else:
            changes.append(
                changed(
                    expected.name, expected.rdtype, "expected", reason, add=expected.values - anywhere,
                    remove=expected.absent & anywhere, ttl=expected.ttl, **where,
                )
            )  # fmt: skip
        return changes

    def fault(self, kinds: list[str], hint: str, standing: Standing) -> Finding:
        """Report that the set is not as expected on some or all of the servers that answered; those merely out of date need no
        edit."""
        by_kind: dict[str, list[Telling]] = {}
        for telling, kind in zip(self._found.usable, kinds, strict=True):
            by_kind.setdefault(kind, []).append(telling)
        if len(by_kind) > 1:
            sides = "; ".join(
                f"{_SAID[kind]} on {labels_of(one.server for one in tellings)}" for kind, tellings in by_kind.items()
            )
            wrong = [t.server for t, kind in zip(self._found.usable, kinds, strict=True) if kind != RIGHT]
            right = [t.server for t, kind in zip(self._found.usable, kinds, strict=True) if kind == RIGHT]
            lag, cause = standing.catching_up(wrong, right)
            changes = [] if lag else self._changes(by_kind)
            return self._finding(
                "roll.servers-disagree", f"{self._what}: {sides}.{hint}", changes=changes, advice=lag, cause=cause
            )
        ((kind, tellings),) = by_kind.items()
        has = ", ".join(self._texts({value for telling in tellings for value in telling.values}))
        wants = ", ".join(self._texts(self._expected.values))
        where = f" on {labels_of(one.server for one in tellings)}" if self._found.unverified else ""
        text = {
            ABSENT_NAME: f"{to_text(self._expected.name)} does not exist{where}.",
            ABSENT_TYPE: f"{to_text(self._expected.name)} exists, and has no {self._kind}{where}.",
            DIFFERENT: f"{self._what} is {has}{where}, and {wants} is expected.",
            EXTRA: f"{self._what} is {has}{where}, and only {wants} is expected.",
            ALIAS: f"{to_text(self._expected.name)} is an alias{where}, and {self._kind} {wants} is expected.",
            STILL_THERE: f"{self._what} should be absent, and is registered{where}: {has}.",
        }[kind]
        return self._finding(f"roll.{kind}", text + hint, changes=self._changes((kind,)))

    def clash(self) -> Finding:
        """Sources of the estate contradict each other about the set: nothing can be judged before one of them is chosen."""
        text = f"The estate contradicts itself: {self._expected.clash_text}."
        advice = f"remove {to_text(self._expected.name)} {self._kind} from one of the two lists"
        return self._finding("roll.contradiction", text, advice=advice)

    def other_ttl(self) -> list[Finding]:
        """Report that the values are right, and the TTL is not what the list says."""
        wanted = self._expected.ttl
        ttls = {telling.answers[0].ttl for telling in self._found.usable if telling.values}
        if wanted is None or not ttls or ttls == {wanted}:
            return []
        has = ", ".join(f"{ttl} s" for ttl in sorted(ttl for ttl in ttls if ttl is not None))
        text = f"{self._what} has the TTL {has}, and {wanted} s is expected."
        return [self._finding("roll.other-ttl", text, changes=self._changes((EXTRA,)))]

    def wildcard(self) -> Finding:
        """Report that the set is answered by a wildcard, not registered."""
        return self._finding(
            "roll.wildcard",
            f"{self._what} is answered by a wildcard: it would be so for any name, and is not registered itself.",
            changes=[self._itself()],
        )

    def _itself(self) -> Change:
        """Return the set registered at its own name, where nothing of it stands yet."""
        expected = self._expected
        return whole_set(
            expected.name, expected.rdtype, "expected", "the record itself is expected", view=expected.view,
            zone=self._found.authority.zone, whole=expected.values, ttl=expected.ttl,
        )  # fmt: skip

    def damaged(self) -> Finding:
        """Report that a row of a list about the set cannot be used, so that nobody knows what is expected."""
        why = self._expected.damaged
        return self._finding("roll.unverified", f"{self._what}: {why}.", outcome="unverified", cause=why)

    def unverified(self) -> Finding:
        """Report that some or all servers gave no usable answer."""
        why = troubles_of(self._found)
        return self._finding("roll.unverified", f"{self._what}: {why}.", outcome="unverified", cause=why)


def may_be_wildcards(sets: Sequence[ExpectedSet]) -> str:
    """Return the remark that nobody knows of some sets whether a wildcard answers in their place."""
    first = min(sets, key=lambda one: (to_text(one.name), one.rdtype, one.view))
    others = f" and {many(len(sets) - 1, 'other')}" if len(sets) > 1 else ""
    return (
        f"whether a wildcard answers for {many(len(sets), 'record set')} is not known: a server gave no answer for a name "
        f"beside that nobody has registered ({to_text(first.name)} {type_text(first.rdtype)}{others})"
    )


def grouped(findings: list[Finding]) -> list[Finding]:
    """Give findings that share an unexpected value one cause, where there are many: something moved, they did not follow."""
    olds = Counter(old for finding in findings for old in _old_values(finding))
    causes = {
        old: f"{number} record sets lead to {old}, and not to what is expected"
        for old, number in olds.items()
        if number >= MANY
    }
    if not causes:
        return findings
    result = []
    for finding in findings:
        old = next((old for old in _old_values(finding) if old in causes), None)
        result.append(finding if old is None else replace(finding, cause=causes[old]))
    return result


def _old_values(finding: Finding) -> set[str]:
    """Return the values that servers give and nobody expects, as the host or address they lead to."""
    if finding.code not in ("roll.different", "roll.extra", "roll.still-there", "roll.servers-disagree"):
        return set()
    expected = {value.rsplit(" ", 1)[-1] for value in finding.expected}
    told = {value.rsplit(" ", 1)[-1] for one in finding.evidence for value in one.values}
    return told - expected
