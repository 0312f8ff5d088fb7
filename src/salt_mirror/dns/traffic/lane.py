"""One server over UDP: what waits for it, what is under way, and what an arriving datagram means.

Strategy: this is the hot path, so it is written flat. The first tries of questions stand in a table by id as bare tuples;
whatever needs more than that becomes a Flight in a second table. A datagram counts only when it comes to the socket that
asked, with the id, the question in its very case, and the cookie if there is one; all else is a stray and changes nothing
(RFC 5452). What to try next is the fallback's to say; what a datagram cannot settle goes to the server's TCP stream.
The module is longer than others, since sending and receiving share their tables and every call counts here.
"""

from __future__ import annotations

import os
import selectors
import socket
from collections import deque
from collections.abc import Callable, Mapping
from types import MappingProxyType
from typing import TYPE_CHECKING

from salt_mirror.dns.questions import NO_SOURCE, SILENCED, UNREACHABLE, Answer, Question, Server
from salt_mirror.dns.replies import ORDINARY, Reader, Reply
from salt_mirror.dns.screening import ForeseenQuestion, ForeseenSet, ScreenTally
from salt_mirror.dns.traffic.bulk import Bulk
from salt_mirror.dns.traffic.fallback import Next, Ways, refuses_edns
from salt_mirror.dns.traffic.flight import Deadlines, Flight, answer_from, no_answer, other_case
from salt_mirror.dns.traffic.manners import AGAIN, Breaker, Pace, RoundTrips, Window
from salt_mirror.dns.traffic.ports import SourcePorts
from salt_mirror.dns.wire import MalformedMessage, middles, question_tail

if TYPE_CHECKING:
    from salt_mirror.dns.traffic.stream import Stream

_RECEIVE = 2048
_CASES_FOR = 16
_MOST_ENDED = 4096

Waiting = Question | ForeseenSet
"""What waits to be asked: a question, or a set that is foreseen, for which one is made only where its answer differs."""
_First = tuple[Waiting, bytes, float, socket.socket]
"""A first try under way: the question, its section as it was sent, when, and through which socket."""


class NoStream:
    """A TCP connection that nothing has needed so far."""

    flights: Mapping[bytes, Flight] = MappingProxyType({})
    open = False

    def expire(self, now: float) -> None:
        """Do nothing: nothing waits."""

    def next_due(self) -> None:
        """Return that nothing is due."""

    def close(self) -> None:
        """Do nothing."""


