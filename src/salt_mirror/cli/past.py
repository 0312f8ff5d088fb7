"""What `history` does beside showing the past: it looks whether runs are missed, and makes a history smaller."""

from __future__ import annotations

import sys
from datetime import datetime, timedelta
from pathlib import Path
from typing import NoReturn

import typer
from msgspec.structs import replace

from salt_mirror.catalogue import catalogue
from salt_mirror.checks.audit.lines import Run
from salt_mirror.checks.audit.news import MISSED, NOTHING_NEW, Occurrence, StandingCounts
from salt_mirror.checks.common.wording import duration, local_moment, many, rounded, state
from salt_mirror.cli.arguments import estate_file, seconds_of
from salt_mirror.cli.messages import UNDELIVERED, show, tell
from salt_mirror.cli.notifying import channels_of
from salt_mirror.dns.names import ROOT
from salt_mirror.dns.records import SOA
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.file import read_estate_file
from salt_mirror.findings import Finding
from salt_mirror.keeping.compaction import compact
from salt_mirror.keeping.history import hold, runs_in
from salt_mirror.keeping.ledger import failures, mark_of, set_mark, undelivered
from salt_mirror.notify.delivery import attempt
from salt_mirror.report.cleaning import clean
from salt_mirror.report.document import Counts, Report, now
from salt_mirror.report.json.report import as_json
from salt_mirror.report.message import Told, notice_of

_LEAST_KEPT_S = 7 * 86_400
"""Runs of the last days say what comes and goes, and stay as they are."""


def compact_and_tell(path: Path, text: str) -> None:
    """Make a history smaller, and say by how much. Raises BadInput."""
    seconds = seconds_of(text, "--compact")
    if seconds < _LEAST_KEPT_S:
        raise BadInput("--compact: the runs of the last 7 days stay as they are; name a longer time, such as 400d")
    hold(path)
    before = now() - timedelta(seconds=seconds)
    done = compact(path, before)
    if done.runs_before == done.runs_after:
        show(f"Nothing to compact: {many(done.runs_before, 'run')} before {before:%Y-%m-%d}, at most one a day.\n")
        return
    sizes = f"{done.bytes_before / 2**20:.1f} MiB, now {done.bytes_after / 2**20:.1f} MiB"
    show(
        f"{many(done.runs_before, 'run')} before {before:%Y-%m-%d} became {many(done.runs_after, 'day')}; the file: {sizes}. "
        "Findings keep their whole past.\n"
    )


def check_and_end(
    path: Path, at_least_every: str | None, names: list[str], estate: Path | None, *, json: bool
) -> NoReturn:
    """Say whether runs are missed or fail, and whether messages arrive; end with the exit status of that. Raises BadInput."""
    if at_least_every is None:
        raise BadInput("--check: how long may pass between runs? Name it with --at-least-every TIME, such as 26h")
    longest_s = seconds_of(at_least_every, "--at-least-every")
    where = estate_file(estate)
    file = read_estate_file(where) if names else None
    channels = channels_of(names, file, where) if file is not None else []
    moment = now()
    runs = runs_in(path)
    findings = checked(path, runs, moment, longest_s)
    faults = sum(one.weight == "fault" for one in findings)
    report = Report(
        command="history", title=file.title if file else "", estate=str(where) if file else None, started=moment, seconds=0.0,
        outcome="differs" if faults else "agrees",
        counts=Counts(agrees=0 if faults else 1, differs=1 if faults else 0, unverified=0, questions=0),
        says=says_of(runs, findings, moment, longest_s), findings=findings,
    )  # fmt: skip
    if json:
        sys.stdout.buffer.writelines(as_json(report, ()))
    else:
        show(f"{report.says}\n")
        for one in findings:
            show(f"\n{one.weight:<8}{catalogue()[one.code].title} ({one.code})\n        {clean(one.text)}\n")
    news = NOTHING_NEW._replace(new=[Occurrence("", one, moment) for one in findings if one.code != "run.undelivered"])
    told = Told(report.title, str(where), "history", f"history {path} --check", moment, _last(runs))
    last = f"{runs[0].started.isoformat() if runs else ''} {' '.join(one.code for one in findings)}".encode()
    lost = 0
    for channel in channels:
        if (
            not news
            or not channel.wanted.run_failed
            or channel.is_quiet(moment)
            or mark_of(path, channel.name, "", MISSED) == last
        ):
            continue
        trouble = attempt(channel, notice_of(channel.name, news, told))
        if trouble:
            tell(trouble)
            lost += 1
        else:
            set_mark(path, channel.name, "", MISSED, last)
    raise typer.Exit(report.exit_status() or (UNDELIVERED if lost else 0))


def _last(runs: list[Run]) -> StandingCounts | None:
    if not runs:
        return None
    return StandingCounts(faults=runs[0].faults, cautions=runs[0].cautions, unverified=runs[0].unverified)


def checked(path: Path, runs: list[Run], moment: datetime, longest_s: float) -> list[Finding]:
    """Return what is wrong with the runs of a history. Raises BadInput."""
    found = []
    if not runs:
        text = f"{path} has no run yet, and one is expected every {duration(round(longest_s))}."
        found.append(_finding("run.missed", text, path.name))
    elif (moment - runs[0].started).total_seconds() > longest_s:
        text = f"{_overdue(runs[0], moment)}, and one is expected every {duration(round(longest_s))}."
        found.append(_finding("run.missed", text, path.name))
    for scope, failed in failures(path).items():
        about = f" of {scope}" if scope else ""
        begin = f"{many(failed.times, 'run')}{about} failed since {local_moment(failed.first)}"
        found.append(_finding("run.failed", f"{begin}; the last one said: {failed.why}", scope or path.name))
    for channel, scope, since, why in undelivered(path):
        about = f" about {scope}" if scope else ""
        text = f"The channel {channel} was sent nothing{about} since {local_moment(since)}: {why}."
        found.append(_finding("run.undelivered", text, f"{channel} {scope}".strip()))
    return found


def says_of(runs: list[Run], findings: list[Finding], moment: datetime, longest_s: float) -> str:
    """Return the answer in one sentence."""
    if not runs:
        return "No run yet."
    if any(one.code == "run.missed" for one in findings):
        return f"{_overdue(runs[0], moment)}."
    ago = rounded(round((moment - runs[0].started).total_seconds()))
    return f"The last run was {ago} ago ({local_moment(runs[0].started)})."


def _overdue(run: Run, moment: datetime) -> str:
    ago = rounded(round((moment - run.started).total_seconds()))
    return f"No run since {local_moment(run.started)}, {ago} ago"


def _finding(code: str, text: str, about: str) -> Finding:
    finding = state(code, text, name=ROOT, rdtype=SOA)
    return replace(finding, server=about)
