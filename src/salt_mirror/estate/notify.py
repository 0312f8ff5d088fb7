"""`[notify.NAME]` of the estate: where what is new is sent, what of it, and when.

Strategy: the entries are what is written; a `Channel` is what they mean, checked before anything is asked. No secret is in
either: a password, or a URL that is one, is read when a message is sent.
"""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime, time
from fnmatch import fnmatchcase
from pathlib import Path

import msgspec

from salt_mirror.dns.errors import Unusable
from salt_mirror.dns.names import shown, to_text
from salt_mirror.estate.errors import BadInput, hint
from salt_mirror.estate.forms import zone_name
from salt_mirror.findings import Finding


class MailEntry(msgspec.Struct, forbid_unknown_fields=True):
    """`mail = {…}`: who gets it and from whom, by which `server`: over TLS from the first byte (`tls`, port 465), after
    STARTTLS (`starttls`, port 587), or in the clear (port 25). A password is in a file or an environment variable,
    and is only sent over TLS; `ca_file` holds certificates to trust beside the system's."""

    to: str | list[str]
    server: str
    sender: str = msgspec.field(name="from")
    port: int = 0
    starttls: bool = False
    tls: bool = False
    user: str = ""
    password_file: str = ""
    password_env: str = ""
    ca_file: str = ""


class WebhookEntry(msgspec.Struct, forbid_unknown_fields=True):
    """`webhook = {…}`: a URL to which it is posted, in a file of its own (`url_file`) where it is a secret. `kind` is json (the
    whole document), text, chat-text or chat-content (a JSON object with one field of that name), or the file of a template
    (NAME.json.j2 or NAME.txt.j2); `ca_file` holds certificates to trust beside the system's."""

    url: str = ""
    url_file: str = ""
    kind: str = "json"
    ca_file: str = ""


class SyslogEntry(msgspec.Struct, forbid_unknown_fields=True):
    """`syslog = {…}`: a collector, such as 192.0.2.5, 192.0.2.5:514 (UDP), tcp://192.0.2.5:601 or tls://logs.example:6514; a
    path is a local socket. `facility` is daemon, or local0 to local7."""

    address: str
    facility: str = "daemon"
    ca_file: str = ""


class NotifyEntry(msgspec.Struct, forbid_unknown_fields=True):
    """`[notify.NAME]`: one of `mail`, `webhook`, `command` (a program and its arguments, which gets the document on standard
    input), `syslog` and `file` (a line of JSON for each message).

    `on` is what is sent: new-fault, new-caution, gone, "unverified-for 3 runs", run-failed, acceptance-ends (a week before, or
    "acceptance-ends in 14 days"). `zones`, `views` and `codes` (patterns) narrow it; nothing is sent in the hours of `quiet`
    (such as 22:00-06:00, this computer's time), nor more than `at_most` (such as "1 an hour"): what is held back is in the next
    message.
    """

    mail: MailEntry | None = None
    webhook: WebhookEntry | None = None
    command: list[str] = []
    syslog: SyslogEntry | None = None
    file: str = ""
    on: list[str] = msgspec.field(default_factory=lambda: ["new-fault", "gone", "run-failed"])
    zones: list[str] = []
    views: list[str] = []
    codes: list[str] = []
    quiet: str = ""
    at_most: str = ""


EVENTS = ("new-fault", "gone", "new-caution", "unverified-for 3 runs", "run-failed", "acceptance-ends")
"""What may be sent, as it is written in `on`."""
KINDS = ("json", "text", "chat-text", "chat-content")
"""What a webhook gets without a template of one's own."""
FACILITIES = {"daemon": 3} | {f"local{number}": 16 + number for number in range(8)}
"""Syslog facilities by their words (RFC 5424, section 6.2.1)."""
_UNITS = {"minute": 60, "hour": 3_600, "day": 86_400, "week": 604_800}
_ENDS_WITHIN_DAYS = 7
_MAILBOX = re.compile(r"[^\s@<>,;:\"()\[\]\\]+@[^\s@<>,;:\"()\[\]\\]+")

