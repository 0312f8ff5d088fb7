"""`salt-mirror schedule`: the audit of every night, or of every 15 minutes, for this system's own scheduler."""

from __future__ import annotations

import sys
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from salt_mirror.cli.options import option

if TYPE_CHECKING:
    from salt_mirror.cli.schedule.forms import ScheduleFile
    from salt_mirror.cli.schedule.jobs import Job


class Scheduler(StrEnum):
    """What runs jobs by the clock."""

    SYSTEMD = "systemd"
    CRON = "cron"
    WINDOWS = "windows"
    LAUNCHD = "launchd"


def schedule(
    every: Annotated[str, option("--every", "TIME", "How often: night (02:30), 03:15, 15m, 1h, 6h.")] = "night",
    estate: Annotated[
        Path | None, option("--estate", "FILE", "The estate file; estate.toml in the current folder without it.")
    ] = None,
    notify: Annotated[
        list[str] | None, option("--notify", "NAME", "The channel that gets what is new; may be repeated.")
    ] = None,
    folder: Annotated[
        Path | None,
        option("--folder", "FOLDER", "Where the history and reports are kept; beside the estate without it."),
    ] = None,
    print_: Annotated[
        Scheduler | None, option("--print", None, "For which scheduler; without it, the one of this system.")
    ] = None,
    write: Annotated[Path | None, option("--write", "FOLDER", "Write the files there.")] = None,
    install: Annotated[
        bool, typer.Option("--install", help="Hand them to systemd's user manager, or to your crontab.")
    ] = False,
) -> None:
    """Print the audit as a job of systemd, cron, Task Scheduler or launchd; or install it."""
    from salt_mirror.cli.arguments import estate_file
    from salt_mirror.cli.notifying import channels_of
    from salt_mirror.cli.schedule.forms import FORMS
    from salt_mirror.cli.schedule.install import ABLE, to_type
    from salt_mirror.cli.schedule.install import install as installed
    from salt_mirror.cli.schedule.jobs import jobs_of, rhythm_of
    from salt_mirror.estate.errors import BadInput
    from salt_mirror.estate.file import read_estate_file
    from salt_mirror.keeping.writing import check_writable

    rhythm = rhythm_of(every)
    path = estate_file(estate).absolute()
    file = read_estate_file(path)
    channels = channels_of(notify or [], file, path)
    kept = (folder if folder is not None else path.parent).absolute()
    check_writable(kept / "audits.db", "--folder")
    form = (print_ or _of_this_system()).value
    if install and form not in ABLE:
        raise BadInput(f"--install: not for {form}; --write FOLDER writes the files, and says the command to type")
    jobs = jobs_of(_program(), path, kept, rhythm, channels)
    files = FORMS[form](jobs)
    if install:
        _say(jobs)
        typer.echo(installed(form, files))
        return
    if write is not None:
        _write(files, write.absolute(), form)
        _say(jobs)
        typer.echo("To install them, type:")
        for line in to_type(form, files, write.absolute()):
            typer.echo(f"  {line}")
        return
    _print(jobs, files, form)


def _of_this_system() -> Scheduler:
    if sys.platform == "win32":
        return Scheduler.WINDOWS
    if sys.platform == "darwin":
        return Scheduler.LAUNCHD
    return Scheduler.SYSTEMD if Path("/run/systemd/system").is_dir() else Scheduler.CRON


def _program() -> list[str]:
    """Return how this program is begun, by its whole path."""
    typed = Path(sys.argv[0])
    beside = Path(sys.executable).with_name(typed.name)
    for path in (typed, beside):
        if path.is_file() and path.suffix != ".py":
            return [str(path.absolute())]
    return [sys.executable, "-m", "salt_mirror"]


def _say(jobs: list[Job]) -> None:
    for job in jobs:
        text = f"{job.rhythm.says}: {job.says}"
        typer.echo(f"{text[0].upper()}{text[1:]}")


def _write(files: list[ScheduleFile], folder: Path, form: str) -> None:
    """Write the files. Task Scheduler wants UTF-16 with a byte order mark for a name that is not ASCII."""
    from salt_mirror.estate.errors import BadInput
    from salt_mirror.keeping.writing import write_whole

    if not folder.is_dir():
        raise BadInput(f"--write: there is no folder {folder}")
    for file in files:
        content = file.text.encode("utf-16") if form == "windows" else file.text.encode("utf-8")
        write_whole(folder / file.name, content, "--write")


def _print(jobs: list[Job], files: list[ScheduleFile], form: str) -> None:
    """Print the files, each below its name; what is said about them goes to standard error, so that one file can be piped."""
    from salt_mirror.cli.messages import tell

    for job in jobs:
        tell(f"{job.rhythm.says}: {job.says}", begin="# ")
    for file in files:
        if len(files) > 1:
            typer.echo(f"# {file.name}" if form in ("systemd", "cron") else f"<!-- {file.name} -->")
        typer.echo(file.text)
    able = "--install hands them to it; " if form in ("systemd", "cron") else ""
    tell(f"{able}--write FOLDER writes the files, and says what to type", begin="# ")
