"""`estate.toml` as it is written: decoded and held against its types, with errors that name file, key and nearest key.

Strategy: msgspec does types and unknown keys; this module turns its messages into an administrator's and finds the line.
What the entries mean together (servers that exist, zones that stand once in a view) is `estate.model`'s.
"""

from __future__ import annotations

import re
import tomllib
from datetime import date
from pathlib import Path
from typing import Any, Literal, NoReturn

import msgspec

from salt_mirror.dns.names import shown
from salt_mirror.estate.errors import BadInput, hint
from salt_mirror.estate.notify import MailEntry, NotifyEntry, SyslogEntry, WebhookEntry
from salt_mirror.estate.reading import read_text


class SourceEntry(msgspec.Struct, forbid_unknown_fields=True):
    """One list in `expect`, where its file name does not say how to read it: its form, our columns by the file's, the zone of
    short names, and whether the PTR record of each address is expected too.

    Of a table only rows that fit `where` count, such as { Status = "in use" } or { Status = ["used", "reserved"] }; the records
    of rows that fit `absent_where` have to be gone. `note` is the column that is kept as a note, in place of all that are not
    ours; `sheet` is the sheet of a workbook, the first one without it.
    """

    file: str
    form: str = ""
    columns: dict[str, str] = {}
    where: dict[str, str | list[str]] = {}
    absent_where: dict[str, str | list[str]] = {}
    note: str = ""
    sheet: str = ""
    zone: str | None = None
    pointers: bool = False


class NetworkEntry(msgspec.Struct, forbid_unknown_fields=True):
    """`[networks."10.77.20.0/24"]`: the zone in which its hosts have their names, the site of a directory that it is of, and
    whether it is `retired`: nothing that is registered in it belongs any more."""

    zone: str = ""
    site: str = ""
    retired: bool = False


class ZoneEntry(msgspec.Struct, forbid_unknown_fields=True):
    """`[[zones]]`: a zone by its name, or a reverse zone by its network.

    `primary` is the server whose copy the others follow, also where it is hidden; `update` says so too. Without either the name
    in the SOA is taken for it as long as no other server is ahead.

    Changes are sent to the server `update` with the key `update_key`, or with the user's Kerberos ticket (`kerberos`);
    `short_signature` accepts answers whose signature leaves out a length, as one directory server's do. `try_updates` has the
    check of the authority try whether unsigned changes are taken. In a `closed` zone what nobody expects is a fault; names that
    fit a pattern of `allow` pass.

    `ages` are master files with age marks, as a directory server exports them: what is registered, and when each record was
    last refreshed. `aging` says whether records age there, `no_refresh` and `refresh` how long (such as 7d), and `scavenged`
    whether anything takes what has aged away; a directory that is read tells the first three itself.
    """

    name: str
    view: str = ""
    servers: list[str] | None = None
    expect: list[str | SourceEntry] = []
    transfer: bool = False
    primary: str | None = None
    update: str | None = None
    update_key: str | None = None
    kerberos: bool = False
    short_signature: bool = False
    try_updates: bool = False
    closed: bool = False
    allow: list[str] = []
    ages: list[str] = []
    aging: bool | None = None
    no_refresh: str = ""
    refresh: str = ""
    scavenged: bool | None = None


class ServerEntry(msgspec.Struct, forbid_unknown_fields=True):
    """`[servers.NAME]`: an authoritative server. `pace` is the most questions a second, `key` names its TSIG key, `source` is
    the address of this computer from which it is asked, where it tells views apart by that."""

    address: str
    port: int = 53
    key: str | None = None
    pace: float | None = None
    source: str = ""


class ResolverEntry(msgspec.Struct, forbid_unknown_fields=True):
    """`[resolvers.NAME]`: a resolver for some users, and the `view` that it should give; its address may be `tls://…` or `https://…`.

    `also` are other addresses of it, over IPv6, TLS or HTTPS; `forwards_to` the resolvers or servers that it asks in its turn;
    `serves` the networks of its users, outside of which it should answer nobody.
    """

    address: str
    port: int = 53
    group: str = ""
    view: str = ""
    key: str | None = None
    pace: float | None = None
    also: list[str] = []
    forwards_to: list[str] = []
    serves: list[str] = []
    source: str = ""


