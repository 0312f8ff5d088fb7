"""What a vantage does with the questions that reach it: it asks those that it may, at its own pace, and sends the answers.

Strategy: one thread with one engine, so that a server has one window and one pace whoever asks. Questions come through a queue;
answers leave in the order in which they end, and a sign of life each second while anything is under way. Its own limits hold
whatever a batch says: the servers of its allow list, so many errands and questions in hand, none that is too old, none twice,
none that was meant for a session before. Nothing here knows what carries the errands; that is handed in as `send`.
"""

from __future__ import annotations

import platform
import queue
import secrets
import threading
import time
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from itertools import compress, repeat
from typing import NamedTuple

from salt_mirror import __version__
from salt_mirror.dns.names import MAX_NAME, is_name
from salt_mirror.dns.questions import AFAR, Answer, Question, Server
from salt_mirror.dns.system import DEFAULT_PACE, system_resolvers
from salt_mirror.dns.traffic.engine import Engine
from salt_mirror.vantages.allowed import WorkerRules
from salt_mirror.vantages.protocol import (
    MOST_BYTES,
    MOST_ERRANDS,
    MOST_QUESTIONS,
    NO_RESOLVER,
    NOWHERE,
    OVERS,
    AnswerColumns,
    Batch,
    BatchAnswers,
    Errand,
    Facts,
    Greeting,
    Presence,
    Reply,
    ServerAddress,
    columns_of,
    refused_columns,
)

MOST_IN_HAND = 20_000
"""So many questions a vantage has in hand; it turns away what is more."""
MOST_SERVERS = 4096
"""So many servers it knows at a time."""
MOST_SEEN = 65_536
"""So many errands it remembers, so that none is carried out twice."""
FULL = f"it has {MOST_ERRANDS} errands in hand already"
GREETINGS_A_SECOND = 20
SLOWEST, FASTEST = 0.01, 1e6
LONGEST_S = 600.0
"""So long it works on one batch."""
LIFE_EVERY_S = 1.0
IDLE_S = 1.0
"""A vantage that has had nothing to do for so long begins with fresh sockets, and tries every server again."""
_LOOK_S = 0.01
_SOON_S = 0.03
_MANY = 1000
_MOST_PARENTS = 4096
_STEP = 512
_LABELS = frozenset(range(1, 64))


class DeskSession(NamedTuple):
    """Who sent an errand and awaits the replies: a desk, and the session of its process."""

    desk: str
    session: str


Send = Callable[[DeskSession, Reply], None]


class Refused(ValueError):
    """An errand that is not carried out."""


