"""What the check `pairs` says where it could not tell: one method for each side that gave no usable answer.

Strategy: nothing is accused here. A cause is worded alike for all findings that the silence of the same servers explains.
"""

from __future__ import annotations

from collections.abc import Sequence

from salt_mirror.checks.common.lookup import Lookup, Telling, evidence_of
from salt_mirror.checks.common.wording import no_word_of, silence_of, state
from salt_mirror.dns.names import Name, to_text
from salt_mirror.dns.records import PTR, A, address_type
from salt_mirror.dns.reverse import address_text, is_reverse
from salt_mirror.findings import Change, Choice, Evidence, Finding, Outcome


def damaged_row(name: Name, view: str, says: str) -> Finding:
    """Report that a row of a list about a name cannot be used, so that nobody knows which address it should have."""
    text = f"{to_text(name)}: {says}."
    return state("pair.unverified", text, name=name, rdtype=A, view=view, evidence=[], outcome="unverified", cause=says)


class DoubtWords:
    """Words the doubts about one name in one view."""

    def __init__(self, view: str, subject: Lookup) -> None:
        self.view = view
        self._subject = subject

    def _finding(
        self,
        code: str,
        text: str,
        *,
        evidence: list[Evidence],
        address: bytes | None = None,
        name: Name | None = None,
        rdtype: int | None = None,
        expected: Sequence[str] = (),
        changes: Sequence[Change] = (),
        choices: Sequence[Choice] = (),
        advice: str = "",
        outcome: Outcome | None = None,
        cause: str = "",
        stands_at: Name | None = None,
    ) -> Finding:
        return state(
            code, text, name=name if name is not None else self._subject.name,
            rdtype=rdtype if rdtype is not None else address_type(address) if address is not None else A,
            view=self.view, evidence=evidence, expected=expected, changes=changes, choices=choices,
            advice=advice, outcome=outcome, cause=cause, address=address, stands_at=stands_at,
        )  # fmt: skip

    def _unverified(
        self,
        text: str,
        cause: str,
        evidence: list[Evidence],
        address: bytes | None,
        rdtype: int | None = None,
        stands_at: Name | None = None,
    ) -> Finding:
        return self._finding(
            "pair.unverified",
            text,
            address=address,
            rdtype=rdtype,
            evidence=evidence,
            outcome="unverified",
            cause=cause,
            stands_at=stands_at,
        )

    def unverified_name(self, expected: Sequence[bytes]) -> Finding:
        """Report that no server gave a usable answer for the name."""
        forward = self._subject
        address = expected[0] if expected else None
        why = forward.trouble or "no usable answer"
        return self._unverified(f"{to_text(forward.name)}: {why}.", _cause(forward, why), forward.evidence(), address)

    def unverified_pointer(self, address: bytes) -> Finding:
        """Report that no server gave a usable answer for the address's pointer, and no name is known for it."""
        reverse = self._subject
        why = reverse.trouble or "no usable answer"
        return self._unverified(
            f"The PTR record of {address_text(address)}: {why}.", _cause(reverse, why), reverse.evidence(), address, PTR
        )

    def unverified_reverse(self, reverse: Lookup, address: bytes) -> Finding:
        """Report that no server gave a usable answer for the PTR record of a name's address."""
        why = reverse.trouble or "no usable answer"
        return self._unverified(
            f"The PTR record of {address_text(address)} of {to_text(self._subject.name)}: {why}.",
            _cause(reverse, why),
            reverse.evidence(),
            address,
            stands_at=reverse.canonical,
        )

    def unverified_lead(self, address: bytes, target: Name, lead: Lookup) -> Finding:
        """Report that the pointer names another host, and nobody says whether that has the address."""
        why = lead.trouble or "no usable answer"
        return self._unverified(
            f"The PTR record of {address_text(address)} names {to_text(target)}: {why}.",
            _cause(lead, why),
            lead.evidence(),
            address,
        )

    def unverified_telling(self, telling: Telling, address: bytes, forward: Lookup, reverse: Lookup) -> Finding:
        """Report that one server among several gave no usable answer."""
        server = telling.server
        why = f"{server.label}: {telling.trouble}"
        side = forward if telling in forward.unverified else reverse
        evidence = [evidence_of(answer) for answer in telling.answers]
        evidence += [evidence_of(answer) for other in side.usable for answer in other.answers]
        what = "addresses" if side is forward else f"PTR record of {address_text(address)}"
        return self._unverified(
            f"{to_text(self._subject.name)}, {what}: {why}.",
            no_word_of(server, telling.trouble),
            evidence,
            address,
            stands_at=side.canonical,
        )


def _cause(looked_up: Lookup, why: str) -> str:
    """Return one text for all findings that the same servers' silence explains."""
    if not looked_up.unverified:
        return f"no server to ask{' about the PTR record' if is_reverse(looked_up.name) else ''}: {why}"
    return silence_of(looked_up.unverified)