class Lane:
    """The traffic with one server. `done` receives every question's answer exactly once."""

    def __init__(
        self,
        server: Server,
        selector: selectors.BaseSelector,
        done: Callable[[Answer], None],
        *,
        timeout_s: float,
        tries: int,
        pace: Pace | None,
        tally: ScreenTally,
    ) -> None:
        self.server = server
        self._tally = tally
        self.waiting: deque[Waiting] = deque()
        self.strays = self.late = 0
        self._selector = selector
        self._done = done
        self._firsts: dict[bytes, _First] = {}
        self._flights: dict[bytes, Flight] = {}
        self._tries = tries
        self._budget_s = timeout_s * (2**tries - 1)
        self._deadlines = Deadlines(tries)
        self._trips = RoundTrips(timeout_s)
        self._window = Window()
        self._pace = pace
        self._breaker = Breaker()
        self._stream: Stream | NoStream = NoStream()
        self._ports = SourcePorts(server, selector, self.receive)
        self._ids = b""
        self._case_left = 0
        self._ways = Ways(unchecked=server.unchecked, signed=server.signed)
        self._reader = Reader()
        self._bulk = Bulk()
        self._ended: dict[bytes, bytes] = {}
        self._again: dict[Question, int] = {}

    @property
    def busy(self) -> bool:
        """Whether anything waits or is under way."""
        return bool(self.waiting or self._firsts or self._flights or self._stream.flights)

    @property
    def _under_way(self) -> int:
        return len(self._firsts) + len(self._flights) + len(self._stream.flights)

    # Sending

    def fill(self, now: float) -> None:
        """Send what waits, as far as window and pace allow."""
        if self._breaker.open:
            self._probe(now)
            return
        # What is being sent again has most likely left the network, so it takes up a quarter of the room.
        room = int(self._window.size) - len(self._firsts) - len(self._stream.flights) - len(self._flights) // 4
        if self._pace is not None and room > 0:
            room = min(room, self._pace.allowance(now))
            self._pace.spend(min(room, len(self.waiting)))
        if room > 0 and self.waiting:
            self._launch(min(room, len(self.waiting)), now)

    def _next(self) -> Question:
        """Return the question that has waited longest."""
        one = self.waiting.popleft()
        return one.asked(self.server) if isinstance(one, ForeseenSet) else one

    def _probe(self, now: float) -> None:
        """One question a second tries whether a silent server is back; the others end, at once or when it was waited for."""
        if self.waiting and not self._under_way and self._breaker.probes(now):
            self._launch(1, now)
        while self.waiting and not self._breaker.holds(now):
            self._done(Answer(self._next(), SILENCED, tries=0))

    def _launch(self, number: int, now: float) -> None:
        """Send the first try of so many questions."""
        sock = self._ports.take(number)
        if sock is None:
            for _ in range(number):
                status = NO_SOURCE if self.server.source else UNREACHABLE
                self._done(Answer(self._next(), status, tries=0))
            return
        if self.server.key is not None:
            for _ in range(number):
                self._launch_signed(self._next(), now)
            return
        firsts, flights, popleft = self._firsts, self._flights, self.waiting.popleft
        middles, opt = self._ways.envelope(plain=False)
        # The case of the letters is drawn anew every 16 questions, not for each: a new table takes as long as a whole question
        # (8.8 us by timeit), and the id and the port already make a blind answer unlikely (RFC 5452).
        self._case_left -= number
        if self._case_left <= 0:
            self._case_left = _CASES_FOR
            self._ways.renew_case()
        case = self._ways.case
        batch = self._take_ids(number)
        # Linux takes datagrams of one size in one call (see `bulk`), so they are sorted by their length.
        by_size: dict[int, list[bytes]] = {}
        of_size, size = list[bytes](), 0
        for at, qid in enumerate(batch):
            question = popleft()
            if isinstance(question, ForeseenSet):
                name, rdtype, recurse = question.name, question.rdtype, False
            else:
                name, rdtype, _, recurse = question
            # Two questions under way never share an id, or the answer to one could end the other.
            while qid in firsts or qid in flights:
                qid = batch[at] = os.urandom(2)
            asked = name.translate(case) + question_tail(rdtype)
            firsts[qid] = (question, asked, now, sock)
            wire = qid + middles[recurse] + asked + opt
            if len(wire) != size:
                size = len(wire)
                of_size = by_size.setdefault(size, [])
            of_size.append(wire)
        self._deadlines.expect_firsts(batch, now, now + self._trips.wait_s)
        for wires in by_size.values():
            if not self._bulk.send(sock, wires):
                self._refused(now)

    def _take_ids(self, number: int) -> list[bytes]:
        """Return random ids for so many questions."""
        # One call to the system for 2,048 of them: a slice takes a fifth of the time of a call (timeit).
        if len(self._ids) < 2 * number:
            self._ids = os.urandom(max(4096, 2 * number))
        ids, self._ids = self._ids[: 2 * number], self._ids[2 * number :]
        return [ids[at : at + 2] for at in range(0, 2 * number, 2)]

    def _launch_signed(self, question: Question, now: float) -> None:
        """Signed questions are flights from the first try on: the signature has to be remembered."""
        qid = os.urandom(2)
        while qid in self._flights or qid in self._firsts:
            qid = os.urandom(2)
        asked = question.name + question_tail(question.rdtype)
        middle = middles(unchecked=self.server.unchecked, signed=self.server.signed)[question.recurse]
        flight = Flight(question, qid, asked, qid + middle + asked + self._ways.opt, now)
        flight.tries = 0
        self._sign(flight)
        self._flights[qid] = flight
        self._resend(flight, now)

    def _sign(self, flight: Flight) -> None:
        from salt_mirror.dns.tsig import sign

        assert self.server.key is not None
        flight.wire, flight.mac = sign(flight.wire, self.server.key)

    def _signed(self, message: bytes, rcode: int, mac: bytes) -> bool:
        from salt_mirror.dns.tsig import believable

        assert self.server.key is not None
        return believable(message, rcode, self.server.key, mac)

    def _promote(self, qid: bytes, first: _First, now: float) -> Flight:
        """Make a flight of a first try that has met trouble."""
        question, asked, sent_at, sock = first
        if isinstance(question, ForeseenSet):
            question = question.asked(self.server)
        middles, opt = self._ways.envelope(plain=False)
        flight = Flight(question, qid, asked, qid + middles[question.recurse] + asked + opt, sent_at)
        flight.plain = not opt
        flight.sock = sock
        # Not before the first try's own time to wait: what made it a flight may be a forged datagram.
        flight.deadline = max(now, sent_at + self._trips.wait_s)
        del self._firsts[qid]
        self._flights[qid] = flight
        self._deadlines.expect(flight)
        return flight

    def _send_again(self, flight: Flight, now: float) -> None:
        """The next try, as the fallback says."""
        last = flight.tries + 1 >= self._tries
        step = self._ways.after_silence(flight, last=last, heard=self._breaker.ever_heard and self._tries > 1)
        if step is Next.STREAM:
            self._land(flight)
            flight.tries += 1
            self._to_stream(flight, now)
            return
        if step is Next.PLAIN:
            self._make_plain(flight)
            flight.edns_out = True
        self._resend(flight, now)

    def _make_plain(self, flight: Flight) -> None:
        """Take EDNS and the random case out of a question."""
        question = flight.question
        flight.plain = True
        flight.asked = question.name + question_tail(question.rdtype)
        flight.wire = flight.qid + self._ways.envelope(plain=True)[0][question.recurse] + flight.asked
        if self.server.key is not None:
            self._sign(flight)

    def _resend(self, flight: Flight, now: float) -> None:
        attempt = flight.tries
        flight.tries = attempt + 1
        flight.sent_at = now
        wait_s = self._trips.wait_s * 2**attempt
        flight.deadline = (
            max(flight.began_at + self._budget_s, now + wait_s) if flight.tries == self._tries else now + wait_s
        )
        self._deadlines.expect(flight)
        flight.sock = sock = self._ports.current
        if sock is None:
            return
        try:
            sock.send(flight.wire)
        except (BlockingIOError, InterruptedError):
            pass
        except OSError:
            self._refused(now)

    # Receiving

    def receive(self, sock: socket.socket, _: int, now: float) -> None:
        """Read what has arrived and end the questions that it answers."""
        firsts, receive, ways = self._firsts, sock.recv, self._ways
        ordinary, foreseen = self._reader.ordinary, self._reader.foreseen
        edns_seen, cookie = ways.edns_seen, ways.has_cookie
        passed, trips_s = self._tally.passed, self._tally.trips_s
        heard, matched, sent_at, newest = 0, 0, now, b""
        # As many datagrams as can be answers, and a few more: a flood of strays must not take the turn of other servers.
        for _ in range(self._under_way + 8):
            try:
                message = receive(_RECEIVE)
            except (BlockingIOError, InterruptedError):
                break
            except OSError:
                self._refused(now)
                break
            qid = message[:2]
            first = firsts.get(qid)
            # The id alone is not enough: an answer has to come to the port that asked (RFC 5452 section 4.4).
            if first is None or first[3] is not sock:
                heard += self._receive_other(sock, qid, message, now)
                continue
            question, asked, sent_at, _via = first
            if isinstance(question, ForeseenSet):
                ttl = foreseen(message, asked, question, cookie=cookie)
                # Written out here: a call for each answer takes 2 % of the time of a check.
                if ttl is not None and (not question.over or (question.ttl == ttl and question.over == "udp")):
                    question.ttl, question.over = ttl, "udp"
                    del firsts[qid]
                    matched += 1
                    subject = question.subject
                    subject.left -= 1
                    if not subject.left:
                        passed.append(subject)
                    trips_s.append(now - sent_at)
                    if cookie:
                        newest = message
                    continue
                question = question.asked(self.server)
            answer = None if cookie else ordinary(message, asked, question, (now - sent_at) * 1000.0)
            if answer is None:
                looked_at = self._look_at(question, first, message, now, edns_seen=edns_seen, cookie=cookie)
                if isinstance(looked_at, int):
                    heard += looked_at
                    edns_seen, cookie = edns_seen or ways.edns_seen, ways.has_cookie
                    continue
                answer = looked_at
            elif isinstance(question, ForeseenQuestion):
                self._reader.learn(answer, asked, question.foreseen, b"")
            edns_seen = True
            heard += 1
            del firsts[qid]
            self._done(answer)
        ways.edns_seen = edns_seen
        if newest:
            ways.keep(newest[-24:])
        self._tally.matched += matched
        if heard + matched:
            self._heard(heard + matched, now - sent_at)

    def _look_at(
        self, question: Question, first: _First, message: bytes, now: float, *, edns_seen: bool, cookie: bool
    ) -> Answer | int:
        """Return the answer to a first try that is out of the ordinary; where it has to be looked at with care, how many
        answers it was."""
        _, asked, sent_at, sock = first
        qid = message[:2]
        if cookie:
            self._promote(qid, first, now)
            return self._receive_other(sock, qid, message, now)
        try:
            reply = self._reader.read_matched(message, asked)
        except MalformedMessage:
            self._unreadable(self._promote(qid, first, now), message)
            return 0
        rcode, right, truncated, values, ttl, alias, opt = reply
        if opt or truncated or rcode not in ORDINARY or (opt is None and not edns_seen):
            # Cookies, truncation, fallbacks: rare, or a server's own way.
            self._promote(qid, first, now)
            return self._receive_other(sock, qid, message, now)
        rtt_ms = (now - sent_at) * 1000.0
        answer = Answer(question, ORDINARY[rcode], right, values, ttl, alias, message, rtt_ms, 1, "udp")
        self._learn(answer, asked, opt)
        return answer

    def _learn(self, answer: Answer, asked: bytes, opt: bytes | None) -> None:
        """Remember how this server gives what is foreseen."""
        question = answer.question
        if isinstance(question, ForeseenQuestion):
            self._reader.learn(answer, asked, question.foreseen, opt)

    def _heard(self, answers: int, trip_s: float) -> None:
        """Take in that so many answers came, the last one after so long."""
        self._window.heard(answers)
        self._breaker.heard()
        # Only answers to questions that were sent once measure a round trip (Karn's rule, RFC 6298 section 3).
        if trip_s > 0:
            self._trips.heard(trip_s)

    def _receive_other(self, sock: socket.socket, qid: bytes, message: bytes, now: float) -> int:
        """Take in a datagram for a flight, or a stray one. Returns how many answers it was: one or none."""
        flight = self._flights.get(qid)
        if flight is None or flight.sock is not sock:
            asked = flight.asked if flight is not None else self._ended.get(qid)
            if asked is not None and message[12 : 12 + len(asked)].lower() == asked.lower():
                self.late += 1  # to a question that was sent again in the meantime, or given up
            else:
                self.strays += 1
            return 0
        if flight.asked != flight.asked_first and message.startswith(flight.asked_first, 12):
            flight.asked, flight.plain = flight.asked_first, False  # the reply to a try before it was made plain
        try:
            reply = self._reader.read_matched(message, flight.asked)
        except MalformedMessage:
            self._unreadable(flight, message)
            return 0
        return self._settle(flight, reply, message, now)

    def _to_stream(self, flight: Flight, now: float) -> None:
        """Hand a question on to the server's TCP connection, which is brought in with the first one: most servers need none."""
        if isinstance(self._stream, NoStream):
            from salt_mirror.dns.traffic.stream import Stream

            self._stream = Stream(self.server, self._selector, self._end_streamed, budget_s=self._budget_s)
        self._stream.submit(flight, now)

    def _unreadable(self, flight: Flight, message: bytes) -> None:
        """What cannot be read ends nothing, since anyone may have sent it: the true answer may still come."""
        self.strays += 1
        if other_case(message, flight.asked):
            flight.case_lost = True
        else:
            flight.malformed = True

    def _settle(self, flight: Flight, reply: Reply, message: bytes, now: float) -> int:
        """Do with a reply what the fallback says. Returns how many answers it was: one or none."""
        if flight.mac is not None and not self._signed(message, reply[0], flight.mac):
            flight.malformed = True
            self.strays += 1
            return 0
        if flight.edns_out and flight.plain and refuses_edns(reply):
            # A slow server turns the try with EDNS away after the plain one was sent: what that brings is still to come.
            flight.edns_out, flight.edns_refused = False, True
            self.late += 1
            return 0
        match self._ways.after(reply, flight, last=flight.tries >= self._tries):
            case Next.STRAY:
                flight.cookie_lost = True
                self.strays += 1
                return 0
            case Next.STREAM:
                self._land(flight)
                self._to_stream(flight, now)
            case Next.SAME:
                question = flight.question
                middle = self._ways.envelope(plain=False)[0][question.recurse]
                flight.wire = flight.qid + middle + flight.asked + self._ways.opt
                self._resend(flight, now)
            case Next.PLAIN:
                self._make_plain(flight)
                self._resend(flight, now)
            case _:
                self._land(flight)
                answer = answer_from(flight, reply, message, (now - flight.sent_at) * 1000.0, "udp")
                self._learn(answer, flight.asked, reply[6])
                self._done(answer)
        return 1

    # Ending

    def _land(self, flight: Flight) -> None:
        flight.landed = True
        self._flights.pop(flight.qid, None)
        # Kept to tell a late answer from a stray one, and for nothing else: dropping them all now and then does no harm.
        if len(self._ended) >= _MOST_ENDED:
            self._ended.clear()
        self._ended[flight.qid] = flight.asked

    def _promote_all(self, now: float) -> None:
        for qid, first in list(self._firsts.items()):
            self._promote(qid, first, now)

    def _refused(self, now: float) -> None:
        """The system says that nothing is there. It may be wrong for a moment, so the tries go on, but faster."""
        self._promote_all(now)
        for flight in self._flights.values():
            flight.refused = True
            flight.deadline = min(flight.deadline, now + 0.1 * flight.tries)

    def expire(self, now: float) -> None:
        """Send again, or give up, what has waited long enough."""
        for sent_at, batch in self._deadlines.late_firsts(now):
            for qid in batch:
                first = self._firsts.get(qid)
                if first is not None and first[2] == sent_at:
                    self._promote(qid, first, now)
        lost = False
        for flight in self._deadlines.late(now):
            lost = True
            if flight.tries < self._tries and not self._breaker.open:
                self._send_again(flight, now)
                continue
            self._land(flight)
            self._breaker.unheard(now)
            if not ((flight.refused or self._breaker.open) and self._comes_again(flight.question, now)):
                self._done(no_answer(flight))
        # Once for all that was lost by now: losses come in swarms, and the window is halved once for a swarm.
        if lost:
            self._window.lost(now, self._trips.wait_s)
        self._stream.expire(now)
        if self._breaker.open:
            self._probe(now)

    def _comes_again(self, question: Question, now: float) -> bool:
        """Let a question wait once more, where its server may only be starting anew."""
        times = self._again.get(question, 0)
        if times >= AGAIN or not self._breaker.may_return(now):
            return False
        self._again[question] = times + 1
        self.waiting.append(question)
        return True

    def _end_streamed(self, flight: Flight, answer: Answer, now: float) -> None:
        """What the stream has brought for a question that began here."""
        if answer.trouble is None or answer.message:
            self._breaker.heard()
        elif flight.tries >= self._tries > 1 and not self._breaker.open:
            self._breaker.unheard(now)
            answer = no_answer(flight)
        lost = answer.trouble is not None and not answer.message and flight.refused
        if not (lost and self._comes_again(flight.question, now)):
            self._done(answer)

    def next_due(self, now: float) -> float | None:
        """Return when something has to be done next, unless something arrives: the engine's clock."""
        dues = [self._stream.next_due(), self._deadlines.next_due(firsts=bool(self._firsts))]
        if self.waiting and self._breaker.open:
            dues.append(self._breaker.due(now, probing=self._under_way > 0))
        elif self.waiting and self._pace is not None and self._under_way < int(self._window.size):
            dues.append(now + self._pace.wait_s())
        return min((due for due in dues if due is not None), default=None)

    @property
    def sockets(self) -> int:
        """How many are open."""
        return self._ports.count + self._stream.open

    def rest(self) -> None:
        """Close every socket while nothing is under way; the next question opens one anew."""
        self.close()

    def close(self) -> None:
        """Close every socket."""
        self._ports.close()
        self._stream.close()
