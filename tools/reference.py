"""Writes the generated references: docs/options.md, docs/estate-reference.md and the manual page: python tools/reference.py"""

from __future__ import annotations

import re
import sys
import typing
from enum import StrEnum
from pathlib import Path
from typing import Any

import msgspec
import typer.main
from typer.models import DefaultPlaceholder

from salt_mirror import __version__
from salt_mirror.cli.main import program
from salt_mirror.cli.registry import COMMANDS, by_phase
from salt_mirror.cli.signatures import shared_options
from salt_mirror.estate import file as estate_file

ROOT = Path(__file__).parents[1]
EXIT = "Exit status: 0 all that was checked agrees, 1 a fault, 2 wrong usage or input, 3 no fault but something is unverified, "
EXIT += "4 an output could not be written, 5 all else is well and a message could not be delivered, "
EXIT += "70 an error that nobody expected, 130 interrupted."


class Parameter(typing.NamedTuple):
    """An argument or option: how it is written, what it means, under what heading it stands."""

    written: str
    says: str
    panel: str


def commands() -> dict[str, tuple[str, list[Parameter]]]:
    """Every command with its text and its parameters."""
    app: Any = typer.main.get_command(program())
    found = {}
    for name, command in app.commands.items():
        told = []
        for one in command.params:
            if getattr(one, "hidden", False):
                continue
            argument = one.param_type_name == "argument"
            panel = getattr(one, "rich_help_panel", None)
            panel = "" if isinstance(panel, DefaultPlaceholder) else panel or ""
            told.append(Parameter(_written(one, argument=argument), _words(one), panel))
        found[name] = (" ".join((command.help or "").split("\f")[0].split()), told)
    return found


def _written(one: Any, *, argument: bool) -> str:
    if argument:
        return str(one.metavar or one.name.upper())
    names = ", ".join(one.opts)
    if one.is_bool_flag:
        return names
    wants = one.metavar or _choices(one.type_descriptor.annotation)
    return f"{names} {wants}"


def _words(one: Any) -> str:
    """All that is said of a parameter: the help's words, and what else there is to know of an option that commands share."""
    words = " ".join((one.help or "").split())
    shared = {written.split()[0]: says for options in shared_options().values() for written, says in options}
    detail = shared.get(one.opts[0], "") if one.opts else ""
    return detail if detail.startswith(words) else words


def _choices(of_type: Any) -> str:
    """The words that an option takes."""
    kinds = [of_type, *typing.get_args(of_type)]
    for kind in kinds:
        if isinstance(kind, type) and issubclass(kind, StrEnum):
            return "|".join(word.value for word in kind)
    words = [str(word) for kind in kinds if typing.get_origin(kind) is typing.Literal for word in typing.get_args(kind)]
    return "|".join(words) or "VALUE"


def options_page() -> str:
    """docs/options.md."""
    lines = [
        "# Options",
        "",
        "Generated from the program by `make reference`; `salt-mirror COMMAND --help` shows the same.",
        "",
    ]
    every = commands()
    for phase, entries in by_phase().items():
        lines += [f"## {phase}", ""]
        for entry in entries:
            says, told = every[entry.name]
            lines += [f"### `salt-mirror {entry.name}`", "", says, "", "| | meaning |", "|---|---|"]
            lines += [
                f"| `{one.written.replace('|', chr(92) + '|')}` | {one.says.replace('|', chr(92) + '|')} |"
                for one in told
            ]
            lines += ["", "```sh", *(f"salt-mirror {typed}    # {what}" for typed, what in entry.examples), "```", ""]
    return "\n".join([*lines, EXIT, ""])


# The estate


def estate_page() -> str:
    """docs/estate-reference.md."""
    lines = [
        "# The estate's tables and keys", "",
        "Generated from the model by `make reference`. Unknown keys are errors that name the nearest known one; relative "
        "paths are relative to the estate file. [estate.md](estate.md) tells how it is used.", "",
    ]  # fmt: skip
    lines += ["## The top of the file", "", *_table(estate_file.EstateFile, simple=True)]
    written = {"zones": "[[zones]]", "directories": "[[directories]]", "accept": "[[accept]]", "same": "[[same]]"}
    written |= {"inside_only": "[[inside_only]]", "bounds": "[bounds]", "resolver_tests": "[resolver_tests]"}
    for key, kind in estate_file._ENTRIES.items():
        lines += ["", f"## `{written.get(key, f'[{key}.NAME]')}`", "", *_said(kind), *_table(kind)]
        if key == "notify":
            for way, inner in estate_file._WAYS.items():
                lines += ["", f"### `{way}` of `[notify.NAME]`", "", *_said(inner), *_table(inner)]
    lines += [
        "",
        "## An entry of `expect` as a table",
        "",
        *_said(estate_file.SourceEntry),
        *_table(estate_file.SourceEntry),
    ]
    return "\n".join(lines) + "\n"


