"""`salt-mirror notify`: the channels that messages are sent to, tried, shown, and sent what was held back."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from salt_mirror.cli.options import option

if TYPE_CHECKING:
    from salt_mirror.estate.file import EstateFile
    from salt_mirror.estate.notify import Channel
    from salt_mirror.report.json.notice import Notice


def notify(
    test: Annotated[str | None, option("--test", "NAME", "Send a sample to this channel.")] = None,
    preview: Annotated[
        str | None,
        option(
            "--preview", "NAME", "Print what this channel would be sent: a sample, or (with --history) what is held."
        ),
    ] = None,
    held: Annotated[
        str | None,
        option("--held", "NAME", "Send what was held back, or could not be delivered; wants --history."),
    ] = None,
    history: Annotated[Path | None, option("--history", "FILE", "The history that runs keep.")] = None,
    estate: Annotated[
        Path | None, option("--estate", "FILE", "The estate file; estate.toml in the current folder without it.")
    ] = None,
    json: Annotated[
        bool, typer.Option("--json", help="With --preview: print the message as one JSON document.")
    ] = False,
) -> None:
    """List the channels of the estate ([notify.NAME]), or try one."""
    from salt_mirror.cli.arguments import estate_file
    from salt_mirror.estate.errors import BadInput
    from salt_mirror.estate.file import read_estate_file

    chosen = [one for one in (test, preview, held) if one is not None]
    if len(chosen) > 1:
        raise BadInput("--test, --preview, --held: one of them")
    if held is not None and history is None:
        raise BadInput("--held: what was held back is only known from a history; name it with --history FILE")
    if json and preview is None:
        raise BadInput("--json: with --preview NAME it prints the message as a document")
    path = estate_file(estate)
    file = read_estate_file(path)
    if not chosen:
        _list(file, path, history)
        return
    from salt_mirror.cli.messages import show
    from salt_mirror.cli.notifying import channels_of

    (channel,) = channels_of(chosen, file, path)
    if held is not None and history is not None:
        raise typer.Exit(_send_held(channel, file, path, history))
    notices = _notices(channel, file, path, history if preview is not None else None)
    if test is not None:
        raise typer.Exit(_send(channel, notices[0]))
    if not notices:
        show(f"Nothing is held for {channel.name}.\n")
    for notice in notices:
        _print(channel, notice, json=json)


def _list(file: EstateFile, path: Path, history: Path | None) -> None:
    """Print every channel, and those whose last message was not delivered."""
    from salt_mirror.checks.common.wording import local_moment, many
    from salt_mirror.estate.notify import channel_of
    from salt_mirror.keeping.ledger import undelivered
    from salt_mirror.report.cleaning import clean
    from salt_mirror.report.terminal.sheets import console_for, print_table, table_of

    channels = [channel_of(name, entry, path) for name, entry in file.notify.items()]
    console = console_for(sys.stdout)
    if not channels:
        text = (
            f'No channels: {path} has no [notify.NAME]. The smallest one: [notify.duty] with file = "messages.jsonl".'
        )
        console.print(clean(text), markup=False)
        return
    console.print(f"{many(len(channels), 'channel')} in {clean(str(path))}.")
    table = table_of("channel", "sent by", "on", "quiet", "at most")
    for channel in channels:
        entry = file.notify[channel.name]
        table.add_row(
            clean(channel.name),
            clean(_way(channel)),
            clean(", ".join(entry.on)),
            clean(entry.quiet),
            clean(entry.at_most),
        )
    print_table(console, table)
    for name, scope, since, why in undelivered(history) if history is not None else []:
        about = f" about {scope}" if scope else ""
        console.print(clean(f"{name}{about}: not delivered since {local_moment(since)}: {why}"))


def _way(channel: Channel) -> str:
    """Return how a channel sends, without anything that is a secret."""
    from salt_mirror.estate.notify import MailEntry, SyslogEntry, WebhookEntry

    way = channel.way
    if isinstance(way, MailEntry):
        return f"mail to {way.to if isinstance(way.to, str) else ', '.join(way.to)}"
    if isinstance(way, WebhookEntry):
        return f"webhook ({way.kind})"
    if isinstance(way, SyslogEntry):
        return f"syslog {way.address}"
    return f"file {way}" if isinstance(way, Path) else f"command {way[0]}"


def _notices(channel: Channel, file: EstateFile, path: Path, history: Path | None) -> list[Notice]:
    """Return a sample, or what a history has that the channel was not sent yet, one for each thing that runs are about."""
    from salt_mirror.checks.audit.news import news_of
    from salt_mirror.cli.notifying import sample
    from salt_mirror.keeping.ledger import channel_past, scopes_told, standing
    from salt_mirror.report.document import now
    from salt_mirror.report.message import Told, notice_of

    if history is None:
        told = Told(file.title, str(path), "audit", "", now())
        return [notice_of(channel.name, sample(), told, sample=True)]
    found = []
    for scope, started in scopes_told(history, channel.name):
        past = channel_past(history, channel.name, scope)
        news = news_of(channel, past, started, file.accept)
        told = Told(file.title, str(path), "audit", scope, started, standing(history, scope))
        if news:
            found.append(notice_of(channel.name, news, told))
    return found


def _print(channel: Channel, notice: Notice, *, json: bool) -> None:
    from salt_mirror.cli.messages import show
    from salt_mirror.dns.errors import Unusable
    from salt_mirror.notify.delivery import written
    from salt_mirror.notify.trouble import Undelivered
    from salt_mirror.report.cleaning import clean_lines

    if json:
        import msgspec

        sys.stdout.buffer.write(msgspec.json.encode(notice) + b"\n")
        return
    try:
        show(f"{clean_lines(written(channel, notice)).rstrip()}\n")
    except Undelivered as error:
        raise Unusable(f"notify, {channel.name}: {error}") from None


def _send(channel: Channel, notice: Notice) -> int:
    """Send a message, say what became of it, and return the exit status."""
    from salt_mirror.cli.messages import UNDELIVERED, show, tell
    from salt_mirror.notify.delivery import attempt

    trouble = attempt(channel, notice)
    if trouble:
        tell(trouble)
        return UNDELIVERED
    show(f"A sample was sent to {channel.name}: {_way(channel)}.\n")
    return 0


def _send_held(channel: Channel, file: EstateFile, path: Path, history: Path) -> int:
    """Send what was held back, and return the exit status."""
    from salt_mirror.cli.messages import UNDELIVERED, show, tell
    from salt_mirror.cli.notifying import send_news
    from salt_mirror.keeping.history import hold
    from salt_mirror.keeping.ledger import scopes_told, standing
    from salt_mirror.report.document import now
    from salt_mirror.report.message import Told

    hold(history)
    sent, troubles = 0, []
    for scope, started in scopes_told(history, channel.name):
        told = Told(file.title, str(path), "audit", scope, started, standing(history, scope))
        was_sent, trouble = send_news(channel, history, scope, file.accept, told, [], now())
        sent += was_sent
        troubles += [trouble] if trouble else []
    for trouble in troubles:
        tell(f"notify, {channel.name}: {trouble}")
    show(f"{sent} sent to {channel.name}.\n" if sent else f"Nothing was sent to {channel.name}.\n")
    return UNDELIVERED if troubles else 0
