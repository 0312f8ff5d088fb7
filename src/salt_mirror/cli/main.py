"""The program `salt-mirror`: its commands, and what becomes of errors that an administrator can cause.

Strategy: this module and the signatures of the commands are all that `--help` imports; a command brings in what it needs
when it runs.
"""

from __future__ import annotations

import errno
import functools
import os
import sys
from collections.abc import Callable
from typing import Annotated, Any

import typer

from salt_mirror import __version__
from salt_mirror.cli import (
    ask,
    audit,
    authority,
    budget,
    compare,
    demo,
    descend,
    differ,
    draft,
    expect,
    explain,
    from_here,
    history,
    mail,
    mend,
    pairs,
    resolvers,
    rollcall,
    services,
    settle,
    snapshot,
    stale,
    views,
)
from salt_mirror.cli.telling import NOBODY_READS, UNWRITTEN, USAGE, tell

app = typer.Typer(
    name="salt-mirror",
    no_args_is_help=True,
    add_completion=False,
    pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["-h", "--help"]},
    help="Checks that DNS records are registered, that forward and reverse agree, and that changes have propagated.",
    epilog="Exit status: 0 all agrees, 1 a fault, 2 wrong usage or input, 3 no fault but something is unverified, 4 an output "
    "could not be written, 130 interrupted.",
)
COMMANDS: dict[str, Callable[..., None]] = {
    "draft": draft.draft,
    "ask": ask.ask,
    "from-here": from_here.from_here,
    "pairs": pairs.pairs,
    "rollcall": rollcall.rollcall,
    "authority": authority.authority,
    "descend": descend.descend,
    "mail": mail.mail,
    "services": services.services,
    "views": views.views,
    "resolvers": resolvers.resolvers,
    "stale": stale.stale,
    "budget": budget.budget,
    "mend": mend.mend,
    "settle": settle.settle,
    "snapshot": snapshot.snapshot,
    "compare": compare.compare,
    "differ": differ.differ,
    "audit": audit.audit,
    "history": history.history,
    "explain": explain.explain,
    "expect": expect.expect,
    "demo": demo.demo,
}
"""Every command, in the order of the work."""


def _to_its_reader(command: Callable[..., None]) -> Callable[..., None]:
    """The command with its output brought to whoever reads it; one who has seen enough and closed the pipe ends it quietly."""

    @functools.wraps(command)
    def run(*given: Any, **named: Any) -> None:
        try:
            try:
                command(*given, **named)
            finally:
                sys.stdout.flush()
                if 1 in _closed:
                    raise OSError(errno.ENOSPC, "it is closed")
        except BrokenPipeError:
            _say_no_more()
            raise SystemExit(NOBODY_READS) from None
        except OSError as error:
            if error.errno not in _FULL:
                raise
            _say_no_more()
            tell(f"standard output cannot be written: {error.strerror}")
            raise SystemExit(UNWRITTEN) from None

    return run


_FULL = frozenset(getattr(errno, name, -1) for name in ("ENOSPC", "EDQUOT", "EFBIG", "EIO"))
_closed: set[int] = set()


def _say_no_more() -> None:
    """Sends what is still to be flushed at the end to nowhere."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def _open_what_is_closed() -> None:
    """Puts the null device in the place of a standard stream that was closed, lest a socket or a file gets its number."""
    for number, flags in ((0, os.O_RDONLY), (1, os.O_WRONLY), (2, os.O_WRONLY)):
        try:
            os.fstat(number)
        except OSError:
            _closed.add(number)
            handle = os.open(os.devnull, flags)
            if handle != number:
                os.dup2(handle, number)
                os.close(handle)
    if sys.stdin is None:
        sys.stdin = open(0, encoding="utf-8", closefd=False)  # noqa: SIM115
    if sys.stdout is None:
        sys.stdout = open(1, "w", encoding="utf-8", closefd=False)  # noqa: SIM115
    if sys.stderr is None:
        sys.stderr = open(2, "w", encoding="utf-8", closefd=False)  # noqa: SIM115


for _name, _command in COMMANDS.items():
    app.command(_name)(_to_its_reader(_command))


def _version(wanted: bool) -> None:
    if wanted:
        typer.echo(f"salt-mirror {__version__}")
        raise typer.Exit


@app.callback()
def _options(
    version: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Print the version and end.")
    ] = False,
) -> None:
    pass


def main() -> None:
    """Runs the program; no traceback reaches the user for anything that a user can cause."""
    _open_what_is_closed()
    for stream in (sys.stdout, sys.stderr):
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(encoding="utf-8", errors="replace")
    try:
        app()
    except Exception as error:
        from salt_mirror.dns.errors import Unusable

        if not isinstance(error, Unusable):
            raise
        tell(error)
        sys.exit(USAGE)