def _said(kind: type) -> list[str]:
    text = re.sub(r"\n {4}", "\n", kind.__doc__ or "")
    return [*text.strip().splitlines(), ""]


def _table(kind: type[msgspec.Struct], *, simple: bool = False) -> list[str]:
    rows = ["| key | kind | without it |", "|---|---|---|"]
    for one in msgspec.structs.fields(kind):
        of_type = _kind(one.type)
        if simple and "table" in of_type:
            continue
        rows.append(f"| `{one.encode_name}` | {of_type} | {_default(one)} |")
    return rows


_WORDS = {str: "text", int: "whole number", float: "number", bool: "true or false"}


def _kind(of_type: Any) -> str:
    origin, inner = typing.get_origin(of_type), typing.get_args(of_type)
    if of_type in _WORDS:
        return _WORDS[of_type]
    if origin is list:
        return f"list of {_kind(inner[0])}"
    if origin is dict:
        return f"table of {_kind(inner[1])}"
    if origin is typing.Literal:
        return " or ".join(f"`{word}`" for word in inner)
    if inner:
        return " or ".join(dict.fromkeys(_kind(one) for one in inner if one is not type(None)))
    return (
        "table"
        if isinstance(of_type, type) and issubclass(of_type, msgspec.Struct)
        else getattr(of_type, "__name__", "text")
    )


def _default(one: Any) -> str:
    if one.required:
        return "has to be given"
    value = one.default_factory() if one.default is msgspec.NODEFAULT else one.default
    if value in (None, "", [], {}) or isinstance(value, msgspec.Struct):
        return ""
    return f"`{str(value).lower() if isinstance(value, bool) else value}`"


# The manual page


def _roff(text: str) -> str:
    text = text.replace("\\", "\\e").replace("-", "\\-")
    return f"\\&{text}" if text.startswith((".", "'")) else text


def manual_page() -> str:
    """The manual page, in man(7)."""
    lines = [
        f'.TH SALT\\-MIRROR 1 "" "Salt Mirror {__version__}" "User Commands"', ".SH NAME",
        "salt\\-mirror \\- checks that DNS records are registered, agree, and have propagated", ".SH SYNOPSIS",
        ".B salt\\-mirror", ".I COMMAND", "[\\fIOPTIONS\\fR] [\\fIARGUMENTS\\fR]", ".SH DESCRIPTION",
        _roff("Asks all authoritative servers at once, compares, and says what disagrees, where, why, and what would mend it. "
              "What could not be asked is unverified, never missing. An estate file says which zones, servers and records "
              "there are; without one, every command works on what is named."),
    ]  # fmt: skip
    every = commands()
    for phase, entries in by_phase().items():
        lines.append(f".SH {phase.upper()}")
        for entry in entries:
            says, told = every[entry.name]
            lines += [f".SS {_roff(entry.name)}", _roff(says)]
            for one in told:
                if not one.panel:
                    lines += [".TP", f".B {_roff(one.written)}", _roff(one.says)]
            lines += [".PP", "Examples:"]
            for typed, what in entry.examples:
                lines += [".TP", f".B salt\\-mirror {_roff(typed)}", _roff(what)]
    shared: dict[str, dict[str, Parameter]] = {one.panel: {} for _, told in every.values() for one in told if one.panel}
    for _, told in every.values():
        for one in told:
            if one.panel:
                shared[one.panel].setdefault(one.written, one)
    for panel, found in shared.items():
        lines.append(f".SH {_roff(panel.upper())}")
        for one in found.values():
            lines += [".TP", f".B {_roff(one.written)}", _roff(one.says)]
    lines += [".SH EXIT STATUS", _roff(EXIT.removeprefix("Exit status: ")), ".SH FILES", ".TP", ".I estate.toml"]
    lines += ["The estate, read from the current folder where no other is named."]
    return "\n".join(lines) + "\n"


def readme() -> str:
    """README.md with its table of commands as the registry has them."""
    text = (ROOT / "README.md").read_text(encoding="utf-8")
    head = "| | command | what it answers |\n|---|---|---|\n"
    before, _, rest = text.partition(head)
    phases = [entry.phase for entry in COMMANDS]
    rows = [
        f"| {'' if entry.phase in phases[:number] else entry.phase.lower()} | `{entry.name}` | {entry.answers} |"
        for number, entry in enumerate(COMMANDS)
    ]
    return before + head + "\n".join(rows) + "\n\n" + rest.partition("\n\n")[2]


PAGES = {
    ROOT / "README.md": readme,
    ROOT / "docs" / "options.md": options_page,
    ROOT / "docs" / "estate-reference.md": estate_page,
    ROOT / "docs" / "man" / "salt-mirror.1": manual_page,
}

if __name__ == "__main__":
    for path, made in PAGES.items():
        path.parent.mkdir(exist_ok=True)
        path.write_text(made(), encoding="utf-8", newline="\n")
        sys.stdout.write(f"wrote {path}\n")