class ViewEntry(msgspec.Struct, forbid_unknown_fields=True):
    """`[views.NAME]`: how the servers of a view are asked: `source` is the address of this computer from which questions,
    transfers and changes go out, where a server tells its views apart by who asks."""

    source: str = ""


class ResolverTestsEntry(msgspec.Struct, forbid_unknown_fields=True):
    """`[resolver_tests]`: `external` names that every resolver has to find (an empty list on a network that leads nowhere),
    `large` sets, each a name and a type, whose answer is longer than a datagram; `signed` names whose zones are signed and
    sound, and `broken` ones whose zones do not validate on purpose."""

    external: list[str] | None = None
    large: list[str] = []
    signed: list[str] = []
    broken: list[str] = []


class VantageEntry(msgspec.Struct, forbid_unknown_fields=True):
    """`[vantages.NAME]`: another machine that asks for us: its `group`, and the `view` that people there should get."""

    group: str = ""
    view: str = ""


class BrokerEntry(msgspec.Struct, forbid_unknown_fields=True):
    """`[vantage_broker]`: the MQTT broker at which the vantages are reached, such as `192.0.2.60:8883` (always with TLS), with
    our `certificate` and its `key`, and the `authority` of all desks and vantages (`ca.pem` beside the certificate without it).
    `broker_authority` is needed where the broker's own certificate is of another authority."""

    address: str
    certificate: str
    key: str
    authority: str = ""
    broker_authority: str = ""


class KeyEntry(msgspec.Struct, forbid_unknown_fields=True):
    """`[keys.NAME]`: a TSIG key, whose secret (base64) stands in a file or in an environment variable."""

    algorithm: str = "hmac-sha256"
    secret_file: str | None = None
    secret_env: str | None = None
    name: str | None = None


Role = Literal["pdc-emulator", "global-catalog", "rodc"]
ROLES: tuple[Role, ...] = ("pdc-emulator", "global-catalog", "rodc")
ROLE_WORDS = {"pdc-emulator": "PDC emulator", "global-catalog": "global catalog", "rodc": "RODC"}
"""What administrators call the roles of domain controllers."""


class ControllerEntry(msgspec.Struct, forbid_unknown_fields=True):
    """`[[directories.controllers]]`: a directory controller by its host, with what it has to register records for.

    `holds_zones` says whether it holds the directory's zones.
    """

    host: str
    site: str = ""
    roles: list[Role] = []
    guid: str = ""
    holds_zones: bool = True


class DirectoryEntry(msgspec.Struct, forbid_unknown_fields=True):
    """`[[directories]]`: a directory domain. `forest` is the forest's root domain, the domain itself when left out.

    With `directory`, a URL or several of which the first that answers counts, its controllers, sites and GUID are read from
    there: with the user's Kerberos ticket, or as `user` with the password in `password_file` or the variable `password_env`;
    `ca_file` holds certificates to trust.
    """

    domain: str
    view: str = ""
    forest: str | None = None
    guid: str = ""
    sites: list[str] = []
    controllers: list[ControllerEntry] = []
    directory: str | list[str] = ""
    user: str = ""
    password_file: str = ""
    password_env: str = ""
    ca_file: str = ""

    @property
    def urls(self) -> list[str]:
        """Where it is read, in the order in which that is tried."""
        if isinstance(self.directory, list):
            return self.directory
        return [self.directory] if self.directory else []


class SameEntry(msgspec.Struct, forbid_unknown_fields=True):
    """`[[same]]`: names (shell patterns) that have to be the same in some views, in all of them without `views`."""

    names: list[str]
    views: list[str] = []


class InsideOnlyEntry(msgspec.Struct, forbid_unknown_fields=True):
    """`[[inside_only]]`: names (shell patterns) that must stand in no public view."""

    names: list[str]


