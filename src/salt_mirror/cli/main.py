"""The program `salt-mirror`: its commands, and what becomes of errors that an administrator can cause.

Strategy: this module and the signatures of the commands are all that `--help` imports; a command brings in what it needs
when it runs.
"""

from __future__ import annotations

import os
import sys
from typing import Annotated

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
    expect,
    explain,
    history,
    mail,
    pairs,
    rollcall,
    services,
    settle,
    snapshot,
)

USAGE = 2
INTERRUPTED = 130

app = typer.Typer(
    name="salt-mirror",
    no_args_is_help=True,
    add_completion=False,
    pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["-h", "--help"]},
    help="Checks that DNS records are registered, that forward and reverse agree, and that changes have propagated.",
    epilog="Exit status: 0 all agrees, 1 a fault, 2 wrong usage or input, 3 no fault but something is unverified.",
)
app.command("ask")(ask.ask)
app.command("pairs")(pairs.pairs)
app.command("rollcall")(rollcall.rollcall)
app.command("authority")(authority.authority)
app.command("descend")(descend.descend)
app.command("mail")(mail.mail)
app.command("services")(services.services)
app.command("budget")(budget.budget)
app.command("settle")(settle.settle)
app.command("snapshot")(snapshot.snapshot)
app.command("compare")(compare.compare)
app.command("audit")(audit.audit)
app.command("history")(history.history)
app.command("explain")(explain.explain)
app.command("expect")(expect.expect)
app.command("demo")(demo.demo)


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
    for stream in (sys.stdout, sys.stderr):
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(encoding="utf-8", errors="replace")
    try:
        app()
    except KeyboardInterrupt:
        print("Interrupted.", file=sys.stderr)  # noqa: T201
        sys.exit(INTERRUPTED)
    except BrokenPipeError:
        # Whoever read our output has seen enough; keep the interpreter from complaining at its end.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        sys.exit(0)
    except Exception as error:
        from salt_mirror.dns.errors import Unusable

        if not isinstance(error, Unusable):
            raise
        print(f"salt-mirror: {error}", file=sys.stderr)  # noqa: T201
        sys.exit(USAGE)
