"""What plain agreement is for `pairs`: the addresses that are expected, each with a PTR record to the host, on every server.

Strategy: two rounds, as its dialogue asks. First the name's A and AAAA sets, at most one address each and the other set empty;
then the PTR set of each address, which is the name and nothing else. Whatever else there may be to say, from aliases to names
that share an address, begins where one of these differs.
"""

from __future__ import annotations

from collections.abc import Mapping

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.foreseen import Screeners
from salt_mirror.dns.names import Name
from salt_mirror.dns.records import AAAA, PTR, A
from salt_mirror.dns.reverse import reverse_name
from salt_mirror.dns.screening import ForeseenSet, ForeseenSubject


class PlainPairs:
    """Foresees pairs, by the addresses that are expected of a (view, name)."""

    def __init__(self, atlas: Atlas, expected: Mapping[tuple[str, Name], frozenset[bytes]]) -> None:
        self._expected = expected
        self._screeners = Screeners(atlas)

    def foresee(self, thing: tuple[Name, str]) -> ForeseenSubject | None:
        """Return what would settle a name in a view; None where nothing is expected, or several addresses of a family."""
        name, view = thing
        addresses = self._expected.get((view, name))
        authority = self._screeners.at(name, view)
        if not addresses or authority is None:
            return None
        four = six = None
        pointers = []
        for address in addresses:
            if len(address) == 4:
                if four is not None:
                    return None
                four = address
            elif six is not None:
                return None
            else:
                six = address
            reverse = reverse_name(address)
            holder = self._screeners.at(reverse, view)
            if holder is None:
                return None
            pointers.append(ForeseenSet(reverse, PTR, holder.servers, name))
        servers = authority.servers
        return ForeseenSubject(
            thing, ((ForeseenSet(name, A, servers, four), ForeseenSet(name, AAAA, servers, six)), pointers)
        )
