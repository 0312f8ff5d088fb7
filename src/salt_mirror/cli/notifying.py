"""`--notify`: the channels of the estate that a run reports to, and what is sent to each when it ends.

Strategy: a message is sent after everything else, and whatever becomes of it changes no verdict: it has a line of its own on
standard error, and an exit status of its own where all else is well.
"""

from __future__ import annotations

import tomllib
from collections.abc import Callable, Iterable
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import msgspec
import typer

from salt_mirror.checks.audit.news import (
    FAILED,
    NOTHING_NEW,
    ChannelNews,
    ChannelPast,
    FailedRuns,
    StandingCounts,
    news_of,
)
from salt_mirror.checks.common.wording import duration, local_moment
from salt_mirror.cli.messages import tell
from salt_mirror.dns.errors import Unusable
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.file import EstateFile, read_estate_file
from salt_mirror.estate.notify import Channel, NotifyEntry, channel_of
from salt_mirror.estate.reading import is_there
from salt_mirror.keeping.history import BusyHistory
from salt_mirror.keeping.ledger import channel_past, failed_run, mark_of, not_told, set_mark, told_all
from salt_mirror.notify.delivery import attempt, check, deliver
from salt_mirror.notify.trouble import Undelivered
from salt_mirror.report.document import Report, now
from salt_mirror.report.json.notice import Notice, WatchEnd
from salt_mirror.report.message import Told, notice_of, notice_of_watch


def channels_of(names: Iterable[str], file: EstateFile, path: Path) -> list[Channel]:
    """Return channels of an estate by their names, checked. Raises BadInput."""
    found = []
    for name in dict.fromkeys(names):
        if name not in file.notify:
            known = file.notify or ["none: [notify.NAME] in the estate describes one"]
            raise BadInput.unknown("--notify: there is no channel", name, known)
        channel = channel_of(name, file.notify[name], path)
        check(channel)
        found.append(channel)
    return found


def with_messages(names: list[str], path: Path, history: Path, about: str, run: Callable[[Messenger], Any]) -> Any:
    """Run a command that reports to channels; one that fails is reported as that. `path` is the estate's file, if there is
    one."""
    messenger = Messenger(history, about)
    try:
        if not is_there(path):
            raise BadInput("--notify: a channel stands in an estate, and there is none here; name one with --estate")
        messenger.open(names, path)
        return run(messenger)
    except (BusyHistory, BrokenPipeError, typer.Exit, typer.Abort):
        # Another run is under way, and will tell; whoever reads has seen enough; or it ended as it should.
        raise
    except Unusable as error:
        messenger.failed(str(error))
        raise
    except (KeyboardInterrupt, Exception) as error:
        messenger.failed("it was interrupted" if isinstance(error, KeyboardInterrupt) else f"internal error: {error!r}")
        raise


class Messenger:
    """Sends to channels what a run has brought. `scope` is what the run is about, as its history has it, and in words."""

    def __init__(self, history: Path, scope: str) -> None:
        self._scope = scope
        self._history = history
        self._about = scope
        self._channels: list[Channel] = []
        self._title = ""
        self._path = Path()
        self._accept: list[Any] = []

    def is_about(self, scope: str, says: str) -> None:
        """Set what the run is about, where the command knows better than its words."""
        self._scope, self._about = scope, says

    def open(self, names: list[str], path: Path) -> None:
        """Take the channels from an estate. Raises BadInput, and knows what it can of them even then."""
        self._path = path
        try:
            file = read_estate_file(path)
        except BadInput:
            self._channels = _channels_at_least(names, path)
            raise
        self._title, self._accept = file.title, file.accept
        self._channels = channels_of(names, file, path)

    def after(self, report: Report, reports: Iterable[Path] = ()) -> list[str]:
        """Send what is new after a run, and return what could not be delivered, a line each."""
        if report.interrupted:
            self.failed("it was interrupted")
            return []
        problems = []
        now_there = StandingCounts(
            faults=len(report.weighing("fault")),
            cautions=len(report.weighing("caution")),
            unverified=len(report.unverified),
        )
        told = Told(
            report.title, str(self._path), report.command, self._about, report.started, now_there,
            tuple(str(path.absolute()) for path in reports),
        )  # fmt: skip
        zones = [(line.view, line.zone) for line in report.audit.zones] if report.audit else []
        for channel in self._channels:
            try:
                _, trouble = send_news(channel, self._history, self._scope, self._accept, told, zones)
            except BadInput as error:
                trouble = str(error)
            if trouble:
                problems.append(f"notify, {channel.name}: {trouble}")
        return problems

    def failed(self, why: str) -> None:
        """Tell that the run came to no result: once, until one does."""
        moment = now()
        told = Told(self._title, str(self._path), self._about.split()[0], self._about, moment)
        try:
            failed = failed_run(self._history, self._scope, moment, why[:500])
        except BadInput:
            failed = None
        for channel in self._channels:
            if not channel.wanted.run_failed or channel.is_quiet(moment):
                continue
            if failed is not None and mark_of(self._history, channel.name, self._scope, FAILED) is not None:
                continue
            what = failed or FailedRuns(first=moment, times=1, why=why[:500])
            notice = notice_of(channel.name, NOTHING_NEW._replace(failed=what), told)
            trouble = attempt(channel, notice)
            if trouble:
                tell(trouble)
            elif failed is not None:
                set_mark(self._history, channel.name, self._scope, FAILED, msgspec.json.encode(failed))


