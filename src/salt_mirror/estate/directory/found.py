"""What a directory tells of itself, as plain data that travels between processes."""

from __future__ import annotations

from typing import Literal

import msgspec

from salt_mirror.estate.file import Role


class DirectoryFailed(Exception):
    """A directory that could not be read; the message says why, for people, `detail` what the library said of it; `ours`
    that the ticket or the password is what fails, which no other controller would take either."""

    def __init__(self, message: str, detail: str = "", *, ours: bool = False) -> None:
        super().__init__(message)
        self.detail = detail
        self.ours = ours


class Access(msgspec.Struct, frozen=True, kw_only=True):
    """How a directory is reached: a URL (`ldap://` or `ldaps://`), a user with a password, or the user's own Kerberos ticket
    where `user` is empty; `ca_file` holds the certificates that are trusted beside the system's. Without `records` none are
    read; with `replication` every controller is asked how its changes come."""

    url: str
    user: str = ""
    password: str = ""
    ca_file: str = ""
    records: bool = True
    replication: bool = False

    def __repr__(self) -> str:
        return f"Access({self.url!r}, user={self.user!r}, …)"


class FoundController(msgspec.Struct, frozen=True, kw_only=True):
    """A controller of the domain: its host, its site, its roles, the identifier that its alias in `_msdcs` has, and whether it
    holds the directory's zones."""

    host: str
    site: str
    roles: list[Role]
    guid: str
    holds_zones: bool


class FoundRecord(msgspec.Struct, frozen=True, array_like=True):
    """A record of a zone: canonical owner and rdata, TTL in seconds, and when it was last refreshed in hours since 1601, 0 for
    a static one."""

    name: bytes
    rdtype: int
    ttl: int
    rdata: bytes
    age_h: int


class FoundZone(msgspec.Struct, frozen=True, kw_only=True):
    """A zone: its apex, the partition that holds it, the hosts that serve it, its records, how many names in it are tombstones
    (the first of them in `gone`), and how many records could not be read; `delegated` the name servers that its delegation of
    `_msdcs` names. Of aging: whether it is on, no-refresh and refresh in
    hours; None where it is not said."""

    apex: bytes
    partition: str
    hosts: list[str]
    delegated: list[bytes] = []
    records: list[FoundRecord] = []
    tombstones: int = 0
    gone: list[bytes] = []
    unread: int = 0
    aging: bool | None = None
    no_refresh_h: int | None = None
    refresh_h: int | None = None
    secure_updates: bool | None = None


class FoundNetwork(msgspec.Struct, frozen=True, kw_only=True):
    """A network of the directory's with its site."""

    network: str
    site: str


class FoundLost(msgspec.Struct, frozen=True, kw_only=True):
    """An object that is no record, by its name, and where it is kept: a copy that replication made beside another of the same
    name (`conflict`), or one that could not be read (`unreadable`)."""

    name: str
    place: str
    why: Literal["conflict", "unreadable"]


class FoundInbound(msgspec.Struct, frozen=True, kw_only=True):
    """One way by which changes of a partition come to a controller: from which one (empty where it is not known), when they
    last came (seconds since 1970), how many attempts failed since, and the number of the last error (Win32)."""

    host: str
    partition: str
    source: str
    succeeded: float | None = None
    failures: int = 0
    error: int = 0


class FoundDirectory(msgspec.Struct, frozen=True, kw_only=True):
    """A directory domain in its forest. `clock_s` says how many seconds its clock is ahead of ours; None where it does not
    tell. `inbound` are the ways by which changes come, of the controllers that told; `untold` says why others did not. `lost`
    are objects that are no records: copies of one that came into being twice, and such as cannot be read."""

    domain: str
    forest: str
    guid: str
    sites: list[str]
    controllers: list[FoundController]
    networks: list[FoundNetwork]
    zones: list[FoundZone]
    remarks: list[str] = []
    clock_s: float | None = None
    lost: list[FoundLost] = []
    inbound: list[FoundInbound] = []
    untold: dict[str, str] = {}