class Worker:
    """A vantage at work. `name` is how it is called, `session` what its errands have to name: random, anew in each process."""

    def __init__(
        self,
        name: str,
        rules: WorkerRules,
        send: Send,
        settings: Callable[[], dict[str, bytes]] = dict,
        group: str = "",
    ) -> None:
        """`settings` captures how this computer is set up to look names up."""
        self.name = name
        self.session = secrets.token_hex(12)
        self.questions = 0
        self.refused = 0
        self._group = group
        self._rules = rules
        self._reply = send
        self._settings = settings
        self._inbox: queue.Queue[_Intake | None] = queue.Queue(MOST_ERRANDS)
        self._seen: dict[int, float] = {}  # by the errand's number: until when it could be sent again
        self._greeted: list[float] = []
        self._servers: dict[ServerAddress, Server] = {}
        # By the question's id, since the engine holds what it has in hand: the batch, and the question's place in it, as one
        # number.
        self._asked: dict[int, int] = {}
        self._intakes: dict[int, _Intake] = {}
        self._intakes_begun = 0
        self._parents: set[bytes] = set()
        self._thread = threading.Thread(target=self._work, name="vantage", daemon=True)
        self._thread.start()

    def take(self, sender: DeskSession, errand: Errand) -> None:
        """Take in an errand of a desk; from one thread. Raises Refused for one that is not carried out."""
        now = time.time()
        if errand.session != self.session:
            raise Refused("it was meant for a session before this one")
        if errand.number in self._seen:
            raise Refused("it came twice")
        if isinstance(errand, Greeting):
            # A desk that asks for the time may have a clock that is off; that is what it wants to know.
            self._remember(errand.number, now, now + LONGEST_S)
            self._greet(sender, errand)
            return
        if not now <= errand.until <= now + LONGEST_S:
            raise Refused("it is too old, or the clock of its desk is off")
        self._remember(errand.number, now, errand.until)
        try:
            self._inbox.put_nowait(_Intake(errand, sender, time.monotonic() + errand.until - now))
        except queue.Full:
            self._turn_away(errand, sender, FULL)

    def _remember(self, number: int, now: float, until: float) -> None:
        if len(self._seen) >= MOST_SEEN:
            self._seen = {one: over for one, over in self._seen.items() if over >= now}
            if len(self._seen) >= MOST_SEEN:
                raise Refused(f"it would have to remember more than {MOST_SEEN:,} errands")
        self._seen[number] = until

    def _greet(self, sender: DeskSession, greeting: Greeting) -> None:
        now = time.monotonic()
        self._greeted = [at for at in self._greeted if now - at < 1.0]
        if len(self._greeted) >= GREETINGS_A_SECOND:
            raise Refused(f"it is greeted more than {GREETINGS_A_SECOND} times a second")
        self._greeted.append(now)
        settings = self._settings() if greeting.settings else {}
        if sum(map(len, settings.values())) > MOST_BYTES // 2:
            settings = {}
        self._reply(sender, Facts(greeting.number, time.time(), settings))

    def close(self) -> None:
        """End the work; what is under way is not answered."""
        while True:
            try:
                self._inbox.put_nowait(None)
                break
            except queue.Full:
                self._inbox.get_nowait()
        self._thread.join(5)

    def presence(self) -> Presence:
        """Return what the vantage says of itself."""
        resolvers = [server.endpoint for server in system_resolvers()]
        system = f"{platform.system()} {platform.machine()}, Python {platform.python_version()}"
        limits = self._rules.pace, MOST_IN_HAND, LONGEST_S
        return Presence(
            self.session, __version__, time.time(), self._group, system, resolvers, self._rules.allowed, limits
        )

    def _work(self) -> None:
        while True:
            # Once nothing is under way, the engine and the table of servers are dropped: at once when the table is full, else
            # after a while, since which servers were silent, for somebody else's questions, is no news any more.
            with Engine(timeout_s=self._rules.timeout_s, tries=self._rules.tries) as engine:
                if not self._work_with(engine):
                    return
                self._servers.clear()

    def _work_with(self, engine: Engine) -> bool:
        """Work until the engine has to be dropped; False where it is the end."""
        life = time.monotonic()
        while engine.backlog or len(self._servers) < MOST_SERVERS:
            try:
                intake = self._inbox.get(block=not engine.backlog, timeout=IDLE_S if self._servers else None)
            except queue.Empty:
                if not engine.backlog:
                    return True
                self._answer(self._collect(engine))
                if time.monotonic() - life >= LIFE_EVERY_S:
                    life = time.monotonic()
                    self._live(life)
                continue
            if intake is None:
                return False
            self._begin(intake, engine)
        return True

    def _live(self, now: float) -> None:
        """Say which batches are being worked on, and give up what has taken too long."""
        for intake in list(self._intakes.values()):
            if intake.over_at <= now:
                places = [slot % _STEP for slot in self._asked.values() if slot // _STEP == intake.at]
                self._asked = {question: slot for question, slot in self._asked.items() if slot // _STEP != intake.at}
                del self._intakes[intake.at]
                self._turn_away(intake.batch, intake.sender, "it took too long", places)
        working: dict[DeskSession, list[int]] = {}
        for intake in self._intakes.values():
            working.setdefault(intake.sender, []).append(intake.batch.number)
        for sender, numbers in working.items():
            self._reply(sender, BatchAnswers(time.time(), [], numbers))

    def _turn_away(self, batch: Batch, sender: DeskSession, why: str, places: Sequence[int] | None = None) -> None:
        """Say of questions of a batch, without places of all, that they are not asked."""
        everything = range(sum(len(names) for *_, names in batch.groups)) if places is None else places
        self.refused += len(everything)
        # A place beyond those that a batch may have cannot be answered.
        some = [place for place in everything if place < MOST_QUESTIONS]
        if some:
            status = f"{AFAR}not asked by the vantage {self.name}: {why}"
            self._reply(sender, BatchAnswers(time.time(), [refused_columns(batch.number, some, status)]))

    def _collect(self, engine: Engine) -> list[Answer]:
        """Return what has ended, gathered for a moment, so that many answers travel together."""
        ended = engine.collect(_LOOK_S)
        until = time.monotonic() + _SOON_S
        while ended and engine.backlog and time.monotonic() < until and len(ended) < _MANY:
            ended += engine.collect(_LOOK_S)
        return ended

    def _begin(self, intake: _Intake, engine: Engine) -> None:
        """Ask what may be asked; all else is answered at once."""
        batch, sender = intake.batch, intake.sender
        size = sum(len(names) for *_, names in batch.groups)
        if size > MOST_QUESTIONS:
            self._turn_away(batch, sender, f"a batch has at most {MOST_QUESTIONS} questions")
            return
        if len(self._asked) + size > MOST_IN_HAND:
            self._turn_away(batch, sender, f"it has {MOST_IN_HAND:,} questions in hand already")
            return
        if len(self._intakes) >= MOST_ERRANDS:
            self._turn_away(batch, sender, FULL)
            return
        self._intakes_begun += 1
        intake.at = self._intakes_begun
        first = 0
        for rdtype, place, recurse, names in batch.groups:
            server = self._server(batch.places[place]) if 0 <= place < len(batch.places) else "it names no server"
            if not isinstance(server, Server):
                self._turn_away(batch, sender, server, range(first, first + len(names)))
            elif not 0 < rdtype < 65536:
                self._turn_away(batch, sender, "it is no question", range(first, first + len(names)))
            else:
                self._ask(intake, engine, first, names, (rdtype, server, recurse))
            first += len(names)
        if intake.left:
            self._intakes[intake.at] = intake

    def _ask(
        self, intake: _Intake, engine: Engine, first: int, names: list[bytes], like: tuple[int, Server, bool]
    ) -> None:
        """Put questions that differ by name only; what is no name is answered at once."""
        if not names:
            return
        slots: Iterable[int] = range(intake.at * _STEP + first, intake.at * _STEP + first + len(names))
        # Below parents that have been looked at already only the first labels are new: a few sets for 500 names take a quarter
        # of the time that a look at each takes (bench/vantages.py).
        if not (
            all(names)
            and _LABELS.issuperset([name[0] for name in names])
            and self._parents.issuperset([name[name[0] + 1 :] for name in names])
            and max(map(len, names)) <= MAX_NAME
        ):
            good = [self._is_name(name) for name in names]
            wrong = [first + at for at, is_good in enumerate(good) if not is_good]
            if wrong:
                self._turn_away(intake.batch, intake.sender, "it is no question", wrong)
            slots = list(compress(slots, good))
            names = list(compress(names, good))
        # Questions are named tuples: their own __new__ costs twice as much, once for each question.
        questions: list[Question] = list(
            map(tuple.__new__, repeat(Question), zip(names, *map(repeat, like), strict=False))
        )
        self._asked.update(zip(map(id, questions), slots, strict=True))
        intake.left += len(questions)
        self.questions += len(questions)
        engine.submit_all(like[1], questions)

    def _is_name(self, name: bytes) -> bool:
        good = is_name(name)
        if good and len(name) > 1:
            if len(self._parents) >= _MOST_PARENTS:
                self._parents.clear()
            self._parents.add(name[name[0] + 1 :])
        return good

    def _server(self, place: ServerAddress) -> Server | str:
        """Return the server to ask, the same for the same place; or why it is not asked."""
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
        if len(self._servers) >= MOST_SERVERS:
            return f"it has {MOST_SERVERS:,} servers in hand already"
        server = Server(
            place.label, place.address, place.port, key=key, over=place.over, tls_name=place.tls_name, url=place.url,
            unchecked=place.unchecked, signed=place.signed,
        )  # fmt: skip
        own = self._rules.pace if self._rules.pace is not None else None if server.on_loopback else DEFAULT_PACE
        server.pace = min(
            (pace for pace in (own, place.pace) if pace is not None and SLOWEST <= pace <= FASTEST), default=None
        )
        self._servers[place] = server
        return server

    def _answer(self, ended: list[Answer]) -> None:
        """Send everybody what has come for them."""
        if not ended:
            return
        take = self._asked.pop
        slots = [take(id(answer[0]), -1) for answer in ended]
        parts: dict[DeskSession, list[AnswerColumns]] = {}
        least, most = min(slots) // _STEP, max(slots) // _STEP
        groups = {most: (slots, ended)} if least == most else _by_intake(slots, ended)
        for at, (numbers, answers) in groups.items():
            intake = self._intakes.get(at)
            if intake is None:
                continue  # given up in the meantime
            places = [slot % _STEP for slot in numbers]
            parts.setdefault(intake.sender, []).append(columns_of(intake.batch.number, places, answers))
            intake.left -= len(places)
            if not intake.left:
                del self._intakes[at]
        for sender, columns in parts.items():
            for first in range(0, len(columns), MOST_ERRANDS):
                self._reply(sender, BatchAnswers(time.time(), columns[first : first + MOST_ERRANDS]))


def _by_intake(slots: list[int], ended: list[Answer]) -> dict[int, tuple[list[int], list[Answer]]]:
    """Answers and their places by the batch of their questions."""
    groups: dict[int, tuple[list[int], list[Answer]]] = {}
    for slot, answer in zip(slots, ended, strict=True):
        at = slot // _STEP
        try:
            group = groups[at]
        except KeyError:
            group = groups[at] = [], []
        group[0].append(slot)
        group[1].append(answer)
    return groups


@dataclass(eq=False, slots=True)
class _Intake:
    """A batch that was taken in, who awaits it, when it is given up (monotonic seconds), and which one it is; `left` of its
    questions are under way."""

    batch: Batch
    sender: DeskSession
    over_at: float
    at: int = 0
    left: int = 0