class AcceptEntry(msgspec.Struct, forbid_unknown_fields=True):
    """`[[accept]]`: findings that are known and accepted. `code`, `name`, `address` and `server` are shell patterns; `until` is
    the last day."""

    code: str
    reason: str
    name: str = "*"
    address: str | None = None
    server: str | None = None
    view: str | None = None
    until: date | None = None


class BoundsEntry(msgspec.Struct, forbid_unknown_fields=True):
    """`[bounds]`: how much is taken from servers at most. Of one transfer mebibytes, records, seconds and records of one RRset;
    records of all transfers of a run; questions that following one name may cost."""

    transfer_mib: int = 256
    transfer_records: int = 1_000_000
    transfer_seconds: float = 300.0
    records_of_a_set: int = 20_000
    records_of_a_run: int = 2_000_000
    questions_for_a_name: int = 200


class EstateFile(msgspec.Struct, forbid_unknown_fields=True):
    """The whole file. `find_servers_by` names the resolvers that are asked for name servers, in place of the system's;
    `public_views` the views that the whole world sees; `roots` are root servers in place of IANA's, with their addresses;
    `trust_anchors` are DS records, each as a line of a master file, of zones whose keys are trusted without a parent;
    `leases` are files of address servers, which say who has which address now."""

    title: str = ""
    find_servers_by: list[str] = []
    public_views: list[str] = msgspec.field(default_factory=lambda: ["public", "external", "internet"])
    zones: list[ZoneEntry] = []
    views: dict[str, ViewEntry] = {}
    servers: dict[str, ServerEntry] = {}
    resolvers: dict[str, ResolverEntry] = {}
    reach: dict[str, str] = {}
    roots: dict[str, list[str]] = {}
    trust_anchors: list[str] = []
    directories: list[DirectoryEntry] = []
    accept: list[AcceptEntry] = []
    same: list[SameEntry] = []
    inside_only: list[InsideOnlyEntry] = []
    keys: dict[str, KeyEntry] = {}
    bounds: BoundsEntry = msgspec.field(default_factory=BoundsEntry)
    networks: dict[str, NetworkEntry] = {}
    leases: list[str] = []
    resolver_tests: ResolverTestsEntry = msgspec.field(default_factory=ResolverTestsEntry)
    vantages: dict[str, VantageEntry] = {}
    vantage_broker: BrokerEntry | None = None
    notify: dict[str, NotifyEntry] = {}


_ENTRIES: dict[str, type[msgspec.Struct]] = {
    "zones": ZoneEntry,
    "servers": ServerEntry,
    "views": ViewEntry,
    "resolvers": ResolverEntry,
    "keys": KeyEntry,
    "directories": DirectoryEntry,
    "accept": AcceptEntry,
    "same": SameEntry,
    "inside_only": InsideOnlyEntry,
    "bounds": BoundsEntry,
    "networks": NetworkEntry,
    "resolver_tests": ResolverTestsEntry,
    "vantages": VantageEntry,
    "vantage_broker": BrokerEntry,
    "notify": NotifyEntry,
}
_WAYS: dict[str, type[msgspec.Struct]] = {"mail": MailEntry, "webhook": WebhookEntry, "syslog": SyslogEntry}

_KINDS = {"int": "a whole number", "str": "text", "array": "a list", "object": "a table", "bool": "true or false"}


def read_estate_file(path: Path) -> EstateFile:
    """Read and validates an estate file. Raises BadInput."""
    return parse_estate(
        read_text(path, missing="there is no such file; --estate wants the path of an estate.toml"), path
    )


def parse_estate(text: str, path: Path) -> EstateFile:
    """Return the same for a text that is at hand; `path` is what errors name, and what relative paths in it are relative to."""
    try:
        raw = tomllib.loads(text)
        _check_printable(raw, path, ())
        return msgspec.convert(raw, EstateFile)
    except RecursionError:
        raise BadInput.at(
            path, None, "is no TOML that anybody writes: its tables or lists are nested too deeply"
        ) from None
    except ValueError as error:
        if isinstance(error, msgspec.ValidationError):
            _explain(str(error), text, path)
        raise BadInput.at(path, None, f"is no TOML: {str(error)[:200]}") from None


