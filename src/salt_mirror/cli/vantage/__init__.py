"""`salt-mirror vantage`: other machines that ask for us: the broker, the vantages, who is there, the certificates."""

from __future__ import annotations

import sys
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from salt_mirror.cli.options import Asking, Certificates, Showing, option
from salt_mirror.cli.signatures import takes

if TYPE_CHECKING:
    from salt_mirror.estate.model import Estate
    from salt_mirror.vantages.allowed import WorkerRules
    from salt_mirror.vantages.broker import Listener
    from salt_mirror.vantages.tls import Papers


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
    "ipv4_only",
    "ipv6_only",
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
    timeout="join: the wait for a first try; each next one doubles it. The vantage's own value counts for every desk.",
    tries="join: tries for a question; the vantage's own value counts for every desk.",
    estate="The estate file, whose servers a vantage may ask and whose broker is meant. Without it, estate.toml here.",
)  # fmt: skip
def vantage(
    action: Annotated[Action, typer.Argument(help="What to do.")],
    words: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[ADDRESS|FOLDER] [NAME]...", help="A broker's address; for keys a folder and names of vantages."
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
            "join: only ask servers in this network; may be repeated. Without it the estate's servers and resolvers, and the "
            "resolvers that this machine uses.",
        ),
    ] = None,
    *,
    certificates: Certificates,
    asking: Asking,
    showing: Showing,
) -> None:
    """Ask from other machines: run a broker, join it as a vantage, list who is there, make certificates for all.

    Desks, vantages and the broker each have a certificate. A vantage carries out questions of desks, and nothing else.
    """
    from salt_mirror.cli.arguments import open_estate
    from salt_mirror.estate.errors import BadInput

    given = words or []
    try:
        estate = open_estate(asking)
        if action is Action.KEYS:
            _make(given, estate, certificates)
        elif len(given) > 1:
            raise BadInput(f"vantage {action} takes one address, and not {' '.join(given)}")
        elif action is Action.SERVE:
            _serve(given, estate, keys)
        elif action is Action.JOIN:
            _join(given, estate, keys, name, group, _rules(estate, allow or [], asking))
        else:
            _list(given, estate, keys, showing)
    except ImportError as error:
        from salt_mirror.cli.vantage.asking import EXTRA

        if error.name and error.name.partition(".")[0] in ("paho", "cryptography"):
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


def _make(given: list[str], estate: Estate, wanted: Certificates) -> None:
    from salt_mirror.estate.errors import BadInput
    from salt_mirror.vantages.keys import DESK, make_keys

    if not given:
        raise BadInput("vantage keys wants a folder, and the names of vantages where the estate has none")
    folder = Path(given[0])
    names = [*given[1:], *(name for name in estate.vantages if name not in given[1:])]
    done = make_keys(
        folder, names, days=wanted.days, desks=wanted.desks or [DESK], revoke=wanted.revoke or [],
        rotate=wanted.rotate or [],
        listener=_listener([], estate), installed_at=wanted.broker_folder,
    )  # fmt: skip
    typer.echo(f"{len(done.made)} made in {folder}: {', '.join(done.made) or 'all were there already'}.")
    if done.revoked:
        typer.echo(
            f"Revoked: {', '.join(done.revoked)}. Copy revoked.pem and mosquitto.acl to the broker and start it again; copy "
            "revoked.pem to every desk and vantage."
        )
    if done.expiring:
        typer.echo(f"Expires within 30 days: {', '.join(done.expiring)}. --rotate NAME makes a new certificate.")
    typer.echo(
        "Each desk and vantage gets ca.pem, revoked.pem and its own .pem and .key; the broker gets ca.pem, revoked.pem, "
        "broker.pem, broker.key, mosquitto.conf and mosquitto.acl. ca.key stays here, where nobody else reads it."
    )


