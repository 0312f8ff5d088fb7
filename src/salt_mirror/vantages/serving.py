"""A vantage that is there: it comes to the broker, says so, and hands what it is asked to its worker.

Strategy: the connection keeps itself open, and is kept alive by the system's own means (a service). Whatever reaches it counts
only if it is signed by a desk of our authority, on the topic that names this vantage and that desk; everything else is logged,
at most once in ten seconds, and forgotten.
"""

from __future__ import annotations

import contextlib
import signal
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass

from salt_mirror.estate.errors import BadInput
from salt_mirror.vantages.allowed import WorkerRules
from salt_mirror.vantages.identity import Identity, Role, Trust
from salt_mirror.vantages.protocol import (
    MOST_BYTES,
    Absence,
    BatchAnswers,
    Presence,
    Reply,
    Unreadable,
    errand_in,
    errand_topic,
    halves,
    is_plain,
    presence_topic,
    reply_topic,
)
from salt_mirror.vantages.tls import Papers
from salt_mirror.vantages.transport import LONGEST_PAUSE_S, BrokerConnection, Unreached, Will
from salt_mirror.vantages.worker import DeskSession, Refused, Worker

LOG_EVERY_S = 10.0

Say = Callable[[str], None]


@dataclass(frozen=True, slots=True)
class Joining:
    """A vantage to be: its name, the broker's address, its group, its papers, and what it lets itself be asked."""

    name: str
    address: str
    group: str
    papers: Papers
    rules: WorkerRules
    settings: Callable[[], dict[str, bytes]]


class VantageService:
    """A vantage at its broker, from `connect` on. Its name is its certificate's."""

    def __init__(self, joining: Joining, say: Say) -> None:
        """Raises BadInput."""
        self._identity = Identity(joining.papers)
        self._trust = Trust(joining.papers)
        self.name = self._identity.name
        if self._identity.role != Role.VANTAGE:
            raise BadInput(f"{joining.papers.certificate} is for a {self._identity.role}, and not for a vantage")
        if self.name != joining.name:
            raise BadInput(f"{joining.papers.certificate} is for {self.name}, and not for {joining.name}")
        self._joining = joining
        self._say = say
        self._quiet_until = 0.0
        self._connection: BrokerConnection | None = None
        self.worker = Worker(self.name, joining.rules, self._reply, joining.settings, joining.group)

    def connect(self) -> None:
        """Come to the broker. Raises Unreached."""
        topic = presence_topic(self.name)
        will = Will(topic, self._identity.sealed(topic, Absence(self.worker.session)))
        self._connection = BrokerConnection(
            self._joining.address, self._joining.papers, self._hear, will=will, on_up=self._came_up,
            on_down=lambda why: self._say(f"the connection to the broker was lost ({why}); it is tried again"),
        )  # fmt: skip

    @property
    def refused(self) -> str:
        """What the broker does not let this vantage do; empty where there is nothing."""
        return self._connection.refused if self._connection is not None else ""

    def _came_up(self, connection: BrokerConnection) -> None:
        self._connection = connection
        connection.subscribe([errand_topic(self.name, "+", "+")])
        self._say_presence(connection, self.worker.presence())
        allowed = ", ".join(self._joining.rules.allowed) or "nobody"
        self._say(f"{self.name} is at {connection.at}; it may ask {allowed}")

    def _say_presence(self, connection: BrokerConnection, message: Presence | Absence) -> None:
        topic = presence_topic(self.name)
        with contextlib.suppress(Unreached):
            connection.publish(topic, self._identity.sealed(topic, message), retain=True)

    def _hear(self, topic: str, payload: bytes) -> None:
        """Take an errand; run on the connection's thread."""
        desk, _, session = topic.removeprefix(errand_topic(self.name, "", "")[:-1]).partition("/")
        try:
            if topic != errand_topic(self.name, desk, session) or not is_plain(desk) or not is_plain(session):
                raise Unreadable("its topic is none of ours")
            errand = errand_in(self._trust.opened(topic, payload, Role.DESK, desk))
            self.worker.take(DeskSession(desk, session), errand)
        except (Unreadable, Refused, BadInput) as error:
            # BadInput: the list of revoked certificates cannot be read, and nobody is believed.
            self._turned_away(desk, str(error))

    def _turned_away(self, desk: str, why: str) -> None:
        self.worker.refused += 1
        if time.monotonic() >= self._quiet_until:
            self._quiet_until = time.monotonic() + LOG_EVERY_S
            self._say(f"an errand in the name of {desk!r} was refused: {why}")

    def _reply(self, sender: DeskSession, reply: Reply) -> None:
        connection = self._connection
        if connection is None or (not connection.up and _is_life_sign(reply)):
            return
        topic = reply_topic(sender.desk, sender.session, self.name)
        payload = self._identity.sealed(topic, reply)
        if len(payload) > MOST_BYTES:
            for half in halves(reply) if isinstance(reply, BatchAnswers) else ():
                self._reply(sender, half)
            return
        with contextlib.suppress(Unreached):
            connection.publish(topic, payload)

    def close(self) -> None:
        """Leave the broker: the presence is taken back."""
        self.worker.close()
        if self._connection is not None:
            self._say_presence(self._connection, Absence(self.worker.session))
            self._connection.close()


def _is_life_sign(reply: Reply) -> bool:
    return isinstance(reply, BatchAnswers) and not reply.parts


def join(joining: Joining, say: Say) -> None:
    """Be a vantage until this process is told to end; a broker that is not there is tried again. Raises BadInput."""
    with told_to_end() as ended:
        service = VantageService(joining, say)
        pause = 1.0
        try:
            while not ended.is_set():
                try:
                    service.connect()
                    break
                except Unreached as error:
                    say(f"{error}; tried again in {pause:.0f} s")
                ended.wait(pause)
                pause = min(pause * 2, LONGEST_PAUSE_S)
            text = ""
            while not ended.wait(0.5):
                if service.refused and service.refused != text:
                    text = service.refused
                    say(text)
        finally:
            service.close()


@contextmanager
def told_to_end() -> Iterator[threading.Event]:
    """Return an event that is set by the signals that end a service; where one cannot be taken, it interrupts as everywhere."""
    ended = threading.Event()
    before = {}
    for name in ("SIGINT", "SIGTERM", "SIGHUP"):
        number = getattr(signal, name, None)
        if number is not None and signal.getsignal(number) is not signal.SIG_IGN:
            before[number] = signal.signal(number, lambda *_: ended.set())
    try:
        yield ended
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
