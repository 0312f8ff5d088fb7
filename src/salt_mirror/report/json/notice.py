"""What a channel of `[notify]` is sent, as one JSON document: the webhook, the command and the file get it as it is."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

import msgspec

from salt_mirror.checks.audit.news import EndingAcceptance, FailedRuns, StandingCounts
from salt_mirror.findings import Outcome, Weight


class NoticeItem(msgspec.Struct, frozen=True, kw_only=True):
    """A finding of a message: what it is, `since` when a run has seen it and when one missed it (`ended`), how often it began
    (`times`), in how many `runs` on end it could not be verified, and the `cause` that it shares with others."""

    code: str
    title: str
    weight: Weight
    view: str
    name: str
    type: str
    address: str | None
    server: str
    text: str
    cause: str
    since: datetime
    ended: datetime | None
    times: int
    runs: int


class WatchEnd(msgspec.Struct, frozen=True, kw_only=True):
    """How a watch of `settle` ended."""

    says: str
    outcome: Outcome


class Notice(msgspec.Struct, frozen=True, kw_only=True):
    """A message: `says` is its subject, `lines` its text. The lists are what is `new` and `gone`; `passed` came and went since
    the last message; `flapping` comes and goes, `calm` no longer does; `unverified` for so many runs as was wished, and
    `verified` again. `left_out` counts findings beyond what a list takes. `started` is the run's begin (UTC), `about` what it
    looked at (everything, where that is empty), `reports` the files that it wrote; `sample` marks a trial."""

    schema: Literal["salt-mirror/notice/1"] = "salt-mirror/notice/1"
    channel: str
    title: str
    estate: str
    command: str
    about: str
    started: datetime
    says: str
    lines: list[str]
    new: list[NoticeItem] = []
    gone: list[NoticeItem] = []
    passed: list[NoticeItem] = []
    flapping: list[NoticeItem] = []
    calm: list[NoticeItem] = []
    unverified: list[NoticeItem] = []
    verified: list[NoticeItem] = []
    ending: list[EndingAcceptance] = []
    failed: FailedRuns | None = None
    runs_again: FailedRuns | None = None
    watch: WatchEnd | None = None
    now: StandingCounts | None = None
    left_out: int = 0
    reports: list[str] = []
    sample: bool = False
