"""`salt-mirror vantage`: other machines that ask for us: the scheduler, the workers, who is there, the certificates."""

from __future__ import annotations

import sys
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from salt_mirror.cli.options import Asking, Showing, option, takes

if TYPE_CHECKING:
    from salt_mirror.estate.model import Estate
    from salt_mirror.vantages.papers import Papers
    from salt_mirror.vantages.station import StationRules


class Action(StrEnum):
    """What is done about vantages."""

    SERVE = "serve"
    JOIN = "join"
    LIST = "list"
    KEYS = "keys"


_LEFT_OUT = (
    "at",
    "view",
    "transfer",
    "listed",
    "faults",
    "all",
    "strict",
    "report",
    "remedies",
    "quiet",
)


@takes(
    *_LEFT_OUT, "history", "fail_on",
    pace="join: at most so many questions a second to each server; without it none on loopback, 200 for any other.",
    timeout="join: the wait for a first try; each next one doubles it. The vantage's own holds for whoever asks.",
    tries="join: tries for a question, as the vantage's own holds for whoever asks.",
    estate="The estate file, whose servers a vantage may ask and whose scheduler is meant. Without it, estate.toml here.",
)  # fmt: skip
def vantage(
    action: Annotated[Action, typer.Argument(help="What to do.")],
    words: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[ADDRESS|FOLDER] [NAME]...", help="A scheduler's address; for keys a folder and names."
        ),
    ] = None,
    name: Annotated[str, option("--name", "NAME", "join: the vantage that this machine is.")] = "",
    group: Annotated[str, option("--group", "GROUP", "join: the group that it belongs to.")] = "",
    keys: Annotated[Path | None, option("--keys", "FOLDER", "Where `vantage keys` has put the certificates.")] = None,
    allow: Annotated[
        list[str] | None,
        option(
            "--allow",
            "NETWORK",
            "join: ask servers in this network alone; may be repeated. Without it the estate's servers and resolvers, and the "
            "resolvers that this machine uses.",
        ),
    ] = None,
    days: Annotated[
        int, typer.Option("--days", metavar="N", min=1, max=7300, help="keys: how long they are valid.")
    ] = 825,
    *,
    asking: Asking,
    showing: Showing,
) -> None:
    """Ask from other machines: serve a scheduler, join it as a vantage, list who is there, make keys for all.

    Whoever reaches a scheduler can run code on its vantages: without certificates on both sides it stays on loopback.
    """
    from salt_mirror.cli.opening import open_estate
    from salt_mirror.estate.errors import BadInput

    given = words or []
    try:
        estate = open_estate(asking)
        if action is Action.KEYS:
            _make(given, estate, days)
        elif len(given) > 1:
            raise BadInput(f"vantage {action} takes one address, and not {' '.join(given)}")
        elif action is Action.SERVE:
            _serve(given, estate, keys)
        elif action is Action.JOIN:
            _join(given, estate, keys, name, group, _rules(estate, allow or [], asking))
        else:
            _list(given, estate, keys, showing)
    except ImportError as error:
        from salt_mirror.cli.afar import EXTRA

        if error.name and error.name.partition(".")[0] in ("distributed", "dask", "cryptography"):
            raise BadInput(EXTRA) from None
        raise
    except KeyboardInterrupt:
        raise typer.Exit(0 if action in (Action.SERVE, Action.JOIN) else 130) from None


def _say(text: str) -> None:
    """A line of a log: when, and what."""
    from datetime import datetime

    from salt_mirror.report.cleaning import clean

    typer.echo(f"{datetime.now().astimezone():%Y-%m-%d %H:%M:%S}  {clean(text)}")
    sys.stdout.flush()


def _make(given: list[str], estate: Estate, days: int) -> None:
    from salt_mirror.estate.errors import BadInput
    from salt_mirror.vantages.keys import make_keys

    if not given:
        raise BadInput("vantage keys wants a folder, and the names of vantages where the estate has none")
    folder, names = Path(given[0]), given[1:] or list(estate.vantages)
    made = make_keys(folder, names, days=days)
    typer.echo(f"{len(made)} made in {folder}: {', '.join(made) or 'all were there already'}.")
    typer.echo(
        f"To each vantage go {folder / 'ca.pem'} and its own .pem and .key; ca.key stays here, where nobody else reads it."
    )


