"""What a vantage does with the questions that reach it: it asks those that it may, at its own pace, and tells what came.

Strategy: one thread with one engine, so that a server has one window and one pace whoever asks. Questions come through a queue;
answers leave in the order in which they end, and a sign of life each second while anything is under way. Its own limits hold
whatever a batch says: the servers of its allow list alone, so many questions in hand, none that is too old. Nothing here
knows what carries the errands; that is handed in as `tell`.
"""

from __future__ import annotations

import ipaddress
import platform
import queue
import threading
import time
from collections.abc import Callable, Collection, Iterable
from dataclasses import dataclass, field

from salt_mirror import __version__
from salt_mirror.dns.names import MAX_NAME, is_name
from salt_mirror.dns.questions import AFAR, Answer, Key, Question, Server
from salt_mirror.dns.reverse import Network
from salt_mirror.dns.system import DEFAULT_PACE, system_resolvers
from salt_mirror.dns.traffic.engine import TIMEOUT_S, TRIES, Engine
from salt_mirror.vantages.parcel import (
    NO_RESOLVER,
    NOWHERE,
    OVERS,
    Batch,
    BatchAnswers,
    Facts,
    Greeting,
    Line,
    ServerAddress,
    errand_in,
    packed,
)

MOST_IN_HAND = 20_000
"""So many questions a vantage has in hand; it turns away what is more."""
LONGEST_S = 600.0
"""So long it works on one batch."""
LIFE_EVERY_S = 1.0
_LOOK_S = 0.01
_SOON_S = 0.03
_MANY = 1000
_MOST_PARENTS = 4096

Tell = Callable[[str, bytes], None]
"""Sends a reply to whoever it is for."""


@dataclass(frozen=True)
class StationRules:
    """What a vantage lets itself be asked to do: the networks and HTTPS servers that it asks, the TSIG keys that it has by
    name, and the most questions a second to each server (without it none on loopback, 200 for any other); and how it asks, as
    the engine's `timeout_s` and `tries`."""

    networks: tuple[Network, ...]
    urls: frozenset[str] = frozenset()
    keys: dict[str, Key] = field(default_factory=dict)
    pace: float | None = None
    timeout_s: float = TIMEOUT_S
    tries: int = TRIES

    def permits(self, place: ServerAddress) -> bool:
        """Whether a server may be asked."""
        if place.over == "https":
            return place.url in self.urls
        try:
            address = ipaddress.ip_address(place.address)
        except ValueError:
            return False
        return any(address in network for network in self.networks)

    @property
    def allowed(self) -> list[str]:
        """The networks and servers, as they are shown."""
        return [*map(str, self.networks), *sorted(self.urls)]


