"""How one broker bears many vantages: python bench/many_vantages.py [VANTAGES]

Mosquitto as `vantage keys` configures it, and 1,000 simulated vantages in a process of their own, each with its certificate, a
TLS connection and a retained presence. Then a desk connects, learns who is there, and greets all of them: each reads a signed
errand and signs its reply. Seconds, and what the broker and the desk hold of memory.
"""

from __future__ import annotations

import multiprocessing
import selectors
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import psutil
from paho.mqtt.client import Client
from paho.mqtt.enums import CallbackAPIVersion, MQTTProtocolVersion

from salt_mirror import __version__
from salt_mirror.dns.traffic.descriptors import most_sockets
from salt_mirror.vantages.broker import Listener, configuration, find_mosquitto
from salt_mirror.vantages.desk import Desk
from salt_mirror.vantages.identity import Identity, Role, Trust
from salt_mirror.vantages.keys import make_keys
from salt_mirror.vantages.protocol import Facts, Presence, errand_in, errand_topic, presence_topic, reply_topic
from salt_mirror.vantages.tls import papers_in

PORT = 18799


def simulate(keys: Path, names: list[str], ready: Any) -> None:
    """All vantages in one process, until it is killed."""
    selector = selectors.DefaultSelector()
    trust = Trust(papers_in(keys, names[0]))

    def answers(identity: Identity) -> Any:
        def heard(client: Client, _: object, message: Any) -> None:
            desk, session = message.topic.split("/")[-2:]
            errand = errand_in(trust.opened(message.topic, bytes(message.payload), Role.DESK, desk))
            topic = reply_topic(desk, session, identity.name)
            client.publish(topic, identity.sealed(topic, Facts(errand.number, time.time(), {})), qos=1)

        return heard

    for name in names:
        papers = papers_in(keys, name)
        identity = Identity(papers)
        client = Client(CallbackAPIVersion.VERSION2, f"s-{name}", protocol=MQTTProtocolVersion.MQTTv5)
        client.tls_set_context(papers.context())
        client.tls_insecure_set(True)
        client.on_message = answers(identity)
        client.connect("127.0.0.1", PORT, keepalive=600)
        client.subscribe(errand_topic(name, "+", "+"), qos=1)
        here = Presence(name, __version__, time.time(), "", "", [], ["127.0.0.1/32"], (None, 1, 1.0))
        topic = presence_topic(name)
        client.publish(topic, identity.sealed(topic, here), qos=1, retain=True)
        sock = client.socket()
        assert sock is not None
        selector.register(sock, selectors.EVENT_READ, client)
        while client.want_write():
            client.loop_write()
    ready.set()
    while True:
        for key, _ in selector.select(1.0):
            key.data.loop_read()
            while key.data.want_write():
                key.data.loop_write()


def main() -> None:
    number = int(sys.argv[1]) if len(sys.argv) > 1 else 1000
    names = [f"v-{at}" for at in range(number)]
    with tempfile.TemporaryDirectory() as text:
        keys = Path(text) / "keys"
        before = time.perf_counter()
        make_keys(keys, names, days=2)
        print(f"{number:,} certificates: {time.perf_counter() - before:.1f} s")
        conf = Path(text) / "mosquitto.conf"
        conf.write_text(configuration(keys, Listener("127.0.0.1", PORT)) + "user root\n", encoding="utf-8")
        most_sockets()
        broker = subprocess.Popen([find_mosquitto(), "-c", str(conf)], stderr=subprocess.DEVNULL)
        time.sleep(1)
        empty = psutil.Process(broker.pid).memory_info().rss
        ready = multiprocessing.Event()
        crowd = multiprocessing.Process(target=simulate, args=(keys, names, ready))
        before = time.perf_counter()
        crowd.start()
        ready.wait()
        print(f"all connected, each with its presence: {time.perf_counter() - before:.1f} s")
        before = time.perf_counter()
        desk = Desk(f"127.0.0.1:{PORT}", papers_in(keys, "desk"))
        here = desk.here()
        print(f"a desk connects and learns of {len(here):,}: {time.perf_counter() - before:.2f} s")
        before = time.perf_counter()
        found = desk.greet(names)
        good = sum(one.trouble is None for one in found.values())
        print(f"one errand to each, {good:,} replies: {time.perf_counter() - before:.2f} s")
        held = psutil.Process(broker.pid).memory_info().rss
        print(
            f"memory: broker {held / (1 << 20):.0f} MiB ({(held - empty) / number / 1024:.0f} KiB a vantage), desk "
            f"{psutil.Process().memory_info().rss / (1 << 20):.0f} MiB"
        )
        desk.close()
        crowd.kill()
        broker.kill()
        broker.wait()


if __name__ == "__main__":
    main()