def _connection(given: list[str], estate: Estate, keys: Path | None, who: str) -> tuple[str, Papers | None]:
    """The scheduler's address and the papers of whoever goes there: as given, else as the estate says."""
    from salt_mirror.cli.afar import scheduler_of
    from salt_mirror.estate.errors import BadInput
    from salt_mirror.vantages.papers import papers_in

    if not given and estate.scheduler is None:
        raise BadInput("no scheduler is named: give its address, or [vantage_scheduler] in the estate")
    address, papers = (given[0], None) if given else scheduler_of(estate)
    return address, papers_in(keys, who) if keys is not None else papers


def _serve(given: list[str], estate: Estate, keys: Path | None) -> None:
    from salt_mirror.vantages.keys import SCHEDULER
    from salt_mirror.vantages.papers import PORT
    from salt_mirror.vantages.serving import serve

    if not given and estate.scheduler is None and keys is None:
        given = [f"tcp://127.0.0.1:{PORT}"]
        _say("without certificates on both sides (--keys) this stays on loopback: whoever reaches it can run code")
    address, papers = _connection(given, estate, keys, SCHEDULER)
    serve(address, papers, _say)


def _join(given: list[str], estate: Estate, keys: Path | None, name: str, group: str, rules: StationRules) -> None:
    from salt_mirror.dns.computer.reading import recorded_settings
    from salt_mirror.estate.errors import BadInput
    from salt_mirror.vantages.parcel import is_plain
    from salt_mirror.vantages.serving import Joining, join

    if not is_plain(name) or (group and not is_plain(group)):
        raise BadInput("vantage join wants --name (and --group): letters, digits, - and _, such as kiln-house")
    address, papers = _connection(given, estate, keys, name)
    declared = estate.vantages.get(name)
    group = group or (declared.group if declared is not None else "")
    join(Joining(address, name, group, papers, rules, lambda: {"settings": recorded_settings()}), _say)


def _rules(estate: Estate, allow: list[str], asking: Asking) -> StationRules:
    """What a vantage lets itself be asked. Raises BadInput."""
    from salt_mirror.dns.names import to_text
    from salt_mirror.dns.reverse import address_text
    from salt_mirror.dns.system import system_resolvers
    from salt_mirror.estate.errors import BadInput
    from salt_mirror.vantages.station import StationRules, networks_of

    known = [*estate.servers.values(), *estate.resolvers.values(), *system_resolvers()]
    texts = [text for one in allow for text in one.split(",")]
    if not allow:
        texts = [address_text(server.address) for server in known if server.address]
    try:
        networks = networks_of(list(dict.fromkeys(texts)))
    except ValueError as error:
        raise BadInput(f"--allow: {error}; expected a network such as 10.77.0.0/16, or an address") from None
    urls = frozenset(server.url for server in known if server.url) if not allow else frozenset[str]()
    own_keys = {to_text(key.name): key for key in estate.keys.values()}
    return StationRules(networks, urls, own_keys, asking.pace or None, asking.timeout, asking.tries)


def _list(given: list[str], estate: Estate, keys: Path | None, showing: Showing) -> None:
    from salt_mirror.report.terminal.stations import print_stations, stations_json
    from salt_mirror.vantages.desk import Desk, Present
    from salt_mirror.vantages.keys import DESK

    address, papers = _connection(given, estate, keys, DESK)
    desk = Desk(address, papers)
    try:
        names = list(dict.fromkeys([*estate.vantages, *sorted(desk.here())]))
        found: list[Present] = list(desk.greet(names).values())
    finally:
        desk.close()
    for one in found:
        declared = estate.vantages.get(one.name)
        one.group = (declared.group if declared is not None else "") or one.group
    if showing.json:
        sys.stdout.buffer.write(stations_json(found, desk.address))
    else:
        print_stations(found, desk.address, sys.stdout)
    raise typer.Exit(3 if any(one.trouble is not None for one in found) or not found else 0)
