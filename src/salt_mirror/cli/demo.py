"""`salt-mirror demo`: a made-up saltworks on loopback, with planted faults, to look at and to try things on."""

from __future__ import annotations

import contextlib
import sys
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
    whole: Annotated[
        bool, typer.Option("--whole", help="Show every command, not only the most important ones.")
    ] = False,
    vantages: Annotated[
        bool, typer.Option("--vantages", help="Show what three desks see that ask for us, each with another resolver.")
    ] = False,
) -> None:
    """Show the most important commands on Gullmarsh Saltworks, a made-up estate on loopback with planted faults.

    Nothing leaves this computer. With --stay the servers run until they are interrupted, for commands of your own.
    """
    with contextlib.ExitStack() as stack:
        if folder is None:
            folder = Path(stack.enter_context(tempfile.TemporaryDirectory(prefix="gullmarsh-")))
        else:
            _take(folder)
        if vantages:
            _check_extra()
        if stay:
            _stay(folder, vantages=vantages)
        else:
            from salt_mirror.demo.tour import tour, tour_of_vantages

            if vantages:
                wrong = tour_of_vantages(folder.resolve(), typer.echo, _wait)
            else:
                wrong = tour(folder.resolve(), typer.echo, _wait, whole=whole)
            raise typer.Exit(1 if wrong else 0)


def _wait(prompt: str) -> None:
    """Wait for Enter on a terminal, where somebody reads."""
    from salt_mirror.cli.messages import show

    if sys.stdin.isatty() and sys.stdout.isatty():
        show(f"\n[{prompt}; Ctrl-C ends] ")
        sys.stdin.readline()


def _take(folder: Path) -> None:
    """Make a folder the demo's: one that is empty, or that the demo has made before. Raises BadInput for any other."""
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


def _check_extra() -> None:
    """Raise BadInput where vantages cannot be shown."""
    from importlib.util import find_spec

    if find_spec("paho") is None or find_spec("cryptography") is None:
        from salt_mirror.cli.vantage.asking import EXTRA
        from salt_mirror.estate.errors import BadInput

        raise BadInput(f"--vantages: {EXTRA}")


def _stay(folder: Path, *, vantages: bool) -> None:
    from salt_mirror.demo.world import gullmarsh

    with contextlib.ExitStack() as stack:
        # In real time, so that `settle` behaves as it does elsewhere: caches that are fast look like pools of several.
        estate, servers = stack.enter_context(gullmarsh(folder.resolve(), speed=1.0))
        if vantages:
            from salt_mirror.demo.vantages import stationed

            stack.enter_context(stationed(estate, servers))
        typer.echo(f"ready: salt-mirror {'vantage list' if vantages else 'pairs'} --estate {estate}")
        with contextlib.suppress(KeyboardInterrupt):
            threading.Event().wait()