Way = MailEntry | WebhookEntry | SyslogEntry | list[str] | Path
"""How a message is sent: a list is a command, a path a file."""


@dataclass(frozen=True, slots=True)
class Wanted:
    """What is sent. `unverified_runs` 0 and `ends_within_days` -1 are for not at all."""

    new_fault: bool = False
    new_caution: bool = False
    gone: bool = False
    run_failed: bool = False
    unverified_runs: int = 0
    ends_within_days: int = -1


@dataclass(frozen=True, slots=True)
class Channel:
    """A place where what is new is sent. Of `zones` the apexes in presentation form; `quiet` are local times, from and to;
    `at_most` how many messages in so many seconds; `folder` what its files are relative to."""

    name: str
    way: Way
    folder: Path
    wanted: Wanted = Wanted()
    zones: tuple[str, ...] = ()
    views: tuple[str, ...] = ()
    codes: tuple[str, ...] = ()
    quiet: tuple[time, time] | None = None
    at_most: tuple[int, int] | None = None

    def takes(self, finding: Finding) -> bool:
        """Return whether a finding is of the zones (by its name, or by the record that mends it), views and codes that are
        sent."""
        names = (f".{finding.owner}", f".{finding.name}")
        below = any(name.endswith(f".{apex}") for apex in self.zones for name in names)
        return (
            (not self.zones or below)
            and (not self.views or finding.view in self.views)
            and (not self.codes or any(fnmatchcase(finding.code, code) for code in self.codes))
        )

    def is_quiet(self, moment: datetime) -> bool:
        """Return whether a moment is in the quiet hours, in this computer's time."""
        return self.is_quiet_at(moment.astimezone().time())

    def is_quiet_at(self, at: time) -> bool:
        """Return the same of a time of the day."""
        if self.quiet is None:
            return False
        begin, end = self.quiet
        return begin <= at < end if begin <= end else (at >= begin or at < end)

    def path(self, name: str) -> Path:
        """Return a file of it."""
        return self.folder / name


def channel_of(name: str, entry: NotifyEntry, path: Path) -> Channel:
    """Return the channel that an entry of an estate's file describes. Raises BadInput."""

    def fail(what: str) -> BadInput:
        return BadInput.at(path, None, f"notify, {name}: {what}")

    ways: dict[str, Way] = {
        word: way
        for word, way in (
            ("mail", entry.mail),
            ("webhook", entry.webhook),
            ("command", entry.command),
            ("syslog", entry.syslog),
            ("file", path.parent / entry.file if entry.file else None),
        )
        if way
    }
    if len(ways) != 1:
        raise fail(
            f"{' and '.join(ways) or 'no way'}; one of mail, webhook, command, syslog and file says how it is sent"
        )
    (way,) = ways.values()
    _check(way, path.parent, fail)
    try:
        zones = tuple(to_text(zone_name(zone)) for zone in entry.zones)
    except Unusable as error:
        raise fail(f"zones: {error}") from None
    return Channel(
        name,
        way,
        path.parent,
        _wanted(entry.on, fail),
        zones,
        tuple(entry.views),
        tuple(code.lower() for code in entry.codes),
        _quiet(entry.quiet, fail),
        _at_most(entry.at_most, fail),
    )


