"""Which servers may be asked for what is foreseen, by name.

Strategy: names side by side lie in one zone, unless one of them is an apex, so that the authority is found once for all names
below a parent. Only servers that the estate names are asked in bulk, over UDP, from here, without a key and for no one view of
several: with any other there is more to say than that the bytes are the same.
"""

from __future__ import annotations

from salt_mirror.checks.common.atlas import Atlas, Authority
from salt_mirror.dns.names import Name
from salt_mirror.dns.questions import Server


class Screeners:
    """Finds the authority at which the sets of a name may be screened; `apexes` are those of every zone of the estate."""

    def __init__(self, atlas: Atlas) -> None:
        self._atlas = atlas
        self.apexes = {apex for zones in atlas.estate.zones.values() for apex in zones}
        self._below: dict[tuple[Name, str], Authority | None] = {}

    def at(self, name: Name, view: str) -> Authority | None:
        """Return the authority of a name in a view; None where it is not known beforehand, or is not asked in bulk."""
        if name in self.apexes:
            return self._able(self._atlas.known(name, view))
        key = (name[name[0] + 1 :], view)
        try:
            return self._below[key]
        except KeyError:
            found = self._below[key] = self._able(self._atlas.known(name, view))
            return found

    def is_apex(self, name: Name, view: str) -> bool:
        """Return whether a name is the apex of its zone, as far as that is known beforehand: of servers that were given by hand
        it is not."""
        authority = self._atlas.known(name, view) if name in self.apexes else None
        return authority is not None and authority.zone == name

    @staticmethod
    def _able(authority: Authority | None) -> Authority | None:
        if authority is None or authority.trouble is not None or not authority.servers:
            return None
        return authority if all(map(is_plain, authority.servers)) else None


def is_plain(server: Server) -> bool:
    """Return whether a server may be asked in bulk."""
    special = server.key or server.found or server.shared or server.via or server.signed
    return not special and server.over == "udp"
