"""A message on its way: written as its medium wants it, then sent, within a time.

Strategy: a peer may refuse, stall byte by byte, die or answer without end; a message is sent in a thread of its own, and given
up when its time is over. What comes of it is told in our words: a peer's words are cleaned, and a URL or a password is in none.
"""

from __future__ import annotations

import threading
from collections.abc import Callable
from pathlib import Path

from salt_mirror.dns.errors import Unusable
from salt_mirror.estate.notify import Channel, MailEntry, SyslogEntry, WebhookEntry
from salt_mirror.notify.trouble import Undelivered
from salt_mirror.report.json.notice import Notice

LONGEST_S = 60.0
"""A message that is not delivered by then is given up, and told with the next run."""


def check(channel: Channel) -> None:
    """Raise BadInput for a channel that could not send: a template that is none, a secret that is not there."""
    _way(channel).check(channel)


def written(channel: Channel, notice: Notice) -> str:
    """Return a message as it is sent, with no secret in it. Raises Undelivered for a template that makes none."""
    return _way(channel).written(channel, notice)


def deliver(channel: Channel, notice: Notice, *, longest_s: float = LONGEST_S) -> None:
    """Send a message. Raises Undelivered."""
    _within(longest_s, lambda: _way(channel).send(channel, notice))


def attempt(channel: Channel, notice: Notice) -> str:
    """Send a message, and return a line that says why it was not delivered; an empty one where it was."""
    try:
        deliver(channel, notice)
    except Undelivered as error:
        return f"notify, {channel.name}: not delivered: {error}"
    return ""


class Medium:
    """One way of sending messages, as functions of a module."""

    def __init__(
        self,
        written: Callable[[Channel, Notice], str],
        send: Callable[[Channel, Notice], None],
        check: Callable[[Channel], None],
    ) -> None:
        self.written = written
        self.send = send
        self.check = check


def _way(channel: Channel) -> Medium:
    """Return the module that sends by a channel's way, loaded only now."""
    way = channel.way
    if isinstance(way, MailEntry):
        from salt_mirror.notify import mail as medium
    elif isinstance(way, WebhookEntry):
        from salt_mirror.notify import webhook as medium  # type: ignore[no-redef]
    elif isinstance(way, SyslogEntry):
        from salt_mirror.notify import syslog as medium  # type: ignore[no-redef]
    elif isinstance(way, Path):
        from salt_mirror.notify import lines as medium  # type: ignore[no-redef]
    else:
        from salt_mirror.notify import command as medium  # type: ignore[no-redef]
    return Medium(medium.written, medium.send, medium.check)


def _within(longest_s: float, send: Callable[[], None]) -> None:
    """Run something in a thread, and leave it there when its time is over."""
    problems: list[BaseException] = []

    def run() -> None:
        try:
            send()
        except BaseException as error:
            problems.append(error)

    thread = threading.Thread(target=run, daemon=True)
    thread.start()
    thread.join(longest_s)
    if thread.is_alive():
        raise Undelivered(f"it took longer than {longest_s:g} s, and was given up")
    for error in problems:
        if isinstance(error, Undelivered):
            raise error
        if isinstance(error, Unusable):
            raise Undelivered(str(error)) from None
        if isinstance(error, OSError):
            raise Undelivered(error.strerror or type(error).__name__) from None
        raise error
