"""DNS over HTTPS (RFC 8484), through httpx.

Strategy: such resolvers are asked a few things, not thousands; so a small pool of threads posts the questions, each a
wire message as it would go over UDP, and wakes the engine's poll through a socket pair. What comes back is read by the same
decoder as everything else. The HTTP client waits for each step by itself, so the question's own deadline is kept here: one
that is over ends, whatever its thread is still waiting for.
"""

from __future__ import annotations

import contextlib
import selectors
import socket
import time
from collections.abc import Callable
from concurrent.futures import Future
from functools import partial
from typing import TYPE_CHECKING

from salt_mirror.dns.questions import FAILED_STREAM, HTTP, MALFORMED, TIMEOUT, UNTRUSTED, Answer, Question, Server
from salt_mirror.dns.replies import Reader
from salt_mirror.dns.traffic.flight import Flight, answer_from
from salt_mirror.dns.traffic.gate import Gate
from salt_mirror.dns.traffic.manners import Pace
from salt_mirror.dns.wire import MalformedMessage, question_tail
from salt_mirror.dns.workers import Workers

if TYPE_CHECKING:
    import httpx

WINDOW = 8
MOST_BYTES = 65535
_TYPE = "application/dns-message"
_ID = b"\x00\x00"  # RFC 8484 section 4.1: zero, so that caches on the way can serve


class HttpsLane:
    """The traffic with a server that is spoken to over HTTPS. The same shape as a lane over UDP."""

    def __init__(
        self,
        server: Server,
        selector: selectors.BaseSelector,
        done: Callable[[Answer], None],
        *,
        budget_s: float,
        pace: Pace | None,
    ) -> None:
        import httpx

        self.server = server
        self.strays = self.late = 0
        self._done = done
        self._selector = selector
        self._gate = Gate(server, done, pace)
        self.waiting = self._gate.waiting
        self._budget_s = budget_s
        self._under_way: dict[Future[Answer], tuple[Question, float]] = {}
        self._client: httpx.Client | None = None
        # Certificates that cannot be read: nothing can be trusted. A proxy of a kind that is not known: no way there.
        with contextlib.suppress(OSError, ValueError, ImportError, httpx.InvalidURL):
            self._client = httpx.Client(http2=True, timeout=budget_s, follow_redirects=False, trust_env=True)
        self._workers = Workers(WINDOW, "https")
        self._bell, self._ear = socket.socketpair()
        self._ear.setblocking(False)
        selector.register(self._ear, selectors.EVENT_READ, self._rung)

    @property
    def busy(self) -> bool:
        """Whether anything waits or is under way."""
        return bool(self.waiting or self._under_way)

    @property
    def sockets(self) -> int:
        """How many are open at the most: the bell, and a connection for each thread."""
        return 2 + WINDOW

    def rest(self) -> None:
        """Leave its connections to the HTTP client."""

    def fill(self, now: float) -> None:
        """Post what waits, as far as window and pace allow."""
        for question in self._gate.pass_on(now, WINDOW, len(self._under_way)):
            future = self._workers.submit(partial(self._post, question))
            self._under_way[future] = question, now + self._budget_s
            future.add_done_callback(self._ring)

    def _ring(self, _: Future[Answer]) -> None:
        with contextlib.suppress(OSError):
            self._bell.send(b"!")

    def _post(self, question: Question) -> Answer:
        """Run in a thread of the pool: one question, one answer or the reason why there is none."""
        import httpx

        if self._client is None:
            return Answer(question, UNTRUSTED, over="https")
        wire = question.encoded(_ID)
        before = time.monotonic()
        headers = {"content-type": _TYPE, "accept": _TYPE, "accept-encoding": "identity"}
        try:
            with self._client.stream("POST", self.server.url, content=wire, headers=headers) as response:
                kind = response.headers.get("content-type", "").partition(";")[0].strip().lower()
                if response.status_code != 200 or kind != _TYPE:
                    what = f"status {response.status_code}" if response.status_code != 200 else "a page of another kind"
                    return Answer(question, HTTP + what, over="https")
                body = b""
                for piece in response.iter_raw():
                    body += piece
                    if len(body) > MOST_BYTES:
                        return Answer(question, MALFORMED, over="https")
            reply = Reader().read(body, _ID, question.name + question_tail(question.rdtype))
        except MalformedMessage:
            return Answer(question, MALFORMED, over="https")
        except httpx.TimeoutException:
            return Answer(question, TIMEOUT, over="https")
        except (httpx.HTTPError, httpx.InvalidURL, OSError, ValueError) as error:
            untrusted = "CERTIFICATE_VERIFY_FAILED" in str(error)
            return Answer(question, UNTRUSTED if untrusted else FAILED_STREAM, over="https")
        rtt_ms = (time.monotonic() - before) * 1000.0
        return answer_from(Flight(question, _ID, b"", wire, before), reply, body, rtt_ms, "https")

    def _rung(self, ear: socket.socket, _: int, now: float) -> None:
        with contextlib.suppress(OSError):
            ear.recv(4096)
        for future in [future for future in self._under_way if future.done()]:
            del self._under_way[future]
            answer = future.result()
            self._gate.ended(answer, now)
            self._done(answer)

    def expire(self, now: float) -> None:
        """End the questions that have waited too long."""
        for future, (question, deadline) in list(self._under_way.items()):
            if deadline <= now:
                del self._under_way[future]
                future.cancel()
                answer = Answer(question, TIMEOUT, over="https")
                self._gate.ended(answer, now)
                self._done(answer)

    def next_due(self, now: float) -> float | None:
        """Return when something has to be done next."""
        dues = [deadline for _, deadline in self._under_way.values()]
        gate = self._gate.next_due(now, WINDOW, len(self._under_way))
        return min([*dues, gate] if gate is not None else dues, default=None)

    def close(self) -> None:
        """Close connections and threads."""
        with contextlib.suppress(KeyError, ValueError):
            self._selector.unregister(self._ear)
        self._workers.close()
        if self._client is not None:
            self._client.close()
        self._bell.close()
        self._ear.close()
