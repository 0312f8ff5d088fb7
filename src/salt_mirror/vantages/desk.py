"""A desk (whoever types a command) at the broker: which vantages are there, what they say of themselves, and their replies.

Strategy: one connection, used from whatever thread. A reply counts only on the topic of the vantage that was asked, signed by
it, and for an errand that is open; it is put in the box of whoever sent that. Presence comes by itself: retained at the broker,
and taken back by it when the vantage's connection ends. A vantage whose clock differs from ours proves nothing.
"""

from __future__ import annotations

import contextlib
import ipaddress
import queue
import secrets
import threading
import time
from collections.abc import Sequence
from dataclasses import dataclass, field

from paho.mqtt.enums import MQTTProtocolVersion

from salt_mirror import __version__
from salt_mirror.estate.errors import BadInput
from salt_mirror.vantages.identity import Identity, Role, Trust
from salt_mirror.vantages.protocol import (
    Absence,
    BatchAnswers,
    Errand,
    Facts,
    Greeting,
    Presence,
    Reply,
    Unreadable,
    check_columns,
    errand_topic,
    is_plain,
    presence_in,
    presence_topic,
    reply_in,
    reply_topic,
)
from salt_mirror.vantages.tls import Papers
from salt_mirror.vantages.transport import NEWEST, BrokerConnection, Unreached

GREET_S = 5.0
LATE_S = 0.5
CLOCKS_APART_S = 2.0
"""A clock that differs by more than this (and the half of the round trip) is reported, and what comes from there proves
nothing."""
MOST_JUNK = 1000
"""A vantage that has sent so many messages that nobody asked for is not listened to any more."""
MOST_VANTAGES = 10_000
_PRESENCE = presence_topic("")


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


@dataclass(frozen=True, slots=True)
class News:
    """What has come of a vantage, and when (monotonic seconds): a reply, or its presence."""

    at: float
    vantage: str
    message: Reply | Presence | Absence


Box = queue.SimpleQueue[News]


def errand_number() -> int:
    """Return a number for an errand that nobody can guess."""
    return secrets.randbits(62)


