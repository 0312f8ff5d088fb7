"""`salt-mirror demo`: a made-up saltworks on loopback, with planted faults, to look at and to try things on."""

from __future__ import annotations

import contextlib
import tempfile
import threading
from pathlib import Path
from typing import Annotated

import typer


def demo(
    stay: Annotated[
        bool, typer.Option("--stay", help="Start the servers and keep them, so that commands can be tried on them.")
    ] = False,
    folder: Annotated[
        Path | None,
        typer.Option(
            "--folder", metavar="DIR", help="Where the estate and the zone files are written.", show_default=False
        ),
    ] = None,
) -> None:
    """Show the commands on Gullmarsh Saltworks, a made-up estate on loopback with planted faults.

    Nothing leaves this computer. With --stay the servers run until they are interrupted.
    """
    with contextlib.ExitStack() as stack:
        if folder is None:
            folder = Path(stack.enter_context(tempfile.TemporaryDirectory(prefix="gullmarsh-")))
        try:
            folder.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            from salt_mirror.estate.errors import BadInput

            raise BadInput(f"--folder: {folder} cannot be used: {error.strerror}") from None
        if stay:
            _stay(folder)
        else:
            from salt_mirror.demo.tour import tour

            raise typer.Exit(1 if tour(folder, typer.echo) else 0)


def _stay(folder: Path) -> None:
    from salt_mirror.demo.world import gullmarsh

    with gullmarsh(folder.resolve()) as (estate, _):
        typer.echo(f"ready: salt-mirror pairs --estate {estate}")
        with contextlib.suppress(KeyboardInterrupt):
            threading.Event().wait()