class Station:
    """A vantage at work. `name` is how it is called."""

    def __init__(
        self, name: str, rules: StationRules, tell: Tell, settings: Callable[[], dict[str, bytes]] = dict
    ) -> None:
        """`settings` captures how this computer is set up to look names up."""
        self.name = name
        self.questions = 0
        self.refused = 0
        self._rules = rules
        self._tell = tell
        self._settings = settings
        self._inbox: queue.SimpleQueue[Batch | None] = queue.SimpleQueue()
        self._servers: dict[ServerAddress, Server] = {}
        self._asked: dict[int, tuple[_Intake, int]] = {}  # by the question's id: the engine holds what it has in hand
        self._parents: set[bytes] = set()
        self._thread = threading.Thread(target=self._work, name="station", daemon=True)
        self._thread.start()

    def take(self, payload: bytes) -> None:
        """Takes an errand in. Raises Unreadable for what is none."""
        errand = errand_in(payload)
        if isinstance(errand, Greeting):
            self._tell(errand.reply_to, packed(self._facts(errand)))
        else:
            self._inbox.put(errand)

    def close(self) -> None:
        """Ends the work; what is under way is not told."""
        self._inbox.put(None)
        self._thread.join(5)

    def _facts(self, greeting: Greeting) -> Facts:
        resolvers = [server.endpoint for server in system_resolvers()]
        settings = self._settings() if greeting.settings else {}
        system = f"{platform.system()} {platform.machine()}, Python {platform.python_version()}"
        return Facts(greeting.number, time.time(), __version__, system, resolvers, self._rules.allowed, settings)

    def _work(self) -> None:
        life = time.monotonic()
        with Engine(timeout_s=self._rules.timeout_s, tries=self._rules.tries) as engine:
            while True:
                try:
                    batch = self._inbox.get(block=not engine.backlog)
                except queue.Empty:
                    self._say(self._collect(engine))
                    if time.monotonic() - life >= LIFE_EVERY_S:
                        life = time.monotonic()
                        self._live(life)
                    continue
                if batch is None:
                    return
                self._begin(batch, engine)

    def _live(self, now: float) -> None:
        """Says of each batch that it is still at it, and gives up what has taken too long."""
        late: dict[_Intake, list[Line]] = {intake: [] for intake, _ in self._asked.values()}
        for question, (intake, at) in list(self._asked.items()):
            if intake.over_at <= now:
                del self._asked[question]
                late[intake].append(self._turned(at, "it took too long"))
        self._send(late)

    def _turned(self, at: int, why: str) -> Line:
        self.refused += 1
        return at, f"{AFAR}not asked by the vantage {self.name}: {why}", False, (), None, None, b"", None, 0, "udp"

    def _collect(self, engine: Engine) -> list[Answer]:
        """What has ended, gathered for a moment, so that many answers travel together."""
        ended = engine.collect(_LOOK_S)
        until = time.monotonic() + _SOON_S
        while ended and engine.backlog and time.monotonic() < until and len(ended) < _MANY:
            ended += engine.collect(_LOOK_S)
        return ended

    def _begin(self, batch: Batch, engine: Engine) -> None:
        """Asks what may be asked; all else is answered at once."""
        intake = _Intake(batch, time.monotonic() + min(batch.within_s, LONGEST_S))
        turned: list[Line] = []
        found = dict(enumerate(self._server(place) for place in batch.places))
        if len(self._asked) + len(batch.questions) > MOST_IN_HAND:
            why = f"it has {MOST_IN_HAND:,} questions in hand already"
            turned = [self._turned(at, why) for at in range(len(batch.questions))]
        else:
            asked, submit, make, parents = self._asked, engine.submit, tuple.__new__, self._parents
            for at, (name, rdtype, place, recurse) in enumerate(batch.questions):
                server = found.get(place, "it names no server")
                # Below a parent that has been looked at already, the first label alone is new.
                if not (name and name[name[0] + 1 :] in parents and 0 < name[0] < 64 and len(name) <= MAX_NAME):
                    server = server if self._is_name(name) else "it is no question"
                if server.__class__ is not Server or not 0 < rdtype < 65536:
                    turned.append(self._turned(at, server if isinstance(server, str) else "it is no question"))
                    continue
                question = make(Question, (name, rdtype, server, recurse))
                asked[id(question)] = intake, at
                submit(question)
            self.questions += len(batch.questions) - len(turned)
        if turned:
            self._send({intake: turned})

    def _is_name(self, name: bytes) -> bool:
        good = is_name(name)
        if good and len(name) > 1:
            if len(self._parents) >= _MOST_PARENTS:
                self._parents.clear()
            self._parents.add(name[name[0] + 1 :])
        return good

    def _server(self, place: ServerAddress) -> Server | str:
        """The server to ask, the same for the same place; or why it is not asked."""
        server = self._servers.get(place)
        if server is not None:
            return server
        if place.address == NOWHERE and not place.url:
            return NO_RESOLVER
        if not self._rules.permits(place):
            return "the server is not in its allow list"
        if not 0 < place.port < 65536 or place.over not in OVERS:
            return "the server has no usable port or transport"
        key = self._rules.keys.get(place.key) if place.key else None
        if place.key and key is None:
            return f"it does not have the key {place.key}"
        server = Server(
            place.label, place.address, place.port, key=key, over=place.over, tls_name=place.tls_name, url=place.url
        )
        own = self._rules.pace if self._rules.pace is not None else None if server.on_loopback else DEFAULT_PACE
        server.pace = min((pace for pace in (own, place.pace) if pace is not None), default=None)
        self._servers[place] = server
        return server

    def _say(self, ended: Iterable[Answer]) -> None:
        told: dict[_Intake, list[Line]] = {}
        take, gone = self._asked.pop, (None, 0)
        for answer in ended:
            intake, at = take(id(answer[0]), gone)
            if intake is None:
                continue  # given up in the meantime
            try:
                told[intake].append((at, *answer[1:]))
            except KeyError:
                told[intake] = [(at, *answer[1:])]
        self._send(told)

    def _send(self, told: dict[_Intake, list[Line]]) -> None:
        """Tells everybody what has come for them."""
        mail: dict[str, list[tuple[int, list[Line]]]] = {}
        for intake, lines in told.items():
            mail.setdefault(intake.batch.reply_to, []).append((intake.batch.number, lines))
        for to, parts in mail.items():
            self._tell(to, packed(BatchAnswers(time.time(), parts)))


@dataclass(eq=False, slots=True)
class _Intake:
    """A batch that was taken in, and when it is given up (monotonic seconds)."""

    batch: Batch
    over_at: float


def networks_of(texts: Collection[str]) -> tuple[Network, ...]:
    """Networks and addresses as somebody wrote them. Raises ValueError."""
    return tuple(ipaddress.ip_network(text.strip(), strict=False) for text in texts if text.strip())