class Desk:
    """A desk at its broker. `name` is its certificate's, `session` that of this process, to which replies are addressed."""

    def __init__(self, address: str, papers: Papers, *, versions: Sequence[MQTTProtocolVersion] = NEWEST) -> None:
        """Raises BadInput for papers that cannot be used, Unreached for a broker that is not there."""
        self._identity = Identity(papers)
        if self._identity.role != Role.DESK:
            raise BadInput(f"{papers.certificate} is for a {self._identity.role}, and not for a desk")
        self._trust = Trust(papers)
        self.name = self._identity.name
        self.session = secrets.token_hex(12)
        self.ignored = 0
        self._presences: dict[str, Presence] = {}
        self._disbelieved: dict[str, str] = {}
        self._listened: dict[str, None] = {}
        self._open: dict[int, tuple[str, Box]] = {}
        self._watching: list[Box] = []
        self._junk: dict[str, int] = {}
        self._news = threading.Condition()
        self._connection = BrokerConnection(address, papers, self._hear, on_up=self._came_up, versions=versions)
        self.address = self._connection.at

    # From here on the connection's own thread

    def _came_up(self, connection: BrokerConnection) -> None:
        # A retained message may be older than our connection: what was there before it was lost is not known any more.
        self._presences = {}
        connection.subscribe([presence_topic("+")], qos=0)  # at 0 all that is retained comes at once
        connection.subscribe([self._replies_of(name) for name in self._listened])

    def _replies_of(self, vantage: str) -> str:
        return reply_topic(self.name, self.session, vantage)

    def _hear(self, topic: str, payload: bytes) -> None:
        try:
            if topic.startswith(_PRESENCE):
                self._hear_presence(topic, topic.removeprefix(_PRESENCE), payload)
            else:
                self._hear_reply(topic, topic.rpartition("/")[2], payload)
        except (Unreadable, BadInput):
            self._ignore(topic.rpartition("/")[2])

    def _hear_presence(self, topic: str, name: str, payload: bytes) -> None:
        if not is_plain(name) or (name not in self._presences and len(self._presences) >= MOST_VANTAGES):
            raise Unreadable("it is no vantage of ours")
        try:
            message = presence_in(self._trust.opened(topic, payload, Role.VANTAGE, name))
        except (Unreadable, BadInput) as error:
            if len(self._disbelieved) < MOST_VANTAGES:
                self._disbelieved[name] = str(error)
            raise
        self._disbelieved.pop(name, None)
        there = self._presences.get(name)
        if isinstance(message, Presence):
            # The same again is no news: nobody fills our memory by repeating it.
            is_news = there is None or there.session != message.session
            self._presences[name] = message
        else:
            is_news = there is not None and there.session == message.session
            if is_news:
                del self._presences[name]
        for box in self._watching if is_news else ():
            box.put(News(time.monotonic(), name, message))
        with self._news:
            self._news.notify_all()

    def _hear_reply(self, topic: str, name: str, payload: bytes) -> None:
        if topic != self._replies_of(name):
            raise Unreadable("its topic is none of ours")
        if self._junk.get(name, 0) >= MOST_JUNK:
            return
        reply = reply_in(self._trust.opened(topic, payload, Role.VANTAGE, name))
        if isinstance(reply, BatchAnswers):
            for part in reply.parts:
                check_columns(part)
            numbers = [*reply.working, *(part.number for part in reply.parts)]
        else:
            numbers = [reply.number]
        boxes: dict[int, Box] = {}
        for number in numbers:
            vantage, box = self._open.get(number, ("", None))
            if box is not None and vantage == name:
                boxes[id(box)] = box
        if not boxes:
            raise Unreadable("no errand of that number is open")
        for box in boxes.values():
            box.put(News(time.monotonic(), name, reply))

    def _ignore(self, name: str) -> None:
        self.ignored += 1
        if name in self._listened:
            self._junk[name] = self._junk.get(name, 0) + 1
            if self._junk[name] == MOST_JUNK:
                self._connection.unsubscribe(self._replies_of(name))

    # From here on whatever thread

    @property
    def connected(self) -> bool:
        """Whether the broker is reached at this moment."""
        return self._connection.up

    @property
    def times(self) -> int:
        """How often the connection came up: what was under way when it was lost may be lost too."""
        return self._connection.times

    @property
    def refused(self) -> str:
        """What the broker does not let this desk do; empty where there is nothing."""
        return self._connection.refused

    def distrusted(self, vantage: str) -> bool:
        """Return whether a vantage has sent so much that nobody asked for that it is not listened to."""
        return self._junk.get(vantage, 0) >= MOST_JUNK

    def presence(self, vantage: str) -> Presence | None:
        """Return what a vantage that is there says of itself; None where it is not there."""
        return self._presences.get(vantage)

    def watch(self, box: Box) -> None:
        """Put news of every vantage's presence into a box from now on."""
        self._watching.append(box)

    def listen(self, vantages: Sequence[str]) -> None:
        """Let replies of vantages come in."""
        new = [name for name in vantages if name not in self._listened and is_plain(name)]
        self._listened.update(dict.fromkeys(new))
        self._connection.subscribe([self._replies_of(name) for name in new])

    def send(self, vantage: str, box: Box, errand: Errand) -> None:
        """Send an errand, and put its replies in a box. Raises Unreached."""
        if not self._connection.up:
            raise Unreached(f"the broker at {self.address} cannot be reached")
        topic = errand_topic(vantage, self.name, self.session)
        self._open[errand.number] = vantage, box
        try:
            self._connection.publish(topic, self._identity.sealed(topic, errand))
        except Unreached:
            self.done(errand.number)
            raise

    def done(self, number: int) -> None:
        """Await nothing more for an errand."""
        self._open.pop(number, None)

    def here(self, expected: Sequence[str] = ()) -> dict[str, Present]:
        """Return who is there at this moment, with version and group. Raises Unreached."""
        self._settle(expected)
        if self.refused:
            raise Unreached(self.refused)
        return {
            name: Present(name, one.group if is_plain(one.group) else "", one.version)
            for name, one in sorted(self._presences.items())
        }

    def _settle(self, expected: Sequence[str]) -> None:
        """Wait until the broker has sent the presences that it keeps; for those that are expected a moment longer, since a
        broker may send them a little after it has answered."""
        if not self._connection.settled():
            raise Unreached(f"the broker at {self.address} does not answer")
        with self._news:
            self._news.wait_for(lambda: all(name in self._presences for name in expected), LATE_S)

    def greet(self, names: Sequence[str], *, settings: bool = False) -> dict[str, Present]:
        """Return what vantages say of themselves; those that are not there, say nothing, or do not fit have a `trouble`."""
        here = self.here(names)
        self.listen([name for name in names if name in here])
        found: dict[str, Present] = {}
        box: Box = queue.SimpleQueue()
        asked: dict[int, tuple[str, float, float]] = {}
        for name in names:
            present = found[name] = here.get(name) or Present(name)
            presence = self._presences.get(name)
            if presence is None:
                why = self._disbelieved.get(name)
                present.trouble = f"what it says is not believed: {why}" if why else "it is not there"
            if present.trouble is None and present.version != __version__:
                present.trouble = f"it has version {present.version or 'unknown'}, and this is {__version__}"
            if present.trouble is None and presence is not None:
                _fill(present, presence)
                number = self.greet_one(name, presence, box, settings=settings)
                asked[number] = name, time.time(), time.monotonic()
                present.trouble = f"it does not answer ({GREET_S:.0f} s)"
        over_at = time.monotonic() + GREET_S
        while asked and (left := over_at - time.monotonic()) > 0:
            with contextlib.suppress(queue.Empty):
                news = box.get(timeout=left)
                facts = news.message
                if isinstance(facts, Facts) and facts.number in asked:
                    name, wall, began = asked.pop(facts.number)
                    self.done(facts.number)
                    present, took_s = found[name], news.at - began
                    present.settings, present.round_trip_s = facts.settings, took_s
                    present.clock_apart_s = facts.clock - (wall + took_s / 2)
                    present.trouble = clock_trouble(present.clock_apart_s, took_s)
        for number in asked:
            self.done(number)
        return found

    def greet_one(self, name: str, presence: Presence, box: Box, *, settings: bool = False) -> int:
        """Ask a vantage that is there who it is. Raises Unreached."""
        greeting = Greeting(errand_number(), presence.session, time.time() + GREET_S, settings)
        self.send(name, box, greeting)
        return greeting.number

    def close(self) -> None:
        """End the connection."""
        self._connection.close()


def _fill(present: Present, presence: Presence) -> None:
    present.system, present.resolvers, present.allowed = (
        presence.system,
        list(presence.resolvers),
        list(presence.allowed),
    )
    if not all(is_network(text) for text in presence.allowed if "://" not in text):
        present.allowed = []


def is_network(text: str) -> bool:
    """Return whether a text is a network."""
    try:
        ipaddress.ip_network(text)
    except ValueError:
        return False
    return True


def clock_trouble(apart_s: float, took_s: float) -> str | None:
    """Return what is wrong with a clock that differs from ours by more than the way there can explain."""
    if abs(apart_s) <= CLOCKS_APART_S + took_s / 2:
        return None
    return f"its clock is {abs(apart_s):,.0f} s {'ahead of' if apart_s > 0 else 'behind'} ours"
