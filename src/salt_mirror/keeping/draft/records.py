"""What is registered and looks right, as expectations: one master file a zone."""

from __future__ import annotations

from salt_mirror.checks.common.wording import many
from salt_mirror.checks.draft.doubting import Fit
from salt_mirror.dns.names import Name, printable, to_text
from salt_mirror.dns.records import record_line


def master_file(fit: Fit, ages: dict[tuple[Name, int, bytes], int], heading: str) -> str:
    """Return the records of a zone that are fit to be expected; those that age (dynamic ones of a directory, in hours since
    1601) with the age mark of its exports, each behind its record's type."""
    lines = [f"; {to_text(fit.zone.apex)}: {many(fit.records, 'record')}, as registered. {printable(heading)}"]
    for (name, rdtype), (ttl, values) in sorted(fit.kept.items(), key=lambda one: (to_text(one[0][0]), one[0][1])):
        for value in values:
            line = record_line(name, rdtype, value, ttl)
            age = ages.get((name, rdtype, value))
            if age:
                owner, rest = line.split(" ", 1)
                line = f"{owner} [AGE:{age}] {rest}"
            lines.append(line)
    return "\n".join(lines) + "\n"