def _channels_at_least(names: list[str], path: Path) -> list[Channel]:
    """Return the channels of an estate in which something else is wrong."""
    found = []
    try:
        raw = tomllib.loads(path.read_text(encoding="utf-8-sig"))["notify"]
        for name in names:
            channel = channel_of(name, msgspec.convert(raw[name], NotifyEntry), path)
            check(channel)
            found.append(channel)
    except (OSError, ValueError, KeyError, TypeError, Unusable):
        pass
    return found


def held_back(channel: Channel, past: ChannelPast, moment: datetime) -> str:
    """Return why a channel gets no message at a moment; empty where it may."""
    if channel.is_quiet(moment):
        assert channel.quiet is not None
        return f"quiet until {channel.quiet[1]:%H:%M}"
    if channel.at_most is not None:
        most, seconds = channel.at_most
        since = moment - timedelta(seconds=seconds)
        recent = [one for one in past.sent if one > since]
        if len(recent) >= most:
            return f"at most {most} in {seconds} s, and the last was sent {recent[-1]:%Y-%m-%d %H:%M} UTC"
    return ""


def send_news(
    channel: Channel,
    history: Path,
    scope: str,
    accept: list[Any],
    told: Told,
    zones: list[tuple[str, str]],
    moment: datetime | None = None,
) -> tuple[bool, str]:
    """Send a channel what is new since its last message, and write down that it was; return whether a message was sent, and why
    it, or a part of it, could not be delivered. `moment` is when that is, the run's begin without it. Raises BadInput for a
    history that cannot be used."""
    past = channel_past(history, channel.name, scope)
    news = news_of(channel, past, told.started, accept)
    if not news:
        told_all(history, channel.name, scope, past, news.marks)
        return False, ""
    if held_back(channel, past, moment or told.started):
        return False, ""
    notice, trouble = _late(notice_of(channel.name, news, told, zones), past), ""
    try:
        deliver(channel, notice)
    except Undelivered as error:
        if not error.partly:
            not_told(history, channel.name, scope, told.started, str(error))
            return False, f"not delivered, and sent again with the next run: {error}"
        trouble = f"delivered in part: {error}"
    told_all(history, channel.name, scope, past, news.marks, moment or told.started)
    return True, trouble


def send_watch(channels: Iterable[Channel], report: Report) -> list[str]:
    """Send how a watch ended, and return what could not be delivered, a line each. A watch is waited for: quiet hours and
    limits do not hold it back."""
    says = report.says or report.headline
    told = Told(report.title, report.estate or "", "settle", "settle", report.started)
    lines = [says, "", *(f"- {one.text}" for one in report.findings)]
    lines.append(f"The watch began {local_moment(report.started)} and took {duration(round(report.seconds))}.")
    end = WatchEnd(says=says, outcome=report.outcome)
    troubles = [attempt(channel, notice_of_watch(channel.name, end, lines, told)) for channel in channels]
    return [trouble for trouble in troubles if trouble]


def _late(notice: Notice, past: ChannelPast) -> Notice:
    """Return a message with a line that says so where the one before it did not arrive."""
    if past.failing is None:
        return notice
    line = f"No message could be delivered since {past.failing.astimezone(UTC):%Y-%m-%d %H:%M} UTC: {past.why}"
    return msgspec.structs.replace(notice, lines=[*notice.lines, line])


def sample() -> ChannelNews:
    """Return made-up news, to try a channel with."""
    from salt_mirror.checks.audit.news import Occurrence
    from salt_mirror.checks.common.wording import state
    from salt_mirror.dns.names import from_text
    from salt_mirror.dns.records import A

    text = "192.0.2.10 of www.example. has no PTR record (a sample: nothing was asked)."
    address = bytes((192, 0, 2, 10))
    finding = state("pair.no-pointer", text, name=from_text("www.example."), rdtype=A, view="", address=address)
    return NOTHING_NEW._replace(new=[Occurrence("sample", finding, now())])
