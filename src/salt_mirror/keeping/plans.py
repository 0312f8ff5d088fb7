"""Plans as files: one set a line to be taken back, and fragments of master files for whoever changes zones by hand.

Strategy: `FILE.jsonl` holds each set before and after, behind a head that says who made it (see `approvals`). `FILE.zone` has a
fragment for each zone that loads as it stands: what comes is live, what goes is in comments. `FILE.remove` lists what goes,
record by record. Everything from outside is in presentation form on one line, so that nothing in it can begin a line of its
own.
"""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

import msgspec

from salt_mirror.checks.plan.sets import Plan, come_of, gone_of, line_of
from salt_mirror.checks.plan.sheet import SetLine
from salt_mirror.dns.names import Name, from_text, is_within, shown, to_text
from salt_mirror.dns.records import MADE_BY_SIGNERS, NS, OPT, SOA, type_from_text
from salt_mirror.estate.errors import BadInput
from salt_mirror.keeping.approvals import Approval
from salt_mirror.keeping.writing import check_writable, write_whole


def check_plan_files(path: Path) -> None:
    """Raise BadInput where the files of a plan cannot be written."""
    for one in _files(path):
        check_writable(one, "--write")


def write_plan(path: Path, plan: Plan, begun: str, approval: Approval) -> list[Path]:
    """Write the files of a plan behind its head, and return which. Raises BadInput."""
    encode = msgspec.json.Encoder().encode
    contents = (
        b"".join(encode(one) + b"\n" for one in (approval, *map(line_of, plan.sets))),
        fragments(plan, begun).encode("utf-8"),
        "".join(f"{line}\n" for line in _removals(plan)).encode("utf-8"),
    )
    files = _files(path)
    for one, content in zip(files, contents, strict=True):
        write_whole(one, content, "--write")
    return files


def _files(path: Path) -> list[Path]:
    return [path.with_name(path.name + suffix) for suffix in (".jsonl", ".zone", ".remove")]


def check_lines(lines: Iterable[SetLine], path: Path) -> None:
    """Raise BadInput for a set that no plan has: of a type that nobody keeps, at the top of a zone, or without a TTL."""
    for line in lines:
        rdtype = type_from_text(line.type)
        why = ""
        if rdtype in MADE_BY_SIGNERS or 128 <= rdtype <= 255 or rdtype in (0, OPT):  # RFC 6895 section 3.1
            why = "no set that is changed by hand"
        elif rdtype in (SOA, NS) and from_text(line.name) == from_text(line.zone):
            why = "the top of its zone, which mend never changes"
        elif not is_within(from_text(line.name), from_text(line.zone)):
            why = "not in its zone"
        elif (line.before and line.ttl_before is None) or (line.after and line.ttl_after is None):
            why = "without a TTL"
        if why:
            raise BadInput.at(
                path, None, f"{shown(line.name)} {line.type} is {why}; expected the file as mend wrote it"
            )


def fragments(plan: Plan, begun: str) -> str:
    """Return a fragment of a master file for each zone: what goes as comments, what comes as records, with the reason of each
    set."""
    lines = [
        f"; what mends the findings of {begun}: a fragment for each zone, to be merged into it, with its serial raised"
    ]
    for (view, zone), sets in plan.zones.items():
        lines += ["", fragment_head(view, zone), f"$ORIGIN {to_text(zone)}"]
        for planned in sets:
            lines += [f"; {why}" for why in map(_one_line, planned.reasons)]
            lines += [f"; remove: {line}" for line in gone_of(planned)]
            lines += come_of(planned)
    for left in plan.not_ours:
        lines += ["", f"; not ours to change: {left.finding.name} {left.finding.code}: {_one_line(left.why)}"]
    for finding in plan.waiting:
        lines += ["", f"; waits for a decision: {finding.name} {finding.code}: {_one_line(finding.text)}"]
    return "\n".join(lines) + "\n"


def fragment_head(view: str, zone: Name) -> str:
    """Return the comment that a zone's fragment begins with."""
    return f"; zone {to_text(zone)}" + (f" in the view {_one_line(view)}" if view else "")


def _removals(plan: Plan) -> Iterable[str]:
    for (view, zone), sets in plan.zones.items():
        if any(gone_of(one) for one in sets):
            yield fragment_head(view, zone)
        for planned in sets:
            yield from gone_of(planned)


def _one_line(text: str) -> str:
    return "".join(c if c.isprintable() else "?" for c in " ".join(text.split()))
