"""What was left out of a draft's expectations, zone by zone, with the reasons: a page in Markdown."""

from __future__ import annotations

import re
from collections.abc import Iterable

from salt_mirror.checks.common.wording import many
from salt_mirror.checks.draft.doubting import Fit
from salt_mirror.dns.names import printable, to_text
from salt_mirror.dns.records import rdata_text, type_text
from salt_mirror.report.files.marking import marked


def review(fits: Iterable[Fit], heading: str) -> str:
    """Return what was left out of the expectations, zone by zone, with the reasons (Markdown)."""
    left = [fit for fit in fits if fit.left_out]
    number = sum(len(values) for fit in left for values, _ in fit.left_out.values())
    lines = [
        f"# {many(number, 'record')} left out of what is expected",
        "",
        f"{printable(heading)} Each of these is registered, and looks wrong: it is not expected until somebody has looked. "
        "What is right after all goes into the zone's file; the others are what `salt-mirror audit` will tell.",
    ]
    for fit in left:
        lines += ["", f"## {_code(to_text(fit.zone.apex))}", ""]
        for (name, rdtype), (values, against) in sorted(
            fit.left_out.items(), key=lambda one: (to_text(one[0][0]), one[0][1])
        ):
            says = ", ".join(_code(rdata_text(rdtype, value)) for value in values)
            lines.append(f"- {_code(f'{to_text(name)} {type_text(rdtype)}')} {says}")
            reasons = dict.fromkeys((finding.text, finding.code) for finding in against)
            lines += [f"  - {marked(text)} ({_code(code)})" for text, code in reasons]
    return "\n".join(lines) + "\n"


def _code(text: str) -> str:
    """Return a text as it is, between marks that do not stand in it."""
    clean = printable(text)
    longest = max(map(len, re.findall("`+", clean)), default=0)
    marks = "`" * (longest + 1)
    return f"{marks} {clean} {marks}" if longest else f"`{clean}`"
