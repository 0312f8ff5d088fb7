"""`salt-mirror history`: the audits of the past, and the lives of findings."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated

import typer


def history(
    file: Annotated[Path, typer.Argument(metavar="FILE", help="The history that audit --history keeps.")],
    finding: Annotated[
        str | None, typer.Argument(metavar="[PATTERN]", help="A code or a name, or a pattern of either: their lives.")
    ] = None,
) -> None:
    """List the audits of the past, or the life of a finding."""
    from salt_mirror.keeping.history import lives_in, runs_in
    from salt_mirror.report.terminal.audit import print_lives, print_runs

    if finding is None:
        print_runs(runs_in(file), sys.stdout)
    else:
        print_lives(lives_in(file, finding), finding, sys.stdout)
