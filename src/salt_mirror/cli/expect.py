"""`salt-mirror expect`: one form of expectations turned into another, and what is wrong with them."""

from __future__ import annotations

import sys
from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from salt_mirror.cli.messages import tell
from salt_mirror.cli.options import Asking, Listing, option
from salt_mirror.cli.signatures import takes
from salt_mirror.report.cleaning import clean_lines


class ExpectationForm(StrEnum):
    """The forms of expectations."""

    CSV = "csv"
    JSONL = "jsonl"
    ZONE = "zone"


@takes()
def expect(
    files: Annotated[
        list[str],
        typer.Argument(metavar="FILE...", help="Lists in any form that rollcall takes; - is standard input."),
    ],
    to: Annotated[ExpectationForm, typer.Option("--to", help="The form to write.")] = ExpectationForm.CSV,
    origin: Annotated[
        str | None, typer.Option("--zone", help="Complete short names with this zone.", show_default=False)
    ] = None,
    json: Annotated[
        bool, typer.Option("--json", help="Print them, and what is wrong with them, as one JSON document.")
    ] = False,
    estate: Annotated[Path | None, option("--estate", "FILE", "The estate file; estate.toml here without it.")] = None,
    view: Annotated[
        str | None, option("--view", "VIEW", "Only zones of this view of the estate hold the names.")
    ] = None,
    *,
    listing: Listing,
) -> None:
    """Turn expected records from one form into another, and report duplicates and contradictions.

    Short names are completed by the estate, if there is one: by the networks of their addresses, else with its first forward
    zone. In which of its zones the names fall is said on standard error.

    Exit status: 0 nothing is wrong with them, 1 contradictions or duplicates, 2 a line cannot be read.
    """
    from salt_mirror.checks.common.falling import in_words
    from salt_mirror.cli.arguments import first_forward, open_estate, spec_of
    from salt_mirror.dns.errors import Unusable
    from salt_mirror.estate.forms import zone_name
    from salt_mirror.estate.sources import contradictions, read_expectations, read_given, write_expectations

    spec = spec_of(listing)
    asking = Asking(estate=estate, view=view)
    known = open_estate(asking)
    apex = zone_name(origin) if origin is not None else first_forward(asking, known)
    problems: list[Unusable] = []
    found = []
    for file in files:
        if file == "-":
            found += read_given(sys.stdin.buffer.read(), apex, problems, spec, known.networks)
        else:
            found += read_expectations(Path(file), apex, problems, spec, known.networks)
    wrong = contradictions(found)
    if json:
        from salt_mirror.report.json.expectations import expectations_json

        sys.stdout.buffer.write(expectations_json(found, problems, wrong, known if known.path else None, view))
        raise typer.Exit(2 if problems else 1 if wrong else 0)
    sys.stdout.buffer.write(clean_lines(write_expectations(found, to.value)).encode("utf-8"))
    for line in [*map(str, problems), *wrong, *(in_words(found, known, view) if known.path else [])]:
        tell(line)
    raise typer.Exit(2 if problems else 1 if wrong else 0)
