"""The program `salt-mirror`: its commands, and what becomes of errors that an administrator can cause.

Strategy: a run imports this module and the signature of the command that was typed, and `--help` none; a command brings in what
it needs when it runs.
"""

from __future__ import annotations

import errno
import functools
import os
import sys
from collections.abc import Callable, Iterable
from enum import StrEnum
from importlib import import_module
from typing import Annotated, Any

import typer

from salt_mirror import __version__
from salt_mirror.cli.messages import NOBODY_READS, UNWRITTEN, USAGE, show, tell
from salt_mirror.cli.registry import COMMANDS, NAMES, CommandEntry, overview
from salt_mirror.cli.words import Command, PlainGroup
from salt_mirror.estate.errors import BadInput


class Shell(StrEnum):
    """A shell that completes."""

    BASH = "bash"
    ZSH = "zsh"
    FISH = "fish"
    POWERSHELL = "powershell"
    PWSH = "pwsh"


def program(names: Iterable[str] = tuple(NAMES)) -> typer.Typer:
    """Return the program with some of its commands: a run brings in only the one that was typed."""
    app = typer.Typer(
        name="salt-mirror",
        cls=PlainGroup,
        no_args_is_help=True,
        add_completion=False,
        pretty_exceptions_enable=False,
        context_settings={"help_option_names": ["-h", "--help"]},
        help="Checks that DNS records are registered, that forward and reverse agree, and that changes have propagated.",
        epilog="Exit status: 0 all agrees, 1 a fault, 2 wrong usage or input, 3 no fault but something is unverified, 4 an "
        "output could not be written, 5 a message could not be delivered, 70 an internal error, 130 interrupted.",
    )
    for name in names:
        entry = NAMES[name]
        command: Callable[..., None] = getattr(import_module(f"salt_mirror.cli.{entry.function}"), entry.function)
        if COMPLETING in os.environ:
            from salt_mirror.cli.completing import complete

            complete(command)
        app.command(name, cls=Command, rich_help_panel=entry.phase, epilog=_examples(entry), help=_unwrapped(command))(
            _to_its_reader(command)
        )
    app.callback()(_options)
    return app


def _listing() -> typer.Typer:
    """Return the program with all commands by their names and what they answer, none of them brought in: a command is when it
    is called, so that what is said of the whole takes no more time than what is said of one."""
    app = program(())
    for entry in COMMANDS:
        says = entry.answered
        app.command(entry.name, rich_help_panel=entry.phase, help=says[0].upper() + says[1:])(_nothing)
    return app


def _nothing() -> None:
    """Stand for a command that is brought in when it is called."""


def _brought_in(name: str) -> Any:
    """Return a command as the program has it when it is typed."""
    group: Any = typer.main.get_command(program([name]))
    return group.commands[name]


def _unwrapped(command: Callable[..., None]) -> str:
    """Return a command's docstring with each paragraph on one line: Typer keeps the line ends of all but the first."""
    paragraphs = (command.__doc__ or "").split("\n\n")
    return "\n\n".join(" ".join(paragraph.split()) for paragraph in paragraphs)


def _examples(entry: CommandEntry) -> str:
    """Return the examples of a command, each on a line of its own."""
    typed = [f"salt-mirror {typed}  # {says}" for typed, says in entry.examples]
    more = "More on the options that commands share: salt-mirror explain options"
    return "\n\n".join(["Examples:", *typed, *([more] if entry.phase != "Estate" else [])])


def _to_its_reader(command: Callable[..., None]) -> Callable[..., None]:
    """Return the command with its output brought to whoever reads it; one who has seen enough and closed the pipe ends it
    quietly."""

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
    """Send what is still to be flushed at the end to nowhere."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def _open_what_is_closed() -> None:
    """Put the null device in the place of a standard stream that was closed, lest a socket or a file gets its number."""
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


def _version(wanted: bool) -> None:
    if wanted:
        typer.echo(f"salt-mirror {__version__}")
        raise typer.Exit


def _install(shell: Shell | None) -> None:
    """Install the completion for a shell, or say how it is done by hand."""
    if shell is not None:
        from salt_mirror.cli.shells import install

        try:
            path = install(shell.value)
        except OSError as error:
            raise BadInput(f"--install-completion: {shell.value}: {error}") from None
        typer.echo(f"{shell.value} completes salt-mirror now, by {path}; a new terminal has it.")
        raise typer.Exit


def _show(shell: Shell | None) -> None:
    if shell is not None:
        from salt_mirror.cli.shells import script

        typer.echo(script(shell.value), nl=False)
        raise typer.Exit


def _options(
    version: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Print the version and end.")
    ] = False,
    install_completion: Annotated[
        Shell | None,
        typer.Option(
            "--install-completion",
            callback=_install,
            is_eager=True,
            show_default=False,
            help="Let a shell complete commands, options, and what the estate names; this shell where none is named.",
        ),
    ] = None,
    show_completion: Annotated[
        Shell | None,
        typer.Option(
            "--show-completion",
            callback=_show,
            is_eager=True,
            show_default=False,
            help="Print what that would install.",
        ),
    ] = None,
) -> None:
    pass


COMPLETING = "_SALT_MIRROR_COMPLETE"
"""The variable by which a shell asks for completions."""


def _typed() -> str:
    """Return the command that was typed, or that a shell wants completed."""
    if COMPLETING not in os.environ:
        return sys.argv[1] if len(sys.argv) > 1 else ""
    words = os.environ.get("_TYPER_COMPLETE_ARGS", os.environ.get("COMP_WORDS", "")).split()
    # The last word may still be typed: a command is sure once something stands behind it.
    behind = len(words) > 2 or (
        os.environ.get("COMP_CWORD", "0").isdigit() and int(os.environ.get("COMP_CWORD", "0")) > 1
    )
    return words[1] if len(words) > 1 and behind else ""


def _check_words(words: list[str]) -> None:
    """Raise BadInput for an option or a command that would act on the terminal where an error repeats it."""
    from salt_mirror.dns.names import shown

    for number, word in enumerate(words):
        named = word.partition("=")[0]
        if (number == 0 or word.startswith("-")) and not named.isprintable():
            raise BadInput(f"{shown(named)} is no command or option; salt-mirror --help lists them")


def _name_the_shell(words: list[str]) -> None:
    """Complete an option that wants a shell, and have none, by the one that the program was called from."""
    if words[-1] in ("--install-completion", "--show-completion"):
        from salt_mirror.cli.completing import this_shell

        words.append(this_shell())


def main() -> None:
    """Run the program; no traceback reaches the user for anything that a user can cause."""
    _open_what_is_closed()
    for stream in (sys.stdout, sys.stderr):
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(encoding="utf-8", errors="replace")
    try:
        _check_words(sys.argv[1:])
        _name_the_shell(sys.argv)
        if len(sys.argv) == 1 and COMPLETING not in os.environ:
            show(overview())
            return
        typed = _typed()
        if COMPLETING in os.environ:
            from salt_mirror.cli.completing import know_shells

            know_shells()
        app = program([typed]) if typed in NAMES else _listing()
        app(prog_name="salt-mirror", obj=_brought_in)
    except Exception as error:
        from salt_mirror.dns.errors import Unusable

        if not isinstance(error, Unusable):
            raise
        tell(error)
        sys.exit(USAGE)
