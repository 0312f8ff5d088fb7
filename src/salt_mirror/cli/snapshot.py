"""`salt-mirror snapshot`: what every server tells now, kept in a file."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from salt_mirror.cli.messages import INTERRUPTED, tell
from salt_mirror.cli.options import Asking, option
from salt_mirror.cli.signatures import takes

if TYPE_CHECKING:
    from salt_mirror.checks.compare.judging import SetKey
    from salt_mirror.estate.model import Estate

_TYPES = "A,AAAA,CNAME,MX,NS,PTR,SRV,TXT"


@takes(at="Only ask these servers.")
def snapshot(
    file: Annotated[Path, typer.Argument(metavar="FILE", help="Where to write it; packed when it ends in .gz.")],
    names: Annotated[
        list[str] | None,
        typer.Argument(metavar="[NAME]...", help="Only these names; without it all that the estate expects."),
    ] = None,
    types: Annotated[str, option("--types", "A,AAAA,...", "The types to ask for at given names.")] = _TYPES,
    json: Annotated[bool, typer.Option("--json", help="Print what was written as one JSON document.")] = False,
    force: Annotated[bool, typer.Option("--force", help="Write over a file that is there already.")] = False,
    *,
    asking: Asking,
) -> None:
    """Save what every authoritative server answers now, to compare with later."""
    from salt_mirror.checks.common.wording import many
    from salt_mirror.checks.compare.judging import Snapshot
    from salt_mirror.cli.arguments import atlas_of, open_estate, servers_at, views_of
    from salt_mirror.cli.execution import run_part
    from salt_mirror.estate.errors import BadInput
    from salt_mirror.estate.reading import STANDARD_STREAM, is_there
    from salt_mirror.keeping.snapshots import write_snapshot
    from salt_mirror.keeping.writing import check_writable

    if is_there(file) and not force:
        raise BadInput(f"{file} is there already; --force writes over it")
    check_writable(file)
    estate = open_estate(asking, directories=True)
    views = views_of(asking, estate)
    sets = _sets(estate, asking, names or [], types)
    if not sets and not (asking.transfer and views):
        raise BadInput("nothing to write down: name names, or give an estate with zones that expect records")
    atlas = atlas_of(estate, servers_at(asking.at, estate))
    part = Snapshot(sets, estate, views, atlas)
    ran = run_part(part, atlas, views, asking, "record sets asked")
    if ran.interrupted:
        tell("interrupted; no snapshot was written")
        raise typer.Exit(INTERRUPTED)
    held = part.held
    write_snapshot(file, estate.title, ran.started, held)
    for remark in ran.remarks:
        tell(remark, begin="Note: ")
    unseen = sum(one.trouble is not None for one in held)
    there = many(sum(bool(one.values) for one in held), "record set")
    servers = many(len({one.server for one in held}), "server")
    more = f"; {unseen:,} could not be seen" if unseen else ""
    out = sys.stderr if str(file) == STANDARD_STREAM else sys.stdout
    if json:
        from salt_mirror.report.json.snapshot import SnapshotTaken, snapshot_json

        done = SnapshotTaken(
            file=str(file), taken=ran.started, questions=ran.questions, record_sets=sum(bool(one.values) for one in held),
            servers=sorted({one.server for one in held}), unseen=unseen, remarks=ran.remarks,
        )  # fmt: skip
        out.write(snapshot_json(done).decode("utf-8"))
        raise typer.Exit(3 if unseen else 0)
    tell(f"{there} of {servers} written to {file}{more}.", begin="", file=out)
    raise typer.Exit(3 if unseen else 0)


def _sets(estate: Estate, asking: Asking, names: list[str], types: str) -> list[SetKey]:
    """Return the RRsets to write down. Raises BadInput."""
    from salt_mirror.checks.compare.judging import everything_known
    from salt_mirror.cli.arguments import names_in_views, types_in

    if names:
        return [
            (view, name, rdtype)
            for name, view in names_in_views(names, asking, estate, any_name=True)
            for rdtype in types_in(types)
        ]
    return everything_known(estate, asking.view)
