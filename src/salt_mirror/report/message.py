"""What is new, as a message to people: a subject that is the answer, and a text that folds findings as the terminal does.

Strategy: a message is read on a telephone. What is alike or has one cause is one line, causes first; a list that is long ends
with how many more there are. Every text is cleaned here; what markup means in a medium is that medium's to escape.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from datetime import datetime
from typing import Any, NamedTuple

import msgspec

from salt_mirror.catalogue import catalogue
from salt_mirror.checks.audit.news import (
    FLAPS_WITHIN_RUNS,
    ChannelNews,
    EndingAcceptance,
    FailedRuns,
    Occurrence,
    StandingCounts,
)
from salt_mirror.checks.common.wording import local_moment, many, rounded
from salt_mirror.report.cleaning import clean
from salt_mirror.report.folding import Fold, folded
from salt_mirror.report.json.notice import Notice, NoticeItem, WatchEnd

MOST_LINES = 12
"""So many lines a part of a message has at most."""
MOST_ITEMS = 500
"""So many findings a list of the document has at most."""
_LONGEST_SUBJECT = 180


class Told(NamedTuple):
    """What a message is about: the estate (title, or its file), the command with what it looked at, when the run began (UTC),
    what stands after it, and the reports that it wrote."""

    title: str
    estate: str
    command: str
    about: str
    started: datetime
    now: StandingCounts | None = None
    reports: tuple[str, ...] = ()

    @property
    def of(self) -> str:
        """What the subject begins with: the estate by its title, or by its file."""
        return self.title or self.estate or "Salt Mirror"


def notice_of(
    channel: str, news: ChannelNews, told: Told, zones: Iterable[tuple[str, str]] = (), *, sample: bool = False
) -> Notice:
    """Return the message about some news; `zones` are apexes by view, by which findings are told apart."""
    parts = _Parts(news, told.started, list(zones))
    lists: dict[str, Any] = {word: _items(getattr(news, word)) for word in _LISTS}
    left_out = sum(len(getattr(news, word)) - len(items) for word, items in lists.items())
    lines = [
        *parts.lines,
        "",
        *([_now(told.now)] if told.now is not None else []),
        f"Run of {local_moment(told.started)}: {told.about or told.command}. salt-mirror explain CODE says what a code means.",
        *(f"Report: {path}" for path in told.reports),
    ]
    return _notice(
        channel, told, f"{'[sample] ' if sample else ''}{told.of}: {parts.headline}", lines, **lists, ending=news.ending,
        failed=news.failed, runs_again=news.runs_again, now=told.now, left_out=left_out, reports=list(told.reports),
        sample=sample,
    )  # fmt: skip


def notice_of_watch(channel: str, watch: WatchEnd, lines: Iterable[str], told: Told) -> Notice:
    """Return the message that a watch has ended."""
    return _notice(channel, told, f"{told.of}: {watch.says}", list(lines), watch=watch)


def _notice(channel: str, told: Told, subject: str, lines: list[str], **more: Any) -> Notice:
    """Return a message with its head, a subject that is not too long, and what `more` there is in it."""
    says = subject if len(subject) <= _LONGEST_SUBJECT else f"{subject[: _LONGEST_SUBJECT - 1]}…"
    return _cleaned(
        Notice(
            channel=channel, title=told.title, estate=told.estate, command=told.command, about=told.about,
            started=told.started, says=says, lines=lines, **more,
        )
    )  # fmt: skip


def _cleaned(notice: Notice) -> Notice:
    """Return a message with every text in it cleaned, wherever it came from: no medium has to think of control characters."""

    def walk(value: Any) -> Any:
        if isinstance(value, str):
            return clean(value)
        if isinstance(value, dict):
            return {key: walk(inner) for key, inner in value.items()}
        return [walk(inner) for inner in value] if isinstance(value, list) else value

    return msgspec.convert(walk(msgspec.to_builtins(notice)), Notice)


_LISTS = ("new", "gone", "passed", "flapping", "calm", "unverified", "verified")


def _items(found: list[Occurrence]) -> list[NoticeItem]:
    return [
        NoticeItem(
            code=one.finding.code,
            title=catalogue()[one.finding.code].title if one.finding.code in catalogue() else "",
            weight=one.finding.weight,
            view=one.finding.view,
            name=one.finding.name,
            type=one.finding.type,
            address=one.finding.address,
            server=one.finding.server or "",
            text=one.finding.text,
            cause=one.finding.cause,
            since=one.first,
            ended=one.ended,
            times=one.times,
            runs=one.runs,
        )
        for one in found[:MOST_ITEMS]
    ]


class _Parts:
    """The parts of a message, the worst first."""

    def __init__(self, news: ChannelNews, started: datetime, zones: list[tuple[str, str]]) -> None:
        self._started = started
        self._zones = zones
        self._counts: list[str] = []
        self._folds: list[Fold] = []
        self.lines: list[str] = []
        faults = [one for one in news.new if one.finding.weight == "fault"]
        cautions = [one for one in news.new if one.finding.weight != "fault"]
        runs = min((one.runs for one in news.unverified), default=0)
        if news.failed is not None:
            self._failed(news.failed)
        self._part("NEW FAULTS", faults, self._since, "new fault", "new faults")
        self._part("NEW CAUTIONS", cautions, self._since, "new caution", "new cautions")
        self._part("GONE", news.gone, _stood, "gone")
        self._part("CAME AND WENT", news.passed, _passed, "came and went")
        self._part("COMES AND GOES", news.flapping, _flaps, "comes and goes", "come and go")
        self._part("NO LONGER COMES AND GOES", news.calm, self._calm, "no longer changing")
        title = f"UNVERIFIED FOR {many(runs, 'RUN', 'RUNS')}"
        self._part(title, news.unverified, _doubted, f"unverified for {many(runs, 'run')}")
        self._part("VERIFIED AGAIN", news.verified, _was_doubted, "verified again")
        self._ending(news.ending)
        if news.runs_again is not None:
            self._runs_again(news.runs_again)

    @property
    def headline(self) -> str:
        """What there is, as counts; of a single thing also what it is."""
        text = ", ".join(self._counts) or "nothing new"
        if len(self._folds) == 1 and len(self._counts) == 1:
            fold = self._folds[0]
            return f"{text}: {fold.findings[0].text if fold.alone else fold.says}"
        return text

    def _part(
        self, title: str, found: list[Occurrence], when: Callable[[Occurrence], str], one: str, several: str = ""
    ) -> None:
        """Add a part; what has one cause counts as one thing."""
        if not found:
            return
        findings = [occurrence.finding for occurrence in found]
        things = len({finding.cause or number for number, finding in enumerate(findings)})
        self._counts.append(f"{things:,} {one if things == 1 else several or one}")
        self._begin(f"{title}: {things:,}" + (f" ({many(len(found), 'finding')})" if things < len(found) else ""))
        by_finding = {id(occurrence.finding): occurrence for occurrence in found}
        folds = folded(findings, self._zones)
        self._folds += folds
        for fold in folds[:MOST_LINES]:
            self.lines.append(f"- {_said(fold, by_finding, when)}")
        left = sum(len(fold.findings) for fold in folds[MOST_LINES:])
        if left:
            self.lines.append(f"- and {many(left, 'more finding', 'more findings')}")

    def _begin(self, title: str) -> None:
        self.lines += ["", title] if self.lines else [title]

    def _since(self, one: Occurrence) -> str:
        again = f"began {one.times} times, " if one.times > 1 else ""
        since = f"since {local_moment(one.first)}" if one.first != self._started else ""
        return f"{again}{since}".rstrip(", ")

    def _calm(self, one: Occurrence) -> str:
        if one.ended is None:
            return f"there to stay, since {local_moment(one.first)}"
        return f"gone since {local_moment(one.ended)}"

    def _failed(self, failed: FailedRuns) -> None:
        self._counts.append("the run failed" if failed.times == 1 else f"{many(failed.times, 'run')} failed")
        self._begin("RUN FAILED")
        self.lines.append(f"- {failed.why}")
        self.lines.append(f"- no result since {local_moment(failed.first)}; this is sent once, until a run succeeds")

    def _runs_again(self, failed: FailedRuns) -> None:
        self._counts.append(f"runs again after {many(failed.times, 'failed run')}")
        self._begin("RUNS AGAIN")
        self.lines.append(
            f"- after {many(failed.times, 'failed run')} since {local_moment(failed.first)}: {failed.why}"
        )

    def _ending(self, ending: list[EndingAcceptance]) -> None:
        if not ending:
            return
        over = sum(one.over for one in ending)
        self._counts += [f"{many(over, 'acceptance')} ended"] if over else []
        self._counts += [f"{many(len(ending) - over, 'acceptance')} ending soon"] if len(ending) > over else []
        self._begin(f"ACCEPTANCES THAT END: {len(ending):,}")
        for one in ending[:MOST_LINES]:
            ends = f"ended on {one.until}" if one.over else f"ends on {one.until}"
            self.lines.append(f"- {one.code} for {one.name} {ends} ({one.reason}): mend it, or set another day")
        if len(ending) > MOST_LINES:
            self.lines.append(f"- and {many(len(ending) - MOST_LINES, 'more', 'more')}")


def _said(fold: Fold, by_finding: dict[int, Occurrence], when: Callable[[Occurrence], str]) -> str:
    """Return the line of a fold: what it is, its codes, and when that was, where that is the same of all."""
    codes = ", ".join(dict.fromkeys(one.code for one in fold.findings))
    moments = dict.fromkeys(when(by_finding[id(one)]) for one in fold.findings)
    text = fold.findings[0].text if fold.alone else f"{fold.says}{fold.named}"
    first = next(iter(moments))
    ends = f" ({codes})" if len(moments) > 1 or not first else f" ({codes}; {first})"
    return f"{text.rstrip('.') if fold.alone else text}{ends}"


def _stood(one: Occurrence) -> str:
    if one.ended is None:
        return ""
    return f"open for at most {rounded(round((one.ended - one.first).total_seconds()))}"


def _passed(one: Occurrence) -> str:
    times = f"{one.times} times, last " if one.times > 1 else ""
    return f"{times}seen {local_moment(one.first)}, gone {local_moment(one.ended)}" if one.ended is not None else ""


def _flaps(one: Occurrence) -> str:
    return f"{one.times} times in the last {FLAPS_WITHIN_RUNS} runs; not sent again until that ends"


def _doubted(one: Occurrence) -> str:
    return f"since {local_moment(one.first)}"


def _was_doubted(one: Occurrence) -> str:
    return f"since {local_moment(one.first)}, until this run"


def _now(now: StandingCounts) -> str:
    doubts = f", {now.unverified:,} unverified" if now.unverified else ""
    return f"In all: {many(now.faults, 'fault')}, {many(now.cautions, 'caution')}{doubts}."
