"""Whoever types a command, towards the vantages: who is there, what they say of themselves, and their mail.

Strategy: one client of the scheduler, used from whatever thread. Replies are put in the box of whoever sent the errand. A
vantage that says nothing for a while is lost, and so is one whose clock departs from ours: what it says proves nothing.
"""

from __future__ import annotations

import ipaddress
import itertools
import queue
import time
from dataclasses import dataclass, field
from typing import Any

from salt_mirror import __version__
from salt_mirror.estate.errors import BadInput
from salt_mirror.vantages.mail import OURS, REPLIES, send_errand
from salt_mirror.vantages.papers import Papers, check_address, plainly, security_of, set_up
from salt_mirror.vantages.parcel import (
    BatchAnswers,
    Errand,
    Facts,
    Greeting,
    Reply,
    Unreadable,
    is_plain,
    packed,
    reply_in,
)
from salt_mirror.vantages.serving import GROUP, VANTAGE, VERSION

CONNECT_S = 5.0
GREET_S = 5.0
CLOCKS_APART_S = 2.0
"""Clocks that are further apart than this (and the half of the round trip) are told, and what comes from there proves
nothing."""


@dataclass(slots=True)
class Present:
    """A vantage as it was found: `trouble` says why it cannot be used, None where it can. Clocks and round trip in seconds."""

    name: str
    group: str = ""
    version: str = ""
    system: str = ""
    resolvers: list[str] = field(default_factory=list)
    allowed: list[str] = field(default_factory=list)
    settings: dict[str, bytes] = field(default_factory=dict)
    clock_apart_s: float | None = None
    round_trip_s: float | None = None
    trouble: str | None = None


class Desk:
    """A connection to the scheduler; replies are addressed to its `name`. Raises BadInput for an address that may not be used,
    Unreached for one that nobody is at."""

    def __init__(self, address: str, papers: Papers | None) -> None:
        self.address = check_address(address, papers)
        set_up()
        import distributed

        try:
            connect: Any = distributed.Client
            self._client: Any = connect(
                self.address, security=security_of(papers), timeout=CONNECT_S, set_as_default=False,
                direct_to_workers=False,
            )  # fmt: skip
        except (OSError, TimeoutError, ValueError, RuntimeError) as error:
            raise Unreached(f"nobody can be reached at {self.address} ({plainly(error)})") from None
        self.name = str(self._client.id)
        self._numbers = itertools.count(1)
        self._boxes: dict[int, queue.SimpleQueue[tuple[float, Reply]]] = {}
        self._client.subscribe_topic(REPLIES, self._heard)

    def _heard(self, event: tuple[float, Any]) -> None:
        """Takes a reply; runs on the client's own thread."""
        try:
            reply = reply_in(event[1])
        except (Unreadable, TypeError):
            return
        numbers = [number for number, _ in reply.parts] if isinstance(reply, BatchAnswers) else [reply.number]
        for box in {id(box): box for number in numbers if (box := self._boxes.get(number))}.values():
            box.put((time.monotonic(), reply))

    def send(self, vantage: str, box: queue.SimpleQueue[tuple[float, Reply]], errand_of: Any) -> int:
        """Sends an errand, made from its number, and puts its replies in a box. Raises Unreached."""
        number = next(self._numbers)
        errand: Errand = errand_of(number)
        self._boxes[number] = box
        try:
            send_errand(self._client, vantage, packed(errand))
        except (OSError, RuntimeError) as error:
            raise Unreached(f"the scheduler at {self.address} has gone ({plainly(error)})") from None
        return number

    def done(self, number: int) -> None:
        """Nothing more is awaited for an errand."""
        self._boxes.pop(number, None)

    def here(self) -> dict[str, Present]:
        """Who is there at this moment, by the scheduler's word, with version and group. Raises Unreached."""
        try:
            workers = self._client.sync(self._client.scheduler.identity, n_workers=-1, callback_timeout=CONNECT_S)
        except Exception as error:
            raise Unreached(f"the scheduler at {self.address} does not answer ({plainly(error)})") from None
        if not str(workers.get("id")).startswith(OURS):
            raise Unreached(f"what is at {self.address} was not begun by `salt-mirror vantage serve`")
        found: dict[str, Present] = {}
        for worker in workers["workers"].values():
            labels = list(worker.get("resources", {}))
            name = _labelled(labels, VANTAGE)
            if is_plain(name):
                group = _labelled(labels, GROUP)
                found[name] = Present(name, group if is_plain(group) else "", _labelled(labels, VERSION))
        return found

    def greet(self, names: list[str], *, settings: bool = False) -> dict[str, Present]:
        """What vantages say of themselves; those that are not there, say nothing, or do not fit have a `trouble`."""
        here = self.here()
        found: dict[str, Present] = {}
        box: queue.SimpleQueue[tuple[float, Reply]] = queue.SimpleQueue()
        asked: dict[int, tuple[str, float, float]] = {}
        for name in names:
            one = found[name] = here.get(name) or Present(name, trouble="it is not there")
            if one.trouble is None and one.version != __version__:
                one.trouble = f"it has version {one.version or 'unknown'}, and this is {__version__}"
            if one.trouble is None:
                number = self.send(name, box, lambda at: Greeting(at, self.name, settings))
                asked[number] = name, time.time(), time.monotonic()
                one.trouble = f"it says nothing, {GREET_S:.0f} s long"
        over_at = time.monotonic() + GREET_S
        while asked and (left := over_at - time.monotonic()) > 0:
            try:
                at, reply = box.get(timeout=left)
            except queue.Empty:
                break
            if isinstance(reply, Facts) and reply.number in asked:
                name, wall, began = asked.pop(reply.number)
                self.done(reply.number)
                _fill(found[name], reply, wall, at - began)
        for number in asked:
            self.done(number)
        return found

    def close(self) -> None:
        """Ends the connection."""
        self._client.close(timeout=2)


class Unreached(BadInput):
    """Nobody is at the scheduler's address, or nobody there speaks to us."""


def is_network(text: str) -> bool:
    """Whether a text is a network."""
    try:
        ipaddress.ip_network(text)
    except ValueError:
        return False
    return True


def _labelled(labels: list[str], kind: str) -> str:
    return next((label.removeprefix(kind) for label in labels if label.startswith(kind)), "")


def _fill(one: Present, facts: Facts, wall: float, took_s: float) -> None:
    """Writes down what a vantage says of itself; `wall` is when it was asked, `took_s` how long the reply took."""
    one.version, one.system = facts.version, facts.system
    one.resolvers, one.allowed, one.settings = facts.resolvers, facts.allowed, facts.settings
    if not all(is_network(text) for text in facts.allowed if "://" not in text):
        one.allowed = []
    one.round_trip_s = took_s
    one.clock_apart_s = facts.clock - (wall + took_s / 2)
    one.trouble = clock_trouble(one.clock_apart_s, took_s)


def clock_trouble(apart_s: float, took_s: float) -> str | None:
    """What is wrong with a clock, where it is further from ours than the way there can explain."""
    if abs(apart_s) <= CLOCKS_APART_S + took_s / 2:
        return None
    return f"its clock is {abs(apart_s):,.0f} s {'ahead of' if apart_s > 0 else 'behind'} ours"
