"""`salt-mirror history`: the audits of the past, and the lives of findings."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from salt_mirror.cli.options import option

if TYPE_CHECKING:
    from datetime import datetime

    from salt_mirror.checks.audit.chronicle import Chronicle


def history(
    file: Annotated[Path, typer.Argument(metavar="FILE", help="The history that audit --history keeps.")],
    finding: Annotated[
        str | None,
        typer.Argument(
            metavar="[PATTERN]", help="A code or a name, also a host's short one, or a pattern: their lives."
        ),
    ] = None,
    since: Annotated[
        str | None,
        option("--since", "TIME", "From then on: a time back, such as 14d, or a local day, such as 2026-11-01."),
    ] = None,
    zone: Annotated[list[str] | None, option("--zone", "ZONE", "Only this zone; may be repeated.")] = None,
    report: Annotated[
        str | None,
        option("--report", "html:FILE", "Write a page: faults by day, each zone's days, the oldest faults."),
    ] = None,
    figure: Annotated[Path | None, option("--figure", "FILE", "Draw the faults by day as a PNG or SVG.")] = None,
    json: Annotated[bool, typer.Option("--json", help="Print all of it as one JSON document.")] = False,
    check: Annotated[
        bool, typer.Option("--check", help="Only say whether runs are missed or fail, or messages do not arrive.")
    ] = False,
    at_least_every: Annotated[
        str | None, option("--at-least-every", "TIME", "With --check: so long may pass between runs, such as 26h.")
    ] = None,
    notify: Annotated[
        list[str] | None, option("--notify", "NAME", "With --check: send what it finds to this channel of the estate.")
    ] = None,
    estate: Annotated[
        Path | None, option("--estate", "FILE", "With --notify: the estate; estate.toml here without it.")
    ] = None,
    compact: Annotated[
        str | None,
        option(
            "--compact", "TIME", "Keep one run a day of those that are longer ago, such as 400d; all findings stay."
        ),
    ] = None,
) -> None:
    """Say how an estate's past went: what is open, new, mended and comes back; each run; or the life of a finding."""
    from salt_mirror.cli.past import check_and_end, compact_and_tell
    from salt_mirror.estate.errors import BadInput

    if compact is not None:
        compact_and_tell(file, compact)
        return
    if check:
        check_and_end(file, at_least_every, notify or [], estate, json=json)
    if at_least_every is not None or notify:
        raise BadInput("--at-least-every, --notify: with --check, which looks whether runs are missed")
    _show(file, finding, since, zone or [], report, figure, json=json)


def _show(
    file: Path,
    finding: str | None,
    since: str | None,
    zones: list[str],
    report: str | None,
    figure: Path | None,
    *,
    json: bool,
) -> None:
    """Print and write what a history has. Raises BadInput."""
    from salt_mirror.cli.collector import quiet_collector
    from salt_mirror.cli.messages import tell
    from salt_mirror.cli.outputs import check_figure
    from salt_mirror.keeping.history import lives_in, meant_in, runs_in
    from salt_mirror.report.terminal.audit import print_lives, print_runs

    quiet_collector()
    page = _page(report)
    if figure is not None:
        check_figure(figure)
    moment = _since(since) if since is not None else None
    if finding is None or json or zones or page is not None or figure is not None:
        whole = _whole(file, moment, zones)
        _write(whole, file, page, figure)
        if json or zones:
            _print_whole(whole, file, moment, finding, json=json)
            return
    if finding is None:
        print_runs([run for run in runs_in(file) if moment is None or run.started >= moment], whole.says, sys.stdout)
    else:
        lives = [one for one in lives_in(file, finding) if moment is None or one.last >= moment]
        print_lives(lives, finding, sys.stdout)
        offer = meant_in(file, finding) if not lives and moment is None else ""
        if offer:
            tell(offer, begin="", file=sys.stdout)


def _page(report: str | None) -> Path | None:
    """Return the page that is to be written. Raises BadInput."""
    from salt_mirror.dns.names import shown
    from salt_mirror.estate.errors import BadInput
    from salt_mirror.keeping.writing import check_writable

    if report is None:
        return None
    form, _, path = report.partition(":")
    if form != "html" or not path:
        raise BadInput(f"--report: a history is written as html:FILE, and not as {shown(report)}")
    check_writable(Path(path), "--report html")
    return Path(path)


def _whole(file: Path, moment: datetime | None, zones: list[str]) -> Chronicle:
    """Return a history as a whole, with how it stands in words. Raises BadInput."""
    from msgspec.structs import replace

    from salt_mirror.checks.audit.chronicle import narrowed
    from salt_mirror.checks.audit.recurring import in_words, recurrences
    from salt_mirror.estate.errors import BadInput
    from salt_mirror.keeping.history import chronicle_in

    whole = narrowed(chronicle_in(file), moment, zones)
    if zones and not whole.zones and not whole.lives:
        raise BadInput(f"--zone: {file} has nothing about {', '.join(zones)}")
    whole = replace(whole, recurring=recurrences(whole))
    return replace(whole, says=in_words(whole))


def _write(whole: Chronicle, file: Path, page: Path | None, figure: Path | None) -> None:
    """Write the page and the figure that are wished for. Raises BadInput."""
    from salt_mirror.keeping.writing import write_whole

    if page is not None:
        from salt_mirror.report.files.past import written

        write_whole(page, written(whole, file.name))
    if figure is not None:
        from salt_mirror.report.figures.history import draw
        from salt_mirror.report.files.past import headline

        write_whole(figure, draw(whole, figure.suffix.lower()[1:], f"{file.name}: {headline(whole)}"))


def _print_whole(whole: Chronicle, file: Path, moment: datetime | None, pattern: str | None, *, json: bool) -> None:
    """Print a history as a document, or the days of its zones. Raises BadInput."""
    if json:
        import msgspec

        from salt_mirror.keeping.history import lives_in

        if pattern is not None:
            lives = [one for one in lives_in(file, pattern) if moment is None or one.last >= moment]
            whole = msgspec.structs.replace(whole, matching=lives)
        sys.stdout.buffer.write(msgspec.json.encode(whole) + b"\n")
    else:
        from salt_mirror.report.terminal.past import print_zones

        print_zones(whole, sys.stdout)


def _since(text: str) -> datetime:
    """Return a moment in the past: so long ago, or a day or moment. Raises BadInput."""
    from datetime import UTC, datetime, timedelta

    from salt_mirror.cli.arguments import seconds_of
    from salt_mirror.dns.names import shown
    from salt_mirror.estate.errors import BadInput

    try:
        if text[:4].isdigit() and "-" in text:
            moment = datetime.fromisoformat(text)
            return moment.astimezone(UTC)  # without an offset it is this computer's time, as everywhere
        return datetime.now(UTC) - timedelta(seconds=seconds_of(text, "--since"))
    except (ValueError, OverflowError):
        raise BadInput(f"--since: {shown(text)} is no time; expected one such as 14d, 12h or 2026-11-01") from None
