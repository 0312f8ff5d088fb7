"""Zone files judged against each other and the estate, without any server.

Strategy: each file is a server of its own that has this one zone, and the estate is cut down to the zones that have a file. So
the checks run unchanged; whatever leads out of the files is answered by nobody, and stays unverified.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path

from salt_mirror.checks.rehearse.loading import endpoint_of
from salt_mirror.checks.rehearse.proposed import ProposedZone
from salt_mirror.dns.holding import Holding
from salt_mirror.dns.names import Name
from salt_mirror.dns.questions import UNSEEN, Answer, Question, Server
from salt_mirror.dns.records import AXFR
from salt_mirror.dns.serving import ServedZone
from salt_mirror.estate.model import Estate, Updates, Zone

_NOWHERE = bytes(4)
OF_SERVERS = frozenset(
    f"auth.{what}"
    for what in (
        "not-in-estate",
        "unlisted",
        "hidden-primary",
        "primary-missing",
        "primary-unclear",
        "several-primaries",
    )
)
"""Codes that say how servers stand to a zone: of a file they mean nothing."""
OUTSIDE = f"{UNSEEN}it is in none of the files (--offline)"


def file_server(path: Path, number: int) -> Server:
    """Return a file as a server, which nothing is ever sent to; `number` tells it from others."""
    return Server(str(path), _NOWHERE, number, url=str(path))


def estate_of_files(estate: Estate, files: Sequence[ProposedZone]) -> Estate:
    """Return an estate of the zones only that have a file, each served by that file."""
    zones: dict[str, dict[Name, Zone]] = {}
    for number, one in enumerate(files, 1):
        zone = one.zone
        server = file_server(one.path, number)
        cut_down = replace(
            zone, servers=(server,), primary=server, updates=Updates(), transfer=False, ages=()
        )  # fmt: skip
        zones.setdefault(zone.view, {})[zone.apex] = cut_down
    views = {view: zones[view] for view in (*estate.views, *zones) if view in zones}
    return replace(
        estate, zones=views, servers={}, resolvers={}, groups={}, finders=(), roots={}, duties={}, twins=[], unread={},
        replicated={},
    )  # fmt: skip


class OnlyFiles:
    """The exchange: a file answers for its zone, as one that it is today where there is one (`today`), and nobody else
    answers."""

    strays = late = 0

    def __init__(self, estate: Estate, today: Mapping[tuple[str, Name], Holding]) -> None:
        self._served: dict[object, ServedZone | None] = {}
        for zone in estate.all_zones():
            holding = today.get((zone.view, zone.apex))
            for server in zone.servers or ():
                self._served[endpoint_of(server)] = ServedZone(holding) if holding is not None else None
        self._ready: list[Answer] = []

    @property
    def backlog(self) -> int:
        """How many answers are waiting to be taken."""
        return len(self._ready)

    def submit(self, question: Question) -> None:
        """Take a question; its answer is ready at once."""
        self._ready.append(self._said(question))

    def collect(self, wait_s: float | None = None) -> list[Answer]:
        """Return the answers that are ready."""
        ready, self._ready = self._ready, []
        return ready

    def _said(self, question: Question) -> Answer:
        place = endpoint_of(question.server)
        # What is asked for with its signatures needs a signer: a file proves no denial.
        if place not in self._served or question.server.signed or question.recurse:
            return Answer(question, OUTSIDE, tries=0)
        served = self._served[place]
        if question.server.over == "tcp":  # a file has no transport that could be missing
            return served.answer(question) if served is not None else Answer(question, "NOERROR", True)
        if served is None or question.rdtype == AXFR or question.server.over == "update":
            return Answer(question, "REFUSED")
        if not question.name.endswith(served.apex):
            return Answer(question, "REFUSED")
        return served.answer(question)
