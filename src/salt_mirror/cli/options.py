"""The options that commands have in common: how to ask, and how to show what came of it.

Strategy: a few dataclasses hold them, each option with its words, once. A command takes them as parameters of these types, and
the decorator unfolds them into its signature, which is what Typer reads; so a command states only what is its own, and a new
common option is written here alone. This module is imported by every start, and imports
nothing but Typer. It is longer than others, since all that commands share is to be found in one place.
"""

from __future__ import annotations

import functools
import inspect
from collections.abc import Callable
from dataclasses import MISSING, dataclass, fields, replace
from enum import StrEnum
from pathlib import Path
from typing import Annotated, Any, TypeVar, get_args, get_type_hints

import typer
from typer.models import ArgumentInfo

from salt_mirror.report.files import FORMS

LEAST_PACE = 0.1

F = TypeVar("F", bound=Callable[..., Any])


DETAILS: dict[str, str] = {}
"""What is to be said of an option beside the few words of its help, by its name: for `explain`, the pages and the manual."""


def option(name: str, metavar: str | None, words: str, *, detail: str = "", **more: Any) -> Any:
    """Return an option of Typer's. `words` are those of the help, which has one line for each of the options that commands
    have in common; `detail` is what else there is to know."""
    if detail:
        DETAILS[name] = detail
    return typer.Option(name, metavar=metavar, help=words, show_default=False, **more)


_FAMILY = "Servers without such an address are left out, and a remark names them."


@dataclass(frozen=True, slots=True)
class Asking:
    """How to ask, and whom. Times in seconds, `pace` in questions a second to each server. `strict` is what the command shows
    by: lists with rows that cannot be used are then refused."""

    estate: Annotated[
        Path | None,
        option("--estate", "FILE", "The estate file.", detail="Without it, estate.toml in the current folder."),
    ] = None
    at: Annotated[
        list[str] | None,
        option(
            "--at",
            "SERVER",
            "Ask this server about everything.",
            detail="SERVER is a name from the estate, an address, address:port, a host name, tcp://…, tls://… or https://…. "
            "May be repeated, or several separated by commas.",
        ),
    ] = None
    view: Annotated[str | None, option("--view", "VIEW", "Only this view of the estate.")] = None
    transfer: Annotated[
        bool,
        option(
            "--transfer",
            None,
            "Take whole zones, and ask less.",
            detail="The estate's zones are taken by transfer where their servers allow it.",
        ),
    ] = False
    pace: Annotated[
        float | None,
        option(
            "--pace",
            "N",
            "Questions a second to a server.",
            detail="Without it: 2000 for the estate's authoritative servers while networks are swept, "
            "else no limit for them, none on loopback, 200 for any other. 0 lifts the first.",
            min=0,
            max=1e6,
        ),
    ] = None
    timeout: Annotated[
        float,
        option(
            "--timeout",
            "SECONDS",
            "The wait for a first try: 1 s.",
            detail="Each next try waits twice as long.",
            min=0.01,
            max=60,
        ),
    ] = 1.0
    tries: Annotated[int, option("--tries", "N", "Tries for each question: 3.", min=1, max=10)] = 3
    ipv4_only: Annotated[bool, option("--ipv4-only", None, "Only ask at IPv4 addresses.", detail=_FAMILY)] = False
    ipv6_only: Annotated[bool, option("--ipv6-only", None, "Only ask at IPv6 addresses.", detail=_FAMILY)] = False
    strict: bool = False
    listed: Annotated[
        Path | None,
        option(
            "--names",
            "FILE",
            "Names from a file, too.",
            detail="One a line, # for remarks; - is standard input.",
        ),
    ] = None

    def check(self) -> None:
        """Raise BadInput for options that contradict each other, and for a pace at which nothing would ever end."""
        if self.ipv4_only and self.ipv6_only:
            from salt_mirror.estate.errors import BadInput

            raise BadInput("--ipv4-only and --ipv6-only: one of them; without either, both are used")
        if self.pace is not None and not (self.pace == 0 or self.pace >= LEAST_PACE):
            from salt_mirror.estate.errors import BadInput

            raise BadInput(f"--pace: {self.pace} is no pace; expected questions a second from {LEAST_PACE} on, or 0")


@dataclass(frozen=True, slots=True)
class Where:
    """From where to ask."""

    vantages: Annotated[
        list[str] | None,
        option(
            "--from",
            "VANTAGE|GROUP",
            "Ask from other machines.",
            detail="VANTAGE is one that runs `vantage join`, GROUP several of them, `everywhere` all. May be repeated, or "
            "several separated by commas.",
        ),
    ] = None


