"""Words of a command line that are plainly good, taken as they stand.

Strategy: newer versions of Typer have every value, also those that nobody typed, looked at by pydantic, which takes longer
to load than most commands take. A text, a number within its bounds, a file's name or one of a few words need none of that.
Whatever is not plainly good goes Typer's own way, which also has the words for what is wrong; so does all of it where Typer
does not say what it expects (`type_descriptor`, a private part: a test fails where a version with pydantic lacks it).

The reason to keep it is a figure: a command that asks one question takes 0.30 s of processor time with Typer 0.29.2, and
0.64 s without this module (`python bench/startup.py`). Where that is less than a tenth of a second the module can go.
"""

from __future__ import annotations

import os
from enum import Enum
from functools import partial
from pathlib import Path
from typing import Any, Literal, get_args, get_origin

from typer.core import TyperCommand, TyperGroup

from salt_mirror.dns.names import shown
from salt_mirror.estate.errors import BadInput, nearest_word

UNSURE = object()
"""Stands for a value that Typer has to look at."""
_LONGEST = 15
_LIKELY = 0.75
_NOTHING_SAID = {
    "exists": False, "file_okay": True, "dir_okay": True, "writable": False, "readable": True, "resolve_path": False,
    "path_type": None, "parser": None, "click_type": None, "case_sensitive": True,
}  # fmt: skip


class Command(TyperCommand):
    """A command that takes plain words as they stand."""

    def get_params(self, ctx: Any) -> list[Any]:
        """Return all that may be typed, `--help` too."""
        return [_taken_plainly(param) for param in super().get_params(ctx)]

    def parse_args(self, ctx: Any, args: list[str]) -> list[str]:
        """Parse the words; of options that are alike only those are suggested that were likely meant."""
        try:
            return super().parse_args(ctx, args)
        except Exception as error:
            wrong: Any = error
            if getattr(error, "possibilities", None) and hasattr(error, "option_name"):
                near = nearest_word(wrong.option_name, wrong.possibilities, _LIKELY)
                wrong.possibilities = [near] if near is not None else None
            raise


class PlainGroup(TyperGroup):
    """The same for the program itself. `obj` of its context brings a command in that only stands in the list."""

    def resolve_command(self, ctx: Any, args: list[str]) -> Any:
        """Return the command that was typed, with what it needs."""
        name, command, rest = super().resolve_command(ctx, args)
        return name, command if command is None or isinstance(command, Command) else ctx.obj(name), rest

    def get_params(self, ctx: Any) -> list[Any]:
        """Return all that may be typed before a command, `--help` too."""
        return [_taken_plainly(param) for param in super().get_params(ctx)]


def _taken_plainly(param: Any) -> Any:
    expected: Any = getattr(param, "type_descriptor", None)
    info = getattr(expected, "parameter_info", None)
    if info is not None and all(getattr(info, key, said) == said for key, said in _NOTHING_SAID.items()):
        param.process_value = partial(_process, param, expected.annotation, info)
    if expected is not None and (expected.annotation is bool or param.param_type_name == "argument"):
        # "--json <bool>" would look as if it wanted a value, and "<list[str]>" says nothing that the metavar does not say.
        param.display_type_rich = lambda **_: None
    least, most = getattr(param, "min", None), getattr(param, "max", None)
    if least is not None and most is not None:
        param._get_number_range_help_str = lambda: f"{least:g} to {most:,.12g}"
    return param


def _process(param: Any, expected: Any, info: Any, context: Any, value: Any) -> Any:
    if value is None:
        found = () if param.multiple or param.nargs == -1 else None
    else:
        found = plain(expected, value, least=info.min, most=info.max)
    if found is UNSURE and isinstance(value, str) and not value.isprintable() and expected is not Path:
        raise BadInput(f"{param.opts[0]}: {shown(value)} is nothing that it takes")  # Typer would repeat it as it is
    if found is UNSURE or (param.required and param.value_is_missing(found)):
        return type(param).process_value(param, context, value)
    return found if param.callback is None else param.callback(context, param, found)


def plain(expected: Any, value: Any, *, least: float | None = None, most: float | None = None) -> Any:
    """Return a value of the expected type, where it is plainly one; else UNSURE. Numbers have to be between `least` and
    `most`."""
    parts = get_args(expected)
    if isinstance(value, (list, tuple)):
        kind = get_origin(expected)
        if kind not in (list, tuple) or (kind is tuple and len(parts) != len(value)):
            return UNSURE
        found = [
            plain(part, one) for part, one in zip(parts * len(value) if kind is list else parts, value, strict=False)
        ]
        return UNSURE if UNSURE in found else kind(found)
    if not isinstance(value, str):
        return value if isinstance(expected, type) and isinstance(value, expected) else UNSURE
    if expected is str:
        return value
    if expected in (int, float):
        return _number(expected, value, least, most)
    if expected is Path:
        return Path(value) if not os.path.exists(value) or os.access(value, os.R_OK) else UNSURE  # noqa: PTH110
    if get_origin(expected) is Literal:
        return value if value in parts else UNSURE
    if isinstance(expected, type) and issubclass(expected, Enum):
        return next((one for one in expected if one.value == value), UNSURE)
    return UNSURE


def _number(expected: type, text: str, least: float | None, most: float | None) -> Any:
    whole, _, part = text.partition(".")
    digits = whole + part
    if not (whole and digits.isascii() and digits.isdigit() and len(digits) <= _LONGEST):
        return UNSURE
    if "." in text and (expected is int or not part):
        return UNSURE
    number = expected(text)
    return number if (least is None or number >= least) and (most is None or number <= most) else UNSURE
