"""The options that commands have in common: how to ask, and how to show what came of it.

Strategy: a few dataclasses hold them, each option with its words, once. A command takes them as parameters of these types,
which `signatures` unfolds into options of its own; so a command states only what is its own, and a new common option is
only written here. Every start imports this module; the only library that it imports is Typer.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path
from typing import Annotated, Any

import typer

from salt_mirror.report.files import FORMS

LEAST_PACE = 0.1

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
    no_screen: Annotated[
        bool, option("--no-screen", None, "Judge also what agrees plainly, one by one.", hidden=True)
    ] = False
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
    about the same are held against each other in a history. `messenger` sends what is new to the channels of `notify`."""

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
    notify: Annotated[
        list[str] | None,
        option(
            "--notify",
            "NAME",
            "Send what is new there.",
            detail="NAME is a channel, [notify.NAME] in the estate; wants --history. May be repeated.",
        ),
    ] = None
    fail_on: Annotated[
        FailOn | None,
        option(
            "--fail-on",
            None,
            "What gives exit status 1.",
            detail="A fault (the default), a caution too, a fault that is new (with --history), or nothing at all. "
            "With new, status 3 is for what is newly unverified.",
        ),
    ] = None
    about: str = ""
    messenger: Any = None

    def check(self) -> None:
        """Raise BadInput for files that could not be written, before anything is asked."""
        from salt_mirror.estate.errors import BadInput

        if self.notify and self.history is None:
            raise BadInput("--notify: what is new is only known from a history; name one with --history FILE")
        if self.report or self.remedies or self.history:
            from salt_mirror.cli.outputs import check_outputs

            check_outputs(self)
        if self.fail_on is FailOn.NEW and self.history is None:
            raise BadInput("--fail-on new: what is new is only known from a history; name one with --history FILE")
        if self.json and self.quiet:
            raise BadInput("--json and --quiet: one of them; --report json:FILE writes the document to a file")


WRITING = ("report", "remedies", "quiet", "history", "notify", "fail_on")
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
            "The form of lists, where it is not to be found: zone, csv, xlsx, jsonl, hosts, kea, isc or xml.",
        ),
    ] = None
    where: Annotated[
        list[str] | None,
        option(
            "--where", "COLUMN=PATTERN", 'Only take rows with this in that column, such as "Status=in use"; repeatable.'
        ),
    ] = None
    absent_where: Annotated[
        list[str] | None,
        option(
            "--absent-where", "COLUMN=PATTERN", "Records of rows with this in that column have to be gone; repeatable."
        ),
    ] = None
    note: Annotated[
        str | None, option("--note", "COLUMN", "The column of the list that is kept as a note; all others without it.")
    ] = None
    sheet: Annotated[
        str | None, option("--sheet", "SHEET", "The sheet of a workbook (.xlsx); the first one without it.")
    ] = None
    pointers: Annotated[
        bool,
        typer.Option(
            "--pointers", help="Expect the PTR record of each address in a list too, or that it is gone with it."
        ),
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


PANELS: dict[Any, str] = {
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
