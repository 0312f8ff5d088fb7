"""A real broker on loopback with certificates of its own, and whoever attacks it.

`Rig` is Mosquitto with the rules and the configuration that the product writes; with `lawless` the same without rules, which is
what a broker that has been taken over can do: whoever connects may publish and read everything.
"""

from __future__ import annotations

import socket
import ssl
import subprocess
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import Any

from paho.mqtt.client import Client, MQTTMessage
from paho.mqtt.enums import CallbackAPIVersion, MQTTProtocolVersion

from salt_mirror.dns.traffic.descriptors import most_sockets
from salt_mirror.vantages.allowed import WorkerRules, networks_of
from salt_mirror.vantages.broker import Listener, configuration
from salt_mirror.vantages.desk import Desk
from salt_mirror.vantages.identity import Identity
from salt_mirror.vantages.keys import make_keys
from salt_mirror.vantages.serving import Joining, VantageService
from salt_mirror.vantages.tls import papers_in
from support.realservers import end, free_port, program
from support.waiting import until

LOOPBACK_ONLY = WorkerRules(networks_of(["127.0.0.1"]))


class Rig:
    """A broker, and the folder with the certificates of `desk` and of its vantages."""

    def __init__(
        self, folder: Path, names: tuple[str, ...], *, lawless: bool = False, keys: Path | None = None
    ) -> None:
        self.keys = keys or folder / "keys"
        self.port = free_port()
        self.at = f"127.0.0.1:{self.port}"
        if keys is None:
            make_keys(self.keys, names, days=5, listener=Listener("127.0.0.1", self.port))
        text = configuration(self.keys, Listener("127.0.0.1", self.port))
        if lawless:
            text = "".join(line for line in text.splitlines(keepends=True) if not line.startswith("acl_file"))
        self._conf = folder / f"broker-{self.port}.conf"
        self._conf.write_text(text + "user root\n", encoding="utf-8")
        self.process: subprocess.Popen[bytes] | None = None
        self.stack = ExitStack()
        self.start()

    def start(self) -> None:
        """Start the broker, or start it again."""
        most_sockets()
        call = [program("mosquitto"), "-c", str(self._conf)]
        self.process = subprocess.Popen(call, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        until(self._listens)

    def stop(self) -> None:
        """Kill the broker."""
        if self.process is not None:
            self.process.kill()
            self.process.wait()

    def _listens(self) -> bool:
        with socket.socket() as sock:
            return sock.connect_ex(("127.0.0.1", self.port)) == 0

    def desk(self, **more: Any) -> Desk:
        """A desk at this broker."""
        desk = Desk(self.at, papers_in(self.keys, "desk"), **more)
        self.stack.callback(desk.close)
        return desk

    def join(
        self, name: str, rules: WorkerRules = LOOPBACK_ONLY, port: int | None = None
    ) -> tuple[VantageService, list[str]]:
        """A vantage at this broker, and its log."""
        log: list[str] = []
        joining = Joining(name, f"127.0.0.1:{port or self.port}", "", papers_in(self.keys, name), rules, dict)
        service = VantageService(joining, log.append)
        self.stack.callback(service.close)
        service.connect()
        return service, log

    def intruder(self, name: str, keys: Path | None = None) -> Intruder:
        """Somebody with a certificate, who speaks the protocol by hand."""
        intruder = Intruder(self.port, keys or self.keys, name)
        self.stack.callback(intruder.close)
        return intruder

    def close(self) -> None:
        """End everything."""
        self.stack.close()
        if self.process is not None:
            end(self.process)


class Intruder:
    """A client of the broker with somebody's certificate: whatever it hears is in `heard`."""

    def __init__(self, port: int, keys: Path, name: str) -> None:
        self.heard: list[tuple[str, bytes]] = []
        self.ended = 0
        self.identity = Identity(papers_in(keys, name))
        self.client = Client(CallbackAPIVersion.VERSION2, protocol=MQTTProtocolVersion.MQTTv311)
        self.client.tls_set_context(papers_in(keys, name).context())
        self.client.tls_insecure_set(True)
        self.client.on_message = self._message
        self.client.on_disconnect = self._ended
        self.client.connect("127.0.0.1", port)
        self.client.loop_start()
        until(self.client.is_connected)

    def _message(self, _: Client, __: object, message: MQTTMessage) -> None:
        self.heard.append((message.topic, bytes(message.payload)))

    def _ended(self, *_: object) -> None:
        self.ended += 1

    def listen(self, topic: str) -> bool:
        """Subscribe; whether the broker says that it may."""
        codes: list[Any] = []
        self.client.on_subscribe = lambda _, __, ___, found, ____: codes.extend(found)
        self.client.subscribe(topic, qos=1)
        until(lambda: codes)
        return not codes[0].is_failure

    def publish(self, topic: str, payload: bytes, *, retain: bool = False) -> None:
        """Publish, and wait until the broker has taken it or has ended the connection."""
        before = self.ended
        sent = self.client.publish(topic, payload, qos=1, retain=retain)
        until(lambda: sent.is_published() or self.ended > before)

    def close(self) -> None:
        """End the connection."""
        self.client.disconnect()
        self.client.loop_stop()


@contextmanager
def raw(rig: Rig, name: str) -> Iterator[ssl.SSLSocket]:
    """A TLS connection with somebody's certificate, for bytes that no client sends."""
    context = papers_in(rig.keys, name).context()
    with socket.create_connection(("127.0.0.1", rig.port)) as sock, context.wrap_socket(sock) as secure:
        yield secure
