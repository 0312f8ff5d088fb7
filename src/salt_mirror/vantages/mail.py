"""How errands reach a vantage and replies come back: messages of our own on the streams that are open already.

Strategy: a client and a worker each have a stream to the scheduler; the post there puts what comes from one on the other. A
task for each errand would cost several times what its questions do, and would run whatever code came with it: all that a
vantage does with a message is to hand it to its station. Replies go to the client whose they are, as events of one topic.
An errand for a vantage that has not come yet, or has gone, is kept until it is there, as long as its client is.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from typing import Any

from distributed import SchedulerPlugin

from salt_mirror.vantages.parcel import Unreadable

_ERRAND, _REPLY = "salt-mirror-errand", "salt-mirror-reply"
REPLIES = "salt-mirror-replies"
"""The topic that a client hears its replies on; nobody else writes to it."""
OURS = "salt-mirror-"
"""The id of a scheduler with a post begins with this."""
MOST_KEPT = 64
"""So many errands are kept for a vantage that is not there; the oldest make room."""
_MOST_BYTES = 1 << 24


class Post(SchedulerPlugin):
    """Carries errands and replies at the scheduler."""

    name = "salt-mirror-post"

    def __init__(self, scheduler: Any) -> None:
        self._scheduler = scheduler
        self._kept: dict[str, deque[tuple[str, bytes]]] = {}
        scheduler.id = OURS + str(scheduler.id)
        scheduler.stream_handlers[_ERRAND] = self._errand
        scheduler.stream_handlers[_REPLY] = self._reply
        scheduler.add_plugin(self)

    def _errand(self, client: str = "", to: object = None, payload: object = None, **_: object) -> None:
        if not (isinstance(to, str) and isinstance(payload, bytes) and len(payload) <= _MOST_BYTES):
            return
        stream = self._scheduler.stream_comms.get(self._scheduler.aliases.get(to))
        if stream is not None:
            stream.send({"op": _ERRAND, "payload": payload})
        else:
            self._kept.setdefault(to, deque(maxlen=MOST_KEPT)).append((client, payload))

    def _reply(self, worker: str = "", to: object = None, payload: object = None, **_: object) -> None:
        if isinstance(to, str) and isinstance(payload, bytes) and (stream := self._scheduler.client_comms.get(to)):
            stream.send({"op": "event", "topic": REPLIES, "event": (0.0, payload)})

    def add_worker(self, scheduler: Any, worker: str) -> None:
        """Hands a vantage that has come what was kept for it."""
        for client, payload in self._kept.pop(scheduler.workers[worker].name, ()):
            self._errand(client, scheduler.workers[worker].name, payload)

    def remove_client(self, scheduler: Any, client: str) -> None:
        """Forgets what a client that has gone wanted."""
        scheduler.unsubscribe_topic(REPLIES, client)
        for name, kept in list(self._kept.items()):
            left = [one for one in kept if one[0] != client]
            if left:
                self._kept[name] = deque(left, maxlen=MOST_KEPT)
            else:
                del self._kept[name]


def deliver_to(worker: Any, take: Callable[[bytes], None]) -> None:
    """Lets a worker hand the errands that reach it to `take`. What is none is passed over."""

    def errand(payload: object = None, **_: object) -> None:
        if isinstance(payload, bytes):
            try:
                take(payload)
            except Unreadable:
                return

    worker.stream_handlers[_ERRAND] = errand


def replies_of(worker: Any) -> Callable[[str, bytes], None]:
    """What sends a reply from a worker to a client, from whatever thread."""

    def send(to: str, payload: bytes) -> None:
        message = {"op": _REPLY, "to": to, "payload": payload}
        worker.loop.add_callback(worker.batched_send, message)

    return send


def send_errand(client: Any, to: str, payload: bytes) -> None:
    """Sends an errand to a vantage, from whatever thread. Raises OSError when the scheduler has gone."""
    if client.status != "running":
        raise OSError("the connection was lost")
    client.loop.add_callback(_put, client, {"op": _ERRAND, "to": to, "payload": payload})


def _put(client: Any, message: dict[str, object]) -> None:
    """Runs on the client's own thread."""
    stream = client.scheduler_comm
    if stream is not None and not stream.closed():
        stream.send(message)