class FailOn(StrEnum):
    """What lets a run fail, for pipelines."""

    NEW = "new"
    FAULT = "fault"
    CAUTION = "caution"
    NEVER = "never"


@dataclass(frozen=True, slots=True)
class Showing:
    """How to show what was found, and what to write of it. `about` is what the command was told to look at, in words: runs
    about the same are held against each other in a history."""

    faults: Annotated[bool, option("--faults", None, "Only show faults.")] = False
    all: Annotated[bool, option("--all", None, "Also show what agrees.", detail="No list is cut short.")] = False
    strict: Annotated[
        bool,
        option(
            "--strict",
            None,
            "A caution counts as a fault.",
            detail="It changes the exit status, and nothing that is shown.",
        ),
    ] = False
    json: Annotated[bool, option("--json", None, "Print one JSON document.", detail="It has the whole report.")] = False
    report: Annotated[
        list[str] | None,
        option(
            "--report",
            "FORMAT:FILE",
            "Write a report.",
            detail=f"FORMAT is {', '.join(list(FORMS)[:-1])} or {list(FORMS)[-1]}; may be repeated.",
        ),
    ] = None
    remedies: Annotated[
        Path | None,
        option("--remedies", "FILE", "Write what would mend.", detail="The lines are those of a master file."),
    ] = None
    quiet: Annotated[
        bool, option("--quiet", None, "Print nothing.", detail="The exit status and the files show the result.")
    ] = False
    history: Annotated[
        Path | None,
        option(
            "--history",
            "FILE",
            "Keep the run there.",
            detail="The report then says what is new since the run before, and what is gone.",
        ),
    ] = None
    fail_on: Annotated[
        FailOn | None,
        option(
            "--fail-on",
            None,
            "What gives exit status 1.",
            detail="A fault (the default), a caution too, a fault that is new (with --history), or nothing at all.",
        ),
    ] = None
    about: str = ""

    def check(self) -> None:
        """Raise BadInput for files that could not be written, before anything is asked."""
        from salt_mirror.estate.errors import BadInput

        if self.report or self.remedies or self.history:
            from salt_mirror.cli.outputs import check_outputs

            check_outputs(self)
        if self.fail_on is FailOn.NEW and self.history is None:
            raise BadInput("--fail-on new: what is new is only known from a history; name one with --history FILE")
        if self.json and self.quiet:
            raise BadInput("--json and --quiet: one of them; --report json:FILE writes the document to a file")


WRITING = ("report", "remedies", "quiet", "history", "fail_on")
"""What a command leaves out that is no check: what is written of findings, and what lets a run fail."""


@dataclass(frozen=True, slots=True)
class Listing:
    """How to read lists of expected records."""

    columns: Annotated[
        str | None,
        option("--columns", "NAME=COLUMN,...", "Which columns of the list are ours, such as name=hostname,value=ip."),
    ] = None
    form: Annotated[
        str | None,
        option(
            "--form",
            "FORM",
            "The form of lists, where it is not to be found: zone, csv, jsonl, hosts, kea, isc or xml.",
        ),
    ] = None
    pointers: Annotated[
        bool, typer.Option("--pointers", help="Expect the PTR record of each address in a list too.")
    ] = False


@dataclass(frozen=True, slots=True)
class LogOn:
    """Which directory to read over LDAP, and as whom."""

    directory: Annotated[
        str | None,
        option(
            "--directory",
            "URL|DOMAIN",
            "Read a directory: ldap://HOST with your Kerberos ticket, ldaps://HOST with a password, or a domain, whose own "
            "locators lead to a controller.",
        ),
    ] = None
    user: Annotated[
        str,
        option("--user", "NAME", "The directory's user, such as worker@gullmarsh.internal; your ticket's without it."),
    ] = ""
    password_file: Annotated[
        Path | None,
        option(
            "--password-file",
            "FILE",
            "The user's password; without it, the variable SALT_MIRROR_DIRECTORY_PASSWORD, or a prompt.",
        ),
    ] = None
    ca_file: Annotated[
        Path | None, option("--ca-file", "FILE", "Certificates to trust beside the system's, for ldaps.")
    ] = None


