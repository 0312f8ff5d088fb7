"""`salt-mirror demo`: a made-up saltworks on loopback, with planted faults, to look at and to try things on."""

from __future__ import annotations

import contextlib
import tempfile
import threading
from pathlib import Path
from typing import Annotated

import typer

MARK = ".salt-mirror-demo"
"""The file by which the demo knows a folder of its own."""


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
        else:
            _take(folder)
        if stay:
            _stay(folder)
        else:
            from salt_mirror.demo.tour import tour

            raise typer.Exit(1 if tour(folder, typer.echo) else 0)


def _take(folder: Path) -> None:
    """Makes a folder the demo's: one that is empty, or that the demo has made before. Raises BadInput for any other."""
    from salt_mirror.estate.errors import BadInput
    from salt_mirror.keeping.writing import write_whole

    mark = folder / MARK
    try:
        folder.mkdir(parents=True, exist_ok=True)
        if any(folder.iterdir()) and not mark.is_file():
            raise BadInput(
                f"--folder: {folder} is not empty, and the demo has not made it; name an empty folder, or one that is not there"
            )
    except OSError as error:
        raise BadInput(f"--folder: {folder} cannot be used: {error.strerror}") from None
    write_whole(mark, "What is in this folder was made by salt-mirror demo, which writes it anew.\n", "--folder")


def _stay(folder: Path) -> None:
    from salt_mirror.demo.world import gullmarsh

    with gullmarsh(folder.resolve()) as (estate, _):
        typer.echo(f"ready: salt-mirror pairs --estate {estate}")
        with contextlib.suppress(KeyboardInterrupt):
            threading.Event().wait()
