"""How a command takes the options that commands have in common: the decorator that unfolds them into its signature.

Strategy: a command states parameters of the types in `options`; `takes` puts their fields in the place of each, as Typer reads
them, and puts the values together again for the call. Every start imports this module; the only
library that it imports is Typer.
"""

from __future__ import annotations

import functools
import inspect
from collections.abc import Callable
from dataclasses import MISSING, fields, replace
from typing import Annotated, Any, TypeVar, get_args, get_type_hints

from typer.models import ArgumentInfo

from salt_mirror.cli.options import DETAILS, PANELS, Asking, Showing

F = TypeVar("F", bound=Callable[..., Any])


def takes(*left_out: str, **words: str) -> Callable[[F], F]:
    """Unfold parameters of the types in `PANELS` into options of the command's own.

    `left_out` are options that the command has no use for; they keep their defaults. `words` say in other words what an
    option means here. What the file of `--names` has is added to the names that the command takes.
    """

    def unfold(command: F) -> F:
        groups: dict[str, tuple[type, list[str]]] = {}
        parameters: list[inspect.Parameter] = []
        own = list(inspect.signature(command, eval_str=True).parameters.values())
        takes_names = next((one.name for one in own if _takes_names(one)), "")
        without = left_out if takes_names and "listed" not in left_out else (*left_out, "listed")
        for parameter in own:
            if parameter.annotation in PANELS:
                unfolded = _options(parameter.annotation, without, words)
                groups[parameter.name] = parameter.annotation, [one.name for one in unfolded]
                parameters += unfolded
            else:
                parameters.append(parameter.replace(kind=inspect.Parameter.KEYWORD_ONLY))

        @functools.wraps(command)
        def run(**given: Any) -> Any:
            options = {one for _, names in groups.values() for one in names}
            strict = bool(given.get("strict"))
            about = _in_words(command, {key: value for key, value in given.items() if key not in options}, given)
            for name, (kind, names) in groups.items():
                given[name] = kind(**{one: given.pop(one) for one in names})
                if kind is Showing:
                    given[name] = replace(given[name], about=about)
                if kind is Asking:
                    given[name] = replace(given[name], strict=strict)

            def call(messenger: Any = None) -> Any:
                for name, (kind, _) in groups.items():
                    if kind is Showing:
                        given[name] = replace(given[name], messenger=messenger)
                    if kind in (Asking, Showing):
                        given[name].check()
                    if kind is Asking and given[name].listed is not None:
                        from salt_mirror.cli.outputs import names_in

                        given[takes_names] = [*(given[takes_names] or []), *names_in(given[name].listed)]
                return command(**given)

            showing = next((given[name] for name, (kind, _) in groups.items() if kind is Showing), None)
            if showing is None or not showing.notify or showing.history is None:
                return call()
            from salt_mirror.cli.arguments import estate_file
            from salt_mirror.cli.notifying import with_messages

            asking = next((given[name] for name, (kind, _) in groups.items() if kind is Asking), Asking())
            return with_messages(showing.notify, estate_file(asking.estate), showing.history, about, call)

        run.__signature__ = inspect.Signature(parameters)  # type: ignore[attr-defined]
        run.__annotations__ = {parameter.name: parameter.annotation for parameter in parameters}
        return run  # type: ignore[return-value]

    return unfold


def _takes_names(parameter: inspect.Parameter) -> bool:
    """Return whether a parameter is a list of arguments."""
    of_type, *said = get_args(parameter.annotation) or (None,)
    return any(isinstance(one, ArgumentInfo) for one in said) and "list[str]" in str(of_type)


def _in_words(command: Callable[..., Any], own: dict[str, Any], given: dict[str, Any]) -> str:
    """Return what a command was told to look at, as it might be typed: its own arguments and options, and those that choose
    whom it asks about what."""
    chosen = own | {key: given.get(key) for key in ("at", "view", "listed", "vantages")}
    words = [command.__name__.replace("_", "-")]
    for key, value in chosen.items():
        if value in (None, False, [], ""):
            continue
        several = value if isinstance(value, list) else [value]
        if key in own and isinstance(value, list):
            words += map(str, several)
        else:
            name = {"listed": "names", "vantages": "from"}.get(key, key.replace("_", "-"))
            words += [f"--{name}" if one is True else f"--{name} {one}" for one in several]
    return " ".join(words)


def shared_options() -> dict[str, list[tuple[str, str]]]:
    """Return the options that commands have in common, by the heading of the help: how each is written, and all that there is
    to know of it."""
    found: dict[str, list[tuple[str, str]]] = {}
    for kind, heading in PANELS.items():
        for parameter in _options(kind, (), {}):
            _, info = get_args(parameter.annotation)
            name = str(info.default)  # where Typer keeps the first name of an annotated option
            written = f"{name} {info.metavar}" if info.metavar else name
            found.setdefault(heading, []).append((written, f"{info.help} {DETAILS.get(name, '')}".strip()))
    return found


@functools.cache
def _hints(kind: type) -> dict[str, Any]:
    return get_type_hints(kind, include_extras=True)


def _options(kind: type, left_out: tuple[str, ...], words: dict[str, str]) -> list[inspect.Parameter]:
    return [
        _option(kind, field.name, words.get(field.name, ""))
        for field in fields(kind)
        if field.name not in left_out and get_args(_hints(kind)[field.name])
    ]


@functools.cache
def _option(kind: type, name: str, words: str) -> inspect.Parameter:
    """Return one of the shared options as a parameter, with its own words or other ones."""
    of_type, given = get_args(_hints(kind)[name])
    said = {"rich_help_panel": PANELS[kind]} | ({"help": words} if words else {})
    annotation: Any = Annotated[of_type, type(given)(**(vars(given) | said))]
    default = next(field.default for field in fields(kind) if field.name == name)
    assert default is not MISSING
    return inspect.Parameter(name, inspect.Parameter.KEYWORD_ONLY, default=default, annotation=annotation)
