"""A finding from its parts: the weight comes from the catalogue, the outcome from the weight, the evidence from the answers.

Strategy: what every check does when it has something to say, once.
"""

from __future__ import annotations

import re
from collections.abc import Iterable

from salt_mirror.checks.lookup import Lookup, evidence_of
from salt_mirror.dns.names import Name, to_text
from salt_mirror.dns.questions import Answer
from salt_mirror.dns.records import type_text
from salt_mirror.findings import CATALOGUE, Finding, Outcome

_DOTS = re.compile(r"\.\.(?=[ ;,:]|$)")


def state(
    code: str,
    text: str,
    *,
    name: Name,
    rdtype: int,
    view: str = "",
    answers: Iterable[Answer | None] = (),
    expected: Iterable[str] = (),
    remedy: str = "",
    outcome: Outcome | None = None,
    cause: str = "",
) -> Finding:
    """The finding of a code about one name. A fault differs and anything else agrees, unless an `outcome` is given."""
    weight = CATALOGUE[code].weight
    return Finding(
        code=code,
        weight=weight,
        outcome=outcome or ("differs" if weight == "fault" else "agrees"),
        name=to_text(name),
        type=type_text(rdtype),
        view=view,
        expected=list(expected),
        evidence=[evidence_of(answer) for answer in answers if answer is not None],
        text=_DOTS.sub(".", text),  # an absolute name at the end of a sentence
        remedy=remedy,
        cause=cause,
    )


def answers_of(found: Lookup) -> list[Answer]:
    """Every answer on the way to a name and at it."""
    return [answer for telling in (*found.trail, *found.tellings) for answer in telling.answers]


def troubles_of(found: Lookup) -> str:
    """Why servers gave no usable answer, one after the other."""
    why = "; ".join(f"{t.server.label} ({t.server.endpoint}): {t.trouble}" for t in found.unverified)
    return why or f"no server to ask: {found.trouble}"


def together_said(words: Iterable[str]) -> str:
    """Words as people list them: `a, b and c`."""
    found = list(words)
    return found[0] if len(found) == 1 else ", ".join(found[:-1]) + " and " + found[-1] if found else ""
