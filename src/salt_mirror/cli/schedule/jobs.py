"""What is run when: the audit, a look whether it ran, and messages that were held back.

Strategy: plain data, the same for every scheduler; the forms of each are in `forms`.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import time
from pathlib import Path

from salt_mirror.cli.messages import FAULT, UNVERIFIED
from salt_mirror.dns.names import shown
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.notify import Channel

NIGHT = time(2, 30)
MORNING = time(8, 0)
"""When it is looked whether the audit ran: somebody is there by then."""
_DAY_MINUTES = 24 * 60
_PATTERN = re.compile(r"(\d{1,3})\s*(m|min|h|d)")
_MINUTES = {"m": 1, "min": 1, "h": 60, "d": _DAY_MINUTES}


@dataclass(frozen=True, slots=True)
class Rhythm:
    """How often: every so many minutes (which divide an hour, or a day), or each day `at` a time of this computer's."""

    minutes: int
    at: time = NIGHT

    @property
    def is_daily(self) -> bool:
        """Whether it is once a day."""
        return self.minutes == _DAY_MINUTES

    @property
    def says(self) -> str:
        """The same in words."""
        if self.is_daily:
            return f"every day at {self.at:%H:%M}"
        hours, minutes = divmod(self.minutes, 60)
        if minutes:
            return f"every {minutes} minutes" if minutes > 1 else "every minute"
        return f"every {hours} hours" if hours > 1 else "every hour"


@dataclass(frozen=True, slots=True)
class Job:
    """One thing that is run: the name of its unit or task, what it is, the program with its arguments, and how often. Statuses
    in `results` are what it found, and no failure of the job."""

    name: str
    says: str
    words: list[str]
    rhythm: Rhythm
    results: tuple[int, ...] = ()


def rhythm_of(text: str) -> Rhythm:
    """Return how often a word means. Raises BadInput for what no scheduler can keep to."""
    wrong = BadInput(f"--every: {shown(text)}; expected night (02:30), a time such as 03:15, or such as 15m, 1h or 6h")
    if text == "night":
        return Rhythm(_DAY_MINUTES)
    if re.fullmatch(r"\d\d:\d\d", text):
        try:
            return Rhythm(_DAY_MINUTES, time.fromisoformat(text))
        except ValueError:
            raise wrong from None
    match = _PATTERN.fullmatch(text)
    if match is None:
        raise wrong
    minutes = int(match[1]) * _MINUTES[match[2]]
    if not 0 < minutes <= _DAY_MINUTES or (60 % minutes if minutes < 60 else (minutes % 60 or _DAY_MINUTES % minutes)):
        raise BadInput(
            f"--every: {shown(text)} divides no hour and no day, so that its runs would drift; try 15m, 1h or 6h"
        )
    return Rhythm(minutes)


def jobs_of(program: list[str], estate: Path, folder: Path, rhythm: Rhythm, channels: list[Channel]) -> list[Job]:
    """Return what is run: `program` is how this one is begun, `folder` where its history and reports are."""
    history = str(folder / "audits.db")
    names = [word for channel in channels for word in ("--notify", channel.name)]
    audit = [*program, "audit", "--quiet", "--estate", str(estate), "--history", history, "--changed"]
    if not rhythm.is_daily:  # one whole run a day
        audit += ["--whole-every", str(max(1, _DAY_MINUTES // rhythm.minutes))]
    audit += ["--fail-on", "new", "--report", f"html:{folder / 'audit.html'}"]
    audit += ["--report", f"openmetrics:{folder / 'audit.prom'}", *names]
    overdue = "26h" if rhythm.is_daily else f"{4 * rhythm.minutes}min"
    check = [*program, "history", history, "--check", "--at-least-every", overdue]
    check += ["--estate", str(estate), *names] if names else []
    daily = Rhythm(_DAY_MINUTES, MORNING)
    found = [
        Job("salt-mirror-audit", "audit of the estate's DNS records", audit, rhythm, (FAULT, UNVERIFIED)),
        Job("salt-mirror-check", "look whether the audit ran", check, daily if rhythm.minutes >= 60 else Rhythm(60)),
    ]
    for channel in channels:
        if channel.quiet is not None and rhythm.is_daily and channel.is_quiet_at(rhythm.at):
            held = [*program, "notify", "--held", channel.name, "--history", history, "--estate", str(estate)]
            name = re.sub(r"[^A-Za-z0-9-]+", "-", channel.name)
            says = f"messages to {channel.name} that were held back in its quiet hours"
            found.append(Job(f"salt-mirror-held-{name}", says, held, Rhythm(_DAY_MINUTES, channel.quiet[1])))
    return found