def _listener(given: list[str], estate: Estate) -> Listener:
    """Return where the broker listens: at an address that was given; else on the port that the estate names, on loopback where
    the estate's broker is there."""
    from salt_mirror.vantages.broker import Listener
    from salt_mirror.vantages.tls import host_and_port

    if given:
        return Listener(*host_and_port(given[0]))
    if estate.broker is None:
        return Listener()
    host, port = host_and_port(estate.broker.address)
    return Listener("127.0.0.1" if host in ("127.0.0.1", "localhost") else "", port)


def _connection(given: list[str], estate: Estate, keys: Path | None, who: str) -> tuple[str, Papers]:
    """Return the broker's address and the papers of whoever goes there: as given, else as the estate says."""
    from salt_mirror.cli.vantage.asking import broker_of
    from salt_mirror.estate.errors import BadInput
    from salt_mirror.vantages.tls import papers_in

    if given and keys is not None:
        return given[0], papers_in(keys, who)
    if given and estate.broker is None:
        raise BadInput("whose certificate? --keys FOLDER says where `vantage keys` has put it")
    address, papers = broker_of(estate)
    if keys is not None:
        papers = papers_in(keys, who, papers.broker_authority)
    return given[0] if given else address, papers


def _serve(given: list[str], estate: Estate, keys: Path | None) -> None:
    from salt_mirror.estate.errors import BadInput
    from salt_mirror.vantages.broker import RULES, run_broker
    from salt_mirror.vantages.keys import BROKER
    from salt_mirror.vantages.tls import papers_in

    if keys is None and estate.broker is not None and estate.path is not None:
        keys = (estate.path.parent / estate.broker.certificate).parent
    if keys is None or not (keys / RULES).is_file():
        raise BadInput(
            "a broker needs certificates: `salt-mirror vantage keys keys NAME...` makes them, --keys FOLDER names them"
        )
    papers_in(keys, BROKER).context()
    run_broker(keys, _listener(given, estate), _say)


def _join(given: list[str], estate: Estate, keys: Path | None, name: str, group: str, rules: WorkerRules) -> None:
    from salt_mirror.cli.collector import quiet_collector
    from salt_mirror.dns.computer.reading import recorded_settings
    from salt_mirror.estate.errors import BadInput
    from salt_mirror.vantages.protocol import is_plain
    from salt_mirror.vantages.serving import Joining, join

    if not is_plain(name) or (group and not is_plain(group)):
        raise BadInput("vantage join wants --name (and --group): letters, digits, - and _, such as kiln-house")
    address, papers = _connection(given, estate, keys, name)
    declared = estate.vantages.get(name)
    group = group or (declared.group if declared is not None else "")
    quiet_collector()
    join(Joining(name, address, group, papers, rules, lambda: {"settings": recorded_settings()}), _say)


def _rules(estate: Estate, allow: list[str], asking: Asking) -> WorkerRules:
    """Return what a vantage lets itself be asked. Raises BadInput."""
    from salt_mirror.dns.names import to_text
    from salt_mirror.dns.reverse import address_text
    from salt_mirror.dns.system import system_resolvers
    from salt_mirror.estate.errors import BadInput
    from salt_mirror.vantages.allowed import WorkerRules, networks_of

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
    return WorkerRules(networks, urls, own_keys, asking.pace or None, asking.timeout, asking.tries)


def _list(given: list[str], estate: Estate, keys: Path | None, showing: Showing) -> None:
    from salt_mirror.report.json.vantages import vantages_json
    from salt_mirror.report.terminal.stations import print_stations
    from salt_mirror.vantages.desk import Desk, Present
    from salt_mirror.vantages.keys import DESK

    address, papers = _connection(given, estate, keys, DESK)
    desk = Desk(address, papers)
    try:
        names = list(dict.fromkeys([*estate.vantages, *sorted(desk.here(list(estate.vantages)))]))
        found: list[Present] = list(desk.greet(names).values())
    finally:
        desk.close()
    for present in found:
        declared = estate.vantages.get(present.name)
        present.group = (declared.group if declared is not None else "") or present.group
    if showing.json:
        sys.stdout.buffer.write(vantages_json(found, desk.address))
    else:
        print_stations(found, desk.address, sys.stdout)
    raise typer.Exit(3 if any(one.trouble is not None for one in found) or not found else 0)
