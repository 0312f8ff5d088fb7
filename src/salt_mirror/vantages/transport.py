"""A connection to the broker: MQTT (OASIS, version 5 where the broker has it, else 3.1.1) over TLS, kept open by itself.

Strategy: a thread reads and writes; what comes is handed to `hear` there. The library's own thread waits with select(2), which
serves no socket above the 1,024th of a process, and an engine beside it may have more open; so this one waits by itself. The
client's name is random, so that nobody can take over a connection whose name is known. After a loss it comes again by itself,
and everything that has to be said then (subscriptions, presence) is said in `on_up`. Quality of service 1: an honest broker
delivers each message at least once (MQTT 3.1.1 section 4.3.2).
"""

from __future__ import annotations

import contextlib
import random
import secrets
import selectors
import socket
import ssl
import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from paho.mqtt.client import Client, ConnectFlags, DisconnectFlags, MQTTMessage
from paho.mqtt.enums import CallbackAPIVersion, MQTTErrorCode, MQTTProtocolVersion
from paho.mqtt.properties import Properties
from paho.mqtt.reasoncodes import ReasonCode

from salt_mirror.estate.errors import BadInput
from salt_mirror.vantages.protocol import TOPICS
from salt_mirror.vantages.tls import Papers, host_and_port, plainly, shown

CONNECT_S = 5.0
KEEPALIVE_S = 5
"""A client that the broker has not heard of for one and a half times this is gone (MQTT 3.1.1 section 3.1.2.10)."""
FIRST_PAUSE_S, LONGEST_PAUSE_S = 0.5, 8.0
NEWEST = (MQTTProtocolVersion.MQTTv5, MQTTProtocolVersion.MQTTv311)
_UNSUPPORTED = ("Unsupported protocol version",)

Hear = Callable[[str, bytes], None]
"""Takes a topic and what was published there; runs on the connection's own thread."""


class Unreached(BadInput):
    """The broker cannot be reached, or does not let us in."""


@dataclass(frozen=True, slots=True)
class Will:
    """What the broker publishes when the connection has ended without a word: topic and payload, retained."""

    topic: str
    payload: bytes


class BrokerConnection:
    """A connection to a broker. `up` says whether it is there now, `times` how often it came up, `refused` why the broker did
    not carry out something that we asked of it, empty where it did."""

    def __init__(
        self,
        address: str,
        papers: Papers,
        hear: Hear,
        *,
        will: Will | None = None,
        on_up: Callable[[BrokerConnection], None] | None = None,
        on_down: Callable[[str], None] | None = None,
        versions: Sequence[MQTTProtocolVersion] = NEWEST,
    ) -> None:
        """Connects. Raises BadInput for what cannot be right, Unreached for a broker that is not there."""
        host, port = host_and_port(address)
        self.at = shown(host, port)
        self.up = False
        self.times = 0
        self.refused = ""
        self._settling: dict[int, threading.Event] = {}
        self._last_unsubscribed = 0
        self._hear = hear
        self._on_up = on_up
        self._on_down = on_down
        self._context = papers.context()
        for version in versions:
            why = self._connect(host, port, version, will)
            if why not in _UNSUPPORTED:
                break
        if why:
            raise Unreached(f"the broker at {self.at} {why}")

    def _connect(self, host: str, port: int, version: MQTTProtocolVersion, will: Will | None) -> str:
        """Return an empty text, or why it did not succeed."""
        client = Client(
            CallbackAPIVersion.VERSION2, f"salt-mirror-{secrets.token_hex(12)}", protocol=version,
            clean_session=None if version is MQTTProtocolVersion.MQTTv5 else True,
        )  # fmt: skip
        client.tls_set_context(self._context)
        if not self._context.check_hostname:
            client.tls_insecure_set(True)  # the name is not compared; the certificate is checked all the same
        client.max_inflight_messages_set(0)
        client.connect_timeout = CONNECT_S
        if will is not None:
            client.will_set(will.topic, will.payload, qos=1, retain=True)
        self._answered = threading.Event()
        self._why = ""
        client.on_connect, client.on_disconnect = self._came_up, self._went_down
        client.on_message, client.on_publish, client.on_subscribe = self._message, self._published, self._subscribed
        client.on_unsubscribe = self._unsubscribed
        try:
            client.connect(host, port, keepalive=KEEPALIVE_S)
        except (OSError, ValueError, ssl.SSLError) as error:
            return f"cannot be reached ({plainly(error)})"
        self._client = client
        self._loop = _Loop(client)
        answered = self._answered.wait(CONNECT_S)
        why = self._why if answered else f"does not answer ({CONNECT_S:.0f} s)"
        if why:
            self.close()
        return why

    def _came_up(self, _: Client, __: object, ___: ConnectFlags, code: ReasonCode, ____: Properties | None) -> None:
        if code.is_failure:
            self._why = str(code) if str(code) in _UNSUPPORTED else f"refuses the connection ({code})"
            self._answered.set()
            return
        self.up = True
        self.times += 1
        if self._on_up is not None:
            self._on_up(self)
        self._answered.set()

    def _went_down(
        self, _: Client, __: object, ___: DisconnectFlags, code: ReasonCode, ____: Properties | None
    ) -> None:
        was_up, self.up = self.up, False
        if not self._answered.is_set():
            # With TLS 1.3 a certificate is refused after the client's side of the handshake has ended (RFC 8446, appendix C.4).
            self._why = "ended the connection (is our certificate revoked, expired, or of another authority?)"
            self._answered.set()
        elif was_up and self._on_down is not None:
            self._on_down(str(code))

    def _message(self, _: Client, __: object, message: MQTTMessage) -> None:
        try:
            topic = message.topic
        except UnicodeDecodeError:
            return
        self._hear(topic, bytes(message.payload))

    def _published(self, _: Client, __: object, ___: int, code: ReasonCode, ____: Properties) -> None:
        if code.is_failure:
            self.refused = f"the broker at {self.at} does not carry our messages ({code}): its rules have to name us"

    def _subscribed(self, _: Client, __: object, ___: int, codes: list[ReasonCode], ____: Properties) -> None:
        if any(code.is_failure for code in codes):
            self.refused = (
                f"the broker at {self.at} does not let us read our topics ({codes[0]}): its rules have to name us"
            )

    def _unsubscribed(self, _: Client, __: object, number: int, ___: list[ReasonCode], ____: Properties | None) -> None:
        self._last_unsubscribed = number
        if (event := self._settling.get(number)) is not None:
            event.set()

    def settled(self) -> bool:
        """Wait until the broker has worked through all that was asked of it before, and say whether it has. It answers in the
        order of the questions (MQTT 3.1.1 section 4.6); what is asked here changes nothing."""
        event = threading.Event()
        _, number = self._client.unsubscribe(f"{TOPICS}/settled")
        if number is None:
            return False
        self._settling[number] = event
        if self._last_unsubscribed == number:
            event.set()
        done = event.wait(CONNECT_S)
        self._settling.pop(number, None)
        return done

    def publish(self, topic: str, payload: bytes, *, retain: bool = False) -> None:
        """Publish from whatever thread. Raises Unreached when the connection is lost."""
        sent = self._client.publish(topic, payload, qos=1, retain=retain)
        if sent.rc not in (MQTTErrorCode.MQTT_ERR_SUCCESS, MQTTErrorCode.MQTT_ERR_NO_CONN):
            raise Unreached(f"the broker at {self.at} cannot be reached ({sent.rc.name})")

    def subscribe(self, topics: Sequence[str], *, qos: int = 1) -> None:
        """Subscribe to topics, from whatever thread."""
        for at in range(0, len(topics), 100):
            self._client.subscribe([(topic, qos) for topic in topics[at : at + 100]])

    def unsubscribe(self, topic: str) -> None:
        """Have no more of a topic."""
        self._client.unsubscribe(topic)

    def close(self) -> None:
        """End the connection."""
        self._loop.stop()


