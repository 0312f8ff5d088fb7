"""The engine that a command asks with, in front of it what keeps views of one server apart."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING

from salt_mirror.cli.options import Asking
from salt_mirror.dns.questions import Server
from salt_mirror.dns.system import are_named, system_resolvers
from salt_mirror.dns.traffic.engine import Engine
from salt_mirror.estate.model import Estate

if TYPE_CHECKING:
    from salt_mirror.dns.apart import ApartExchange


@contextlib.contextmanager
def engine_of(asking: Asking) -> Iterator[ApartExchange]:
    """Return an engine as the options say, which puts no question for a view that this computer does not get."""
    from salt_mirror.dns.apart import ApartExchange

    with Engine(timeout_s=asking.timeout, tries=asking.tries) as engine:
        yield ApartExchange(engine)


def finders(estate: Estate) -> tuple[Server, ...]:
    """Return the resolvers that find the servers of zones: the estate's, or the system's."""
    return estate.finders or tuple(server for server in system_resolvers() if estate.asks(server))


def finders_when_needed(estate: Estate) -> tuple[Server, ...] | Callable[[], tuple[Server, ...]]:
    """Return the same, or what returns them: to ask the system takes a quarter of the time of a short command, and most zones
    have their servers in the estate. Raises Unusable for resolvers that are named wrongly."""
    return finders(estate) if estate.finders or are_named() else lambda: finders(estate)
