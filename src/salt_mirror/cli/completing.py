"""What a shell completes: zones, servers, views, groups and codes, as the estate and the catalogue have them.

Strategy: a shell asks at every press of a key, so nothing but the estate's text is read here, with the standard library, and no
check is brought in. What cannot be read completes nothing, and says nothing. How a shell asks is in `shells.py`.
"""

from __future__ import annotations

import inspect
import re
import tomllib
from collections.abc import Callable, Iterator
from importlib.resources import files
from pathlib import Path
from typing import Any, get_args

import typer
from typer.models import ArgumentInfo, OptionInfo

from salt_mirror.estate.errors import BadInput

OFFERED = re.compile(r"[A-Za-z0-9._:/@][A-Za-z0-9._:/@-]*")
"""What is offered. An estate may hold names that others gave, and a shell acts on nearly every other character; what begins
with a hyphen would be an option."""


def know_shells() -> None:
    """Have Typer know the shells that may ask."""
    from typer._completion_classes import completion_init

    completion_init()


def complete(command: Callable[..., Any]) -> None:
    """Give a command's arguments and options what completes them, by their names."""
    parameters = inspect.signature(command, eval_str=True).parameters.values()
    command.__annotations__ = {parameter.name: parameter.annotation for parameter in parameters}
    for parameter in parameters:
        _, *said = get_args(parameter.annotation) or (None,)
        for info in said:
            kinds = KINDS.get(f"{command.__name__} {parameter.name}", KINDS.get(parameter.name))
            if isinstance(info, ArgumentInfo | OptionInfo) and kinds is not None and info.autocompletion is None:
                info.autocompletion = _completer(kinds)


def _completer(kinds: tuple[str, ...]) -> Callable[[typer.Context, str], list[str]]:
    def completed(ctx: typer.Context, incomplete: str) -> list[str]:
        estate = _estate(ctx.params.get("estate"))
        words = dict.fromkeys(word for kind in kinds for word in _WORDS[kind](estate))
        return [word for word in words if word.startswith(incomplete) and OFFERED.fullmatch(word)]

    return completed


def _estate(path: Any) -> dict[str, Any]:
    """Return the estate as it stands in its file; nothing where it cannot be read."""
    try:
        return tomllib.loads(Path(path or "estate.toml").read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return {}


def _zones(estate: dict[str, Any]) -> Iterator[str]:
    yield from (str(zone["name"]) for zone in estate.get("zones", ()) if isinstance(zone, dict) and "name" in zone)


def _views(estate: dict[str, Any]) -> Iterator[str]:
    yield from (str(zone["view"]) for zone in estate.get("zones", ()) if isinstance(zone, dict) and "view" in zone)


def _resolvers(estate: dict[str, Any]) -> Iterator[str]:
    resolvers = estate.get("resolvers", {})
    yield from resolvers
    yield from (str(one["group"]) for one in resolvers.values() if isinstance(one, dict) and "group" in one)


def _vantages(estate: dict[str, Any]) -> Iterator[str]:
    vantages = estate.get("vantages", {})
    yield from vantages
    yield from (str(one["group"]) for one in vantages.values() if isinstance(one, dict) and "group" in one)
    yield "everywhere"


def _servers(estate: dict[str, Any]) -> Iterator[str]:
    yield from estate.get("servers", {})
    yield from _resolvers(estate)


def _codes(_: dict[str, Any]) -> Iterator[str]:
    text = (files("salt_mirror") / "catalogue.toml").read_text(encoding="utf-8")
    yield from (line[2:-2] for line in text.splitlines() if line.startswith('["') and not line.startswith('["*'))


def _checks(_: dict[str, Any]) -> Iterator[str]:
    from salt_mirror.checks import audited

    yield from (check.name for check in audited())


def _types(_: dict[str, Any]) -> Iterator[str]:
    from salt_mirror.dns.records import OFFERED as TYPES

    yield from TYPES


def _forms(_: dict[str, Any]) -> Iterator[str]:
    from salt_mirror.report.files import FORMS

    yield from (f"{form}:" for form in FORMS)


_WORDS: dict[str, Callable[[dict[str, Any]], Iterator[str]]] = {
    "zones": _zones, "views": _views, "resolvers": _resolvers, "servers": _servers, "codes": _codes, "checks": _checks,
    "types": _types, "forms": _forms, "vantages": _vantages,
}  # fmt: skip

KINDS: dict[str, tuple[str, ...]] = {
    "zones": ("zones",), "zone": ("zones",), "domains": ("zones",), "subjects": ("zones",),
    "names": ("zones",), "name": ("zones",), "origin": ("zones",), "words": ("zones", "types"), "vantage words": ("vantages",),
    "rdtype": ("types",),
    "at": ("servers",), "servers": ("resolvers",), "one": ("servers",), "another": ("servers",), "held_by": ("servers",),
    "view": ("views",), "word": ("codes", "checks"), "only": ("checks", "zones", "views", "codes"),
    "vantages": ("vantages",), "places": ("zones",), "skip": ("checks", "zones", "views", "codes"), "report": ("forms",),
}  # fmt: skip
"""What completes a parameter, by its name; with its command's before it where the name means something else there."""


def this_shell() -> str:
    """Return the shell that the program was called from. Raises BadInput where nobody knows."""
    import shellingham

    try:
        name = str(shellingham.detect_shell()[0])
    except shellingham.ShellDetectionFailure:
        name = "unknown"
    if name not in ("bash", "zsh", "fish", "powershell", "pwsh"):
        raise BadInput(f"this shell ({name}) is not one that completes; name one: bash, zsh, fish, powershell or pwsh")
    return name
