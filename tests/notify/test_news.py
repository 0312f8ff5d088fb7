"""What a channel is sent: held against a judge that only knows, run by run, what was there."""

from __future__ import annotations

import tempfile
from datetime import UTC, datetime, timedelta
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from salt_mirror.checks.audit.news import ChannelNews, news_of
from salt_mirror.cli.notifying import held_back
from salt_mirror.estate.file import parse_estate
from salt_mirror.estate.notify import Channel, channel_of
from salt_mirror.findings import Finding
from salt_mirror.keeping.history import FinishedRun, add_run
from salt_mirror.keeping.ledger import channel_past, told_all
from support.examples import examples
from support.large import findings

BEGAN = datetime(2026, 11, 1, 2, 30, tzinfo=UTC)
SOME = list(findings(9))[80:84]
ON = '["new-fault", "new-caution", "gone", "unverified-for 3 runs"]'


def channel(text: str) -> Channel:
    path = Path("estate.toml").absolute()
    return channel_of("duty", parse_estate(f'[notify.duty]\nfile = "x"\n{text}\n', path).notify["duty"], path)


def night(history: Path, number: int, row: str) -> datetime:
    """A run: P is there, A is not, D is in doubt."""
    at, found = BEGAN + timedelta(days=number), list[Finding]()
    for state, finding in zip(row, SOME, strict=False):
        if state == "P":
            found.append(finding)
        elif state == "D":
            found.append(replace(finding, outcome="unverified"))
    add_run(history, FinishedRun("", at, 1.0, "differs", found))
    return at


def names(news: ChannelNews) -> dict[str, set[str]]:
    words = ("new", "gone", "passed", "flapping", "calm", "unverified", "verified")
    return {word: {one.key for one in getattr(news, word)} for word in words if getattr(news, word)}


class Slow:
    """What was there in each run, and what the channel was told, as lists."""

    def __init__(self, rows: list[str]) -> None:
        self.rows = rows
        self.told: dict[int, bool] = {}
        self.told_doubts: set[int] = set()
        self.until = 0

    def there(self, which: int, run: int) -> bool:
        """Whether it is there after a run: a doubt changes nothing."""
        for row in reversed(self.rows[: run + 1]):
            if row[which] != "D":
                return row[which] == "P"
        return False

    def begins(self, which: int, run: int) -> bool:
        return self.there(which, run) and (run == 0 or not self.there(which, run - 1))

    def flaps(self, which: int, run: int) -> bool:
        return sum(self.begins(which, one) for one in range(max(0, run - 9), run + 1)) >= 3

    def doubted(self, which: int, run: int) -> int:
        row = 0
        while run - row >= 0 and self.rows[run - row][which] == "D":
            row += 1
        return row

    def after(self, run: int) -> dict[str, set[int]]:
        found: dict[str, set[int]] = {}
        for which in range(len(SOME)):
            was, now = self.told.get(which, False), self.there(which, run)
            between = any(self.there(which, one) for one in range(self.until + 1, run + 1))
            flapped, flaps = self.flaps(which, self.until), self.flaps(which, run)
            word = ""
            if flaps or flapped:
                word = "flapping" if flaps and not flapped else "calm" if flapped and not flaps else ""
            elif now != was:
                word = "new" if now else "gone"
            elif not now and between:
                word = "passed"
            if word:
                found.setdefault(word, set()).add(which)
            if self.doubted(which, run) >= 3 and which not in self.told_doubts:
                found.setdefault("unverified", set()).add(which)
            if which in self.told_doubts and self.rows[run][which] != "D":
                found.setdefault("verified", set()).add(which)
        return found

    def deliver(self, run: int) -> None:
        self.told = {which: self.there(which, run) for which in range(len(SOME))}
        for which in range(len(SOME)):
            if self.doubted(which, run) >= 3:
                self.told_doubts.add(which)
            elif self.rows[run][which] != "D":
                self.told_doubts.discard(which)
        self.until = run


@given(
    st.lists(st.text("PPPAAAD", min_size=len(SOME), max_size=len(SOME)), min_size=2, max_size=14),
    st.lists(st.booleans(), min_size=14, max_size=14),
)
@examples(60)
def test_news_are_the_difference_between_what_was_told_and_what_is(rows: list[str], arrives: list[bool]) -> None:
    slow, duty = Slow(["".join("A" if c == "D" else c for c in rows[0]), *rows[1:]]), channel(f"on = {ON}")
    keys = ["|".join(finding.identity) for finding in SOME]
    with tempfile.TemporaryDirectory() as folder:
        history = Path(folder) / "h.db"
        for number, row in enumerate(slow.rows):
            at = night(history, number, row)
            past = channel_past(history, "duty", "")
            news = news_of(duty, past, at)
            expected = slow.after(number) if number else {}
            assert names(news) == {word: {keys[one] for one in which} for word, which in expected.items()}
            if not number or arrives[number]:
                told_all(history, "duty", "", past, news.marks, at if news else None)
                slow.deliver(number)


def test_a_channel_is_sent_what_it_wants_when_it_may_be_sent(tmp_path: Path) -> None:
    history = tmp_path / "h.db"
    night(history, 0, "AAAA")
    pointer, name = SOME[0], SOME[2]
    quiet = channel('on = ["gone"]\nquiet = "22:00-06:00"\nat_most = "1 a day"')
    narrowed = {
        f'codes = ["{pointer.code}"]': [pointer.identity],
        'views = ["public"]': [],
        f'zones = ["{name.name.partition(".")[2]}"]': [name.identity],
    }
    for text in narrowed:
        channel_past(history, text, "")
    quietly = channel_past(history, "quiet", "")
    at = night(history, 1, "PAPA")
    for text, wanted in narrowed.items():
        news = news_of(channel(text), channel_past(history, text, ""), at)
        assert [one.finding.identity for one in news.new] == wanted, text
    assert not news_of(quiet, channel_past(history, "quiet", ""), at)  # it only asked for what is gone
    local = datetime(2026, 11, 2, 12).astimezone()
    assert held_back(quiet, quietly, local.replace(hour=23)) == "quiet until 06:00"
    assert held_back(quiet, quietly, local.replace(hour=5)) and not held_back(quiet, quietly, local)
    lately = quietly._replace(sent=[local - timedelta(hours=23)])
    assert held_back(quiet, lately, local).startswith("at most 1 in 86400 s")
    assert not held_back(quiet, lately, local + timedelta(hours=2))