def _check(way: Way, folder: Path, fail: Callable[[str], BadInput]) -> None:
    """Raise BadInput for a way that could not be gone."""
    if isinstance(way, MailEntry):
        addresses = [way.sender, *([way.to] if isinstance(way.to, str) else way.to)]
        wrong = [one for one in addresses if not _MAILBOX.fullmatch(one)]
        if wrong or len(addresses) < 2:
            raise fail(
                f"mail: {shown(wrong[0]) if wrong else 'to'} is no mailbox; expected one such as dns@gullmarsh.example"
            )
        if way.tls and way.starttls:
            raise fail("mail: tls and starttls; one of them: tls is TLS from the first byte")
        if way.user and not (way.tls or way.starttls):
            raise fail("mail: a password is only sent over TLS; add starttls = true or tls = true")
        if way.user and not (way.password_file or way.password_env):
            raise fail("mail: user wants password_file or password_env")
        _check_files(fail, folder, "mail", way.password_file, way.ca_file)
    elif isinstance(way, WebhookEntry):
        if bool(way.url) == bool(way.url_file):
            raise fail("webhook: url_file (or url, where it is no secret) says where to; one of them")
        if way.url and not way.url.startswith(("https://", "http://")):
            raise fail("webhook: url begins with https:// or http://")
        if way.kind not in KINDS and not way.kind.endswith((".json.j2", ".txt.j2")):
            near = hint(way.kind, KINDS, otherwise=f"{', '.join(KINDS)}, or a template NAME.json.j2 or NAME.txt.j2")
            raise fail(f"webhook: kind {shown(way.kind)} is not known; {near}")
        template = way.kind if way.kind not in KINDS else ""
        _check_files(fail, folder, "webhook", way.url_file, way.ca_file, template)
    elif isinstance(way, SyslogEntry):
        if way.facility not in FACILITIES:
            raise fail(f"syslog: facility {shown(way.facility)} is not known; {hint(way.facility, FACILITIES)}")
        _check_files(fail, folder, "syslog", way.ca_file)


def _check_files(fail: Callable[[str], BadInput], folder: Path, word: str, *names: str) -> None:
    """Raise BadInput for a file that is not there."""
    for name in filter(None, names):
        if not (folder / name).is_file():
            raise fail(f"{word}: {shown(name)}: there is no such file")


def secret_in(folder: Path, file: str, variable: str, place: str) -> str:
    """Return the secret in a file's first line, or in an environment variable. Raises BadInput, which does not show it."""
    if not file:
        found = os.environ.get(variable, "")
        if not found:
            raise BadInput(f"{place}: the environment variable {shown(variable)} is not set")
        return found
    try:
        found = (folder / file).read_text(encoding="utf-8").strip("\r\n ")
    except (OSError, UnicodeDecodeError) as error:
        raise BadInput(f"{place}: {shown(file)} cannot be read: {getattr(error, 'strerror', 'no UTF-8')}") from None
    if not found or not found.isprintable():
        raise BadInput(f"{place}: {shown(file)} has to hold one line")
    return found


def _wanted(words: Sequence[str], fail: Callable[[str], BadInput]) -> Wanted:
    """Return what `on` asks for."""
    plain, runs, days = set(), 0, -1
    for word in words:
        if match := re.fullmatch(r"unverified-for (\d{1,4}) runs?", word):
            runs = int(match[1])
        elif match := re.fullmatch(r"acceptance-ends(?: in (\d{1,4}) days?)?", word):
            days = int(match[1] or _ENDS_WITHIN_DAYS)
        elif word in EVENTS:
            plain.add(word)
        else:
            raise fail(f"on: {shown(word)} is not known; {hint(word, EVENTS)}")
    if not words or ("unverified-for 0 runs" in words):
        raise fail(f"on: nothing would be sent; known: {', '.join(EVENTS)}")
    return Wanted("new-fault" in plain, "new-caution" in plain, "gone" in plain, "run-failed" in plain, runs, days)


def _quiet(text: str, fail: Callable[[str], BadInput]) -> tuple[time, time] | None:
    """Return the hours in which nothing is sent."""
    if not text:
        return None
    match = re.fullmatch(r"(\d\d:\d\d)\s*-\s*(\d\d:\d\d)", text)
    try:
        begin, end = (time.fromisoformat(part) for part in match.groups()) if match else (time(), time())
    except ValueError:
        begin = end = time()
    if begin == end:
        raise fail(f"quiet: {shown(text)} are no hours; expected such as 22:00-06:00")
    return begin, end


def _at_most(text: str, fail: Callable[[str], BadInput]) -> tuple[int, int] | None:
    """Return how many messages are sent at most in so many seconds."""
    if not text:
        return None
    match = re.fullmatch(r"(\d{1,4})\s*(?:an?|each|per|/)\s*(minute|hour|day|week)", text)
    if match is None or not int(match[1]):
        raise fail(f'at_most: {shown(text)} is no limit; expected such as "1 an hour" or "3 a day"')
    return int(match[1]), _UNITS[match[2]]
