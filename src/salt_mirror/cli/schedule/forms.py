"""Jobs as the files of each scheduler: systemd's units, lines of a crontab, Task Scheduler's XML, launchd's property lists.

Strategy: every form quotes a word by its own rules, and each file is whole. What a file is called is what its scheduler's
administrators would look for.
"""

from __future__ import annotations

import plistlib
import shlex
import subprocess
from collections.abc import Callable
from typing import NamedTuple
from xml.sax.saxutils import escape

from salt_mirror.cli.schedule.jobs import Job

OUR_NAMESPACE = "internal.salt-mirror"
"""What the labels of launchd begin with."""
TASK_NAMESPACE = "http://schemas.microsoft.com/windows/2004/02/mit/task"
"""The namespace of Task Scheduler's files: an identifier that their published schema fixes ([MS-TSCH], section 2.5)."""
CRON_BEGIN, CRON_END = "# salt-mirror schedule: begin", "# salt-mirror schedule: end"
"""The lines between which a crontab is ours."""


class ScheduleFile(NamedTuple):
    """A file of a scheduler: its name, and what is in it."""

    name: str
    text: str


def systemd(jobs: list[Job]) -> list[ScheduleFile]:
    """Return a service and a timer for each job (systemd.service(5), systemd.timer(5))."""
    files = []
    for job in jobs:
        service = [
            "[Unit]",
            f"Description=Salt Mirror: {_specifiers(job.says)}",
            "",
            "[Service]",
            "Type=oneshot",
            f"ExecStart={' '.join(map(_unit_word, job.words))}",
            *([f"SuccessExitStatus={' '.join(map(str, job.results))}"] if job.results else []),
            "TimeoutStartSec=6h",
            "Nice=10",
        ]
        timer = [
            "[Unit]",
            f"Description=Salt Mirror: {_specifiers(job.says)}, {job.rhythm.says}",
            "",
            "[Timer]",
            f"OnCalendar={_calendar(job)}",
            # What was missed while the computer was off is run when it is on again.
            "Persistent=true",
            "",
            "[Install]",
            "WantedBy=timers.target",
        ]
        files.append(ScheduleFile(f"{job.name}.service", "\n".join(service) + "\n"))
        files.append(ScheduleFile(f"{job.name}.timer", "\n".join(timer) + "\n"))
    return files


def _calendar(job: Job) -> str:
    """Return when a job runs (systemd.time(7), calendar events)."""
    rhythm = job.rhythm
    if rhythm.is_daily:
        return f"*-*-* {rhythm.at:%H:%M}:00"
    if rhythm.minutes < 60:
        return f"*-*-* *:0/{rhythm.minutes}:00"
    return f"*-*-* 0/{rhythm.minutes // 60}:00:00"


def _specifiers(text: str) -> str:
    return text.replace("%", "%%")


def _unit_word(word: str) -> str:
    """Return a word of a command line (systemd.service(5), command lines): quoted, with nothing left to be replaced."""
    escaped = word.replace("\\", "\\\\").replace('"', '\\"').replace("$", "$$")
    quoted = f'"{escaped}"' if escaped != word or not word or any(c in word for c in " \t'\";") else word
    return _specifiers(quoted)


def cron(jobs: list[Job]) -> list[ScheduleFile]:
    """Return the lines of a user's crontab (crontab(5)), between marks of ours."""
    lines = [CRON_BEGIN]
    for job in jobs:
        rhythm = job.rhythm
        if rhythm.is_daily:
            when = f"{rhythm.at.minute} {rhythm.at.hour} * * *"
        elif rhythm.minutes < 60:
            when = f"*/{rhythm.minutes} * * * *"
        else:
            when = f"0 */{rhythm.minutes // 60} * * *" if rhythm.minutes > 60 else "0 * * * *"
        # An unescaped % ends the command (crontab(5)).
        lines.append(f"# {job.says}, {rhythm.says}")
        lines.append(f"{when} {shlex.join(job.words)}".replace("%", "\\%"))
    lines.append(CRON_END)
    return [ScheduleFile("crontab", "\n".join(lines) + "\n")]


def windows(jobs: list[Job]) -> list[ScheduleFile]:
    """Return a task for each job, as Task Scheduler imports it ([MS-TSCH], section 2.5): elements in the schema's order."""
    return [ScheduleFile(f"{job.name}.xml", _task(job)) for job in jobs]


def _task(job: Job) -> str:
    program, *arguments = job.words
    rhythm = job.rhythm
    every = f"<Interval>PT{rhythm.minutes}M</Interval><Duration>P1D</Duration>"
    repetition = "" if rhythm.is_daily else f"\n      <Repetition>{every}</Repetition>"
    begins = f"2026-01-01T{rhythm.at:%H:%M}:00" if rhythm.is_daily else "2026-01-01T00:00:00"
    # A trigger of each day repeats within that day; StartWhenAvailable runs what was missed.
    return f"""<?xml version="1.0"?>
<Task version="1.2" xmlns="{TASK_NAMESPACE}">
  <RegistrationInfo>
    <Description>Salt Mirror: {escape(job.says)}, {rhythm.says}</Description>
  </RegistrationInfo>
  <Triggers>
    <CalendarTrigger>
      <Enabled>true</Enabled>
      <StartBoundary>{begins}</StartBoundary>{repetition}
      <ScheduleByDay><DaysInterval>1</DaysInterval></ScheduleByDay>
    </CalendarTrigger>
  </Triggers>
  <Settings>
    <MultipleInstancesPolicy>IgnoreNew</MultipleInstancesPolicy>
    <DisallowStartIfOnBatteries>false</DisallowStartIfOnBatteries>
    <StopIfGoingOnBatteries>false</StopIfGoingOnBatteries>
    <StartWhenAvailable>true</StartWhenAvailable>
    <ExecutionTimeLimit>PT6H</ExecutionTimeLimit>
  </Settings>
  <Actions>
    <Exec>
      <Command>{escape(program)}</Command>
      <Arguments>{escape(subprocess.list2cmdline(arguments))}</Arguments>
    </Exec>
  </Actions>
</Task>
"""


def launchd(jobs: list[Job]) -> list[ScheduleFile]:
    """Return a property list for each job (launchd.plist(5))."""
    files = []
    for job in jobs:
        label = f"{OUR_NAMESPACE}.{job.name.removeprefix('salt-mirror-')}"
        rhythm = job.rhythm
        when: dict[str, object] = (
            {"StartCalendarInterval": {"Hour": rhythm.at.hour, "Minute": rhythm.at.minute}}
            if rhythm.is_daily
            else {"StartInterval": rhythm.minutes * 60}
        )
        content = {"Label": label, "ProgramArguments": job.words, "ProcessType": "Background", **when}
        files.append(ScheduleFile(f"{label}.plist", plistlib.dumps(content, sort_keys=False).decode("utf-8")))
    return files


FORMS: dict[str, Callable[[list[Job]], list[ScheduleFile]]] = {
    "systemd": systemd,
    "cron": cron,
    "windows": windows,
    "launchd": launchd,
}
"""The schedulers, and what makes the files of each."""