@dataclass(frozen=True, slots=True)
class Changing:
    """Whether changes are sent, and how."""

    apply: Annotated[bool, typer.Option("--apply", help="Send the changes to the primaries (dynamic updates).")] = False
    dry_run: Annotated[
        bool,
        typer.Option("--dry-run", help="Try every change on its server, by messages that change nothing."),
    ] = False
    yes: Annotated[bool, typer.Option("--yes", help="Send without asking.")] = False
    at_most: Annotated[
        int | None,
        option("--at-most", "N", "Let so many changes be sent; over 100, or 5 % of a zone, that is needed.", min=0),
    ] = None
    undo: Annotated[
        Path | None, option("--undo", "FILE", "Where the way back is written; mend-<time>.undo here without it.")
    ] = None
    back: Annotated[Path | None, option("--back", "FILE", "Go back: restore what an undo file says.")] = None
    within: Annotated[
        str | None, option("--within", "TIME", "Wait so long for every server to have the changes; 2min without it.")
    ] = None


@dataclass(frozen=True, slots=True)
class Planning:
    """What is decided of a plan, and where it is written."""

    choose: Annotated[str | None, option("--choose", "WORD", "Settle all open choices: remove, register, no-mail.")] = (
        None
    )
    decisions: Annotated[
        Path | None, option("--decisions", "FILE", "Settle choices one by one: a line `remove rake-19.*` for each.")
    ] = None
    only_adding: Annotated[bool, typer.Option("--only-adding", help="Plan nothing that takes a record away.")] = False
    write: Annotated[
        Path | None, option("--write", "FILE", "Write the plan: FILE.jsonl, FILE.zone to load, FILE.remove.")
    ] = None
    valid: Annotated[
        str | None, option("--valid", "TIME", "With --write: until when the plan may be sent, such as 2h from now.")
    ] = None
    zone_file: Annotated[
        list[str] | None,
        option("--zone-file", "ZONE=FILE", "Write FILE.mended, a master file kept by hand with the plan carried out."),
    ] = None


@dataclass(frozen=True, slots=True)
class Certificates:
    """Which certificates `vantage keys` makes and revokes; they are valid for `days`."""

    desks: Annotated[
        list[str] | None,
        option(
            "--desk", "NAME", "keys: a desk that may send questions to vantages; may be repeated. Without it, desk."
        ),
    ] = None
    revoke: Annotated[
        list[str] | None,
        option("--revoke", "NAME", "keys: revoke the certificate of a desk or a vantage; may be repeated."),
    ] = None
    rotate: Annotated[
        list[str] | None,
        option("--rotate", "NAME", "keys: revoke a certificate and make a new one for the same name; may be repeated."),
    ] = None
    broker_folder: Annotated[
        Path | None,
        option(
            "--broker-folder",
            "FOLDER",
            "keys: the folder on the broker's machine that its files are copied to. Without it, the one where they are made.",
        ),
    ] = None
    days: Annotated[
        int, typer.Option("--days", metavar="N", min=1, max=7300, help="keys: how long they are valid.")
    ] = 825


def takes(*left_out: str, **words: str) -> Callable[[F], F]:
    """Unfold parameters of the types in `_PANELS` into options of the command's own.

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
            if parameter.annotation in _PANELS:
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
                if kind in (Asking, Showing):
                    given[name].check()
                if kind is Asking and given[name].listed is not None:
                    from salt_mirror.cli.outputs import names_in

                    given[takes_names] = [*(given[takes_names] or []), *names_in(given[name].listed)]
            return command(**given)

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


_PANELS: dict[Any, str] = {
    Asking: "How to ask",
    Where: "From where",
    Showing: "What is shown and written",
    Listing: "How lists are read",
    LogOn: "The directory",
    Planning: "The plan",
    Changing: "Sending changes",
    Certificates: "Certificates",
}
"""Under what heading the help shows the options that commands have in common."""


def shared_options() -> dict[str, list[tuple[str, str]]]:
    """Return the options that commands have in common, by the heading of the help: how each is written, and all that there is
    to know of it."""
    found: dict[str, list[tuple[str, str]]] = {}
    for kind, heading in _PANELS.items():
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
    said = {"rich_help_panel": _PANELS[kind]} | ({"help": words} if words else {})
    annotation: Any = Annotated[of_type, type(given)(**(vars(given) | said))]
    default = next(field.default for field in fields(kind) if field.name == name)
    assert default is not MISSING
    return inspect.Parameter(name, inspect.Parameter.KEYWORD_ONLY, default=default, annotation=annotation)