def _check_printable(value: object, path: Path, place: tuple[str, ...]) -> None:
    """Raise BadInput for a label, view or other text with a character that would act on a terminal or end a line."""
    if isinstance(value, dict):
        for key, inner in value.items():
            if not key.isprintable():
                raise BadInput.at(
                    path, None, f"{', '.join(place) or 'the file'}: {_UNPRINTABLE} in the key {shown(key)}"
                )
            _check_printable(inner, path, (*place, key))
    elif isinstance(value, list):
        for inner in value:
            _check_printable(inner, path, place)
    elif isinstance(value, str) and not value.replace("\n", " ").isprintable():
        raise BadInput.at(path, None, f"{', '.join(place)}: {_UNPRINTABLE} in {shown(value)}")
    elif isinstance(value, str) and "\n" in value and place[-1] != "reason":
        raise BadInput.at(path, None, f"{', '.join(place)}: a line break in {shown(value)}; only a reason may have one")


_UNPRINTABLE = "a character that cannot be printed"


def line_of(text: str, key: str) -> int | None:
    """Return the only line on which a key is set or a table opened; None when there are several or none."""
    pattern = re.compile(rf'\s*(?:\[+[^\]]*?)?"?{re.escape(key)}"?\s*(?:=|\]|\.)')
    lines = [number for number, line in enumerate(text.splitlines(), 1) if len(line) < 1000 and pattern.match(line)]
    return lines[0] if len(lines) == 1 else None


def _explain(said: str, text: str, path: Path) -> NoReturn:
    """Turn msgspec's words and path into ours. The path looks like `$.zones[0].name` or `$.servers[...].port`."""
    what, _, place = said.partition(" - at ")
    place = place.strip("`").removeprefix("$").lstrip(".")
    table = re.split(r"[.\[]", place, maxsplit=1)[0]
    struct: Any = SourceEntry if ".expect[" in place else _ENTRIES.get(table, EstateFile)
    if table == "notify":
        struct = _WAYS.get(place.rsplit(".", 1)[-1], struct)
    if match := re.search(r"unknown field `(.*)`", what):
        key = match[1]
        known = struct.__struct_encode_fields__
        nearest = hint(key, known, otherwise=f"known here: {', '.join(known)}")
        raise BadInput.at(path, line_of(text, key), f"unknown key {shown(key)} in {_place(place)}; {nearest}")
    if match := re.search(r"Invalid enum value '(.*)'", what):
        known = _choices(place)
        nearest = hint(match[1], known, otherwise=f"allowed: {', '.join(known)}")
        raise BadInput.at(path, None, f"{_place(place)}: {shown(match[1])} is not allowed; {nearest}")
    if match := re.search(r"missing required field `(.*)`", what):
        raise BadInput.at(path, None, f'{_place(place)}: the key "{match[1]}" is missing')
    key = place.rsplit(".", 1)[-1]
    wanted = what.replace("Expected ", "wants ").replace(", got ", ", not ")
    wanted = re.sub(r"`([^`]*)`", lambda kind: _KINDS.get(kind[1], kind[1]), wanted)
    raise BadInput.at(path, line_of(text, key.split("[")[0]), f"{_place(place)}: {wanted}")


def _choices(place: str) -> tuple[str, ...]:
    """Return the words that are allowed at a place where not any word is."""
    if ".roles" in place:
        return ROLES
    return ()


def _place(place: str) -> str:
    """`zones[0].name` as `zones, entry 1, name`; the file itself for an empty path."""
    text = re.sub(r"\[(\d+)\]", lambda m: f", entry {int(m[1]) + 1}", place)
    return re.sub(r"\[\.\.\.\]", "", text).replace(".", ", ") or "the top of the file"