class _Loop:
    """The thread of a connection: waits for its socket, and connects it again whenever it is lost."""

    def __init__(self, client: Client) -> None:
        """Takes over a client that is connected."""
        self._client = client
        self._ended = threading.Event()
        self._inner, self._outer = socket.socketpair()
        for end in (self._inner, self._outer):
            end.setblocking(False)
        client.on_socket_register_write = lambda *_: self.wake()
        self._thread = threading.Thread(target=self._run, name="broker connection", daemon=True)
        self._thread.start()

    def wake(self) -> None:
        """Let the thread look for what is to be written."""
        with contextlib.suppress(OSError):
            self._outer.send(b"x")

    def stop(self) -> None:
        """Send what is left, take leave of the broker, and end the thread."""
        self._client.disconnect()
        self._ended.set()
        self.wake()
        if threading.current_thread() is not self._thread:
            self._thread.join(CONNECT_S)

    def _run(self) -> None:
        pause = FIRST_PAUSE_S
        while not self._ended.is_set():
            if self._client.socket() is not None:
                pause = FIRST_PAUSE_S
                self._serve()
            if not self._ended.wait(pause * (0.5 + random.random())):  # not a thousand vantages at the same moment
                pause = min(2 * pause, LONGEST_PAUSE_S)
                with contextlib.suppress(OSError, ValueError):
                    self._client.reconnect()
        self._inner.close()
        self._outer.close()

    def _emptied(self) -> None:
        with contextlib.suppress(OSError):
            while self._inner.recv(4096):
                pass

    def _serve(self) -> None:
        """Read and write until the connection is lost."""
        client = self._client
        with selectors.DefaultSelector() as selector:
            selector.register(self._inner, selectors.EVENT_READ)
            sock = client.socket()
            if sock is not None:
                selector.register(sock, selectors.EVENT_READ)
            while client.socket() is sock and sock is not None:
                writes = selectors.EVENT_WRITE if client.want_write() else 0
                selector.modify(sock, selectors.EVENT_READ | writes)
                for key, events in selector.select(1.0):
                    if key.fileobj is self._inner:
                        self._emptied()
                        client.loop_write()
                        continue
                    if events & selectors.EVENT_WRITE:
                        client.loop_write()
                    if events & selectors.EVENT_READ:
                        client.loop_read()
                        # TLS may hold what the selector does not see.
                        while client.socket() is sock and isinstance(sock, ssl.SSLSocket) and sock.pending():
                            client.loop_read()
                client.loop_misc()
