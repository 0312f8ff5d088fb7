"""Whether hosts still answer: one TCP connection to each address and port that was named, a few at once, and nothing sent."""

from __future__ import annotations

import socket
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import partial

from salt_mirror.dns.errors import number_in
from salt_mirror.dns.names import shown
from salt_mirror.dns.reverse import address_text
from salt_mirror.dns.special import is_private
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.model import Estate

KNOCK_S = 1.0
AT_ONCE = 32
MOST_PORTS = 8


def ports_in(text: str) -> list[int]:
    """Read `22,445`. Raises BadInput."""
    numbers = []
    for word in text.split(","):
        number = number_in(word.strip(), 65535)
        if not number:
            raise BadInput(f"--knock: {shown(word)} is no port; expected some such as 22,445")
        numbers.append(number)
    if len(numbers) > MOST_PORTS:
        raise BadInput(f"--knock: {len(numbers)} ports; at most {MOST_PORTS} are tried")
    return list(dict.fromkeys(numbers))


def knocked(
    addresses: Sequence[bytes], ports: Sequence[int], estate: Estate, *, public: bool
) -> tuple[dict[bytes, str], int]:
    """Return what came of each address in words, and how many were left out since they are public."""
    chosen = [one for one in addresses if public or is_private(estate.reached(one)[0])]
    with ThreadPoolExecutor(AT_ONCE) as workers:
        said = workers.map(partial(_knock, ports=ports, estate=estate), chosen)
        return dict(zip(chosen, said, strict=True)), len(addresses) - len(chosen)


def _knock(address: bytes, ports: Sequence[int], estate: Estate) -> str:
    text = address_text(address)
    for port in ports:
        place = estate.reached(address)[0]
        try:
            with socket.create_connection((address_text(place), port), KNOCK_S):
                return f"{text} answers on port {port}: a server is there."
        except ConnectionRefusedError:
            return f"{text} turns port {port} away: a server is there."
        except OSError:
            continue
    tried = f"port {ports[0]}" if len(ports) == 1 else f"any of {', '.join(map(str, ports))}"
    return f"{text} does not answer on {tried}."
