"""The way that a name takes on this computer: what somebody typed, the stations that it passes, and the views at its end.

Strategy: a computer's settings are data by the time they come here; each resolver in them is a server that can be asked,
over UDP and over TCP. What somebody typed stands for one name: the one that the estate expects among those that are tried
for it, else the first that is there.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.dns.computer.settings import Configured, Settings
from salt_mirror.dns.names import Name, labels, shown
from salt_mirror.dns.questions import Server
from salt_mirror.dns.records import AAAA, PTR, A
from salt_mirror.dns.reverse import address_of, reverse_name
from salt_mirror.dns.system import paced, parse_server
from salt_mirror.estate.forms import address_in, check_name
from salt_mirror.estate.model import Estate

MOST_CANDIDATES = 12


@dataclass(frozen=True, slots=True)
class Programs:
    """What this computer's own programs get for something typed: packed addresses (or names of an address) in their order, or
    why nothing, and in how many seconds."""

    values: tuple[bytes, ...]
    error: str
    took_s: float


@dataclass(frozen=True, slots=True)
class WayResolver:
    """A resolver on the way: as the system has it, and as the server that it is."""

    configured: Configured
    server: Server


@dataclass(slots=True)
class Typed:
    """Something typed: a name or an address, the names that are tried for it in their order, the types that are asked for, and
    what programs get, where they were asked."""

    text: str
    candidates: list[Name]
    rdtypes: tuple[int, ...]
    expected: Name | None = None
    programs: Programs | None = None

    @property
    def address(self) -> bytes | None:
        """The address, where it is one."""
        return address_of(self.candidates[0]) if self.rdtypes == (PTR,) else None


@dataclass(slots=True)
class HereScope:
    """A computer, an estate, and the view that the computer should get (None: whichever it gets)."""

    settings: Settings
    estate: Estate
    atlas: Atlas
    view: str | None = None
    unread: list[str] = field(default_factory=list)
    _servers: dict[str, Server | None] = field(default_factory=dict)

    def typed(self, text: str, programs: Programs | None = None) -> Typed:
        """Read what somebody typed. Raises Unusable."""
        address = address_in(text)
        if address is not None:
            name = reverse_name(address)
            return Typed(text, [name], (PTR,), name, programs)
        check_name(text)
        candidates = self.settings.candidates(text)[:MOST_CANDIDATES]
        return Typed(text, candidates, (A, AAAA), self._expected(text, candidates), programs)

    def _expected(self, text: str, candidates: Sequence[Name]) -> Name | None:
        """Return the name that was meant, as far as the estate tells: one that it expects, else a whole one in a zone of it."""
        known = {one.name for zone in self.estate.all_zones() for one in zone.expectations if one.presence != "absent"}
        for name in candidates:
            if name in known:
                return name
        for name in candidates:
            if (
                len(labels(name)) == text.rstrip(".").count(".") + 1
                and len(labels(name)) > 1
                and self.views_of(name) != [""]
            ):
                return name
        return None

    def views_of(self, name: Name) -> list[str]:
        """Return the views that have a zone for a name, the one that the computer should get at any rate."""
        found = [view for view in self.estate.views if self.estate.zone_of(name, view) is not None]
        if self.view is not None and self.view not in found:
            found.append(self.view)
        return found or [""]

    def stations(self, name: Name) -> list[WayResolver]:
        """Return the resolvers that are asked for a name, in their order, but for those that cannot be asked from a program."""
        found = [(one, self.server_of(one)) for one in self.settings.resolvers_for(name)]
        return [WayResolver(one, server) for one, server in found if server is not None]

    @property
    def stub(self) -> WayResolver | None:
        """The resolver on this very computer that programs ask, where there is one."""
        if self.settings.stub is None:
            return None
        server = self.server_of(self.settings.stub)
        return WayResolver(self.settings.stub, server) if server is not None else None

    def server_of(self, configured: Configured) -> Server | None:
        """Return the server that a configured resolver is; None, once told, for one that cannot be asked."""
        text = configured.address
        if text not in self._servers:
            label = f"{text} ({configured.link})" if configured.link else text
            try:
                if "%" in text:
                    raise ValueError(text)
                server = paced(parse_server(text, label, self.estate.reached))
                server.label = self._label(server, label)
                self._servers[text] = server
            except ValueError:
                self._servers[text] = None
                self.unread.append(f"{shown(text)} in {configured.place} is a link-local address, or none: not asked")
        return self._servers[text]

    def _label(self, server: Server, otherwise: str) -> str:
        """Return what a resolver is called, with the estate's word for it where it has one."""
        for label, known in self.estate.resolvers.items():
            if (known.address, known.port) == (server.address, server.port) and server.address:
                return f"{otherwise} ({label})"
        return otherwise
