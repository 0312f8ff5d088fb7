"""What a draft finds around the zones: whether the network leads anywhere, how a directory signs, which servers were asked."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.draft.learnt import Learnt
from salt_mirror.cli.options import Asking
from salt_mirror.dns.names import from_text, to_text
from salt_mirror.dns.questions import Question, Server
from salt_mirror.dns.records import A
from salt_mirror.dns.traffic.engine import Engine
from salt_mirror.estate.duties import EXTERNAL
from salt_mirror.estate.model import Estate


def is_isolated(resolvers: Collection[Server], asking: Asking) -> bool:
    """Return whether none of some resolvers finds a name of the world; not so where there is none to ask."""
    with Engine(timeout_s=asking.timeout, tries=asking.tries) as engine:
        for server in resolvers:
            for text in EXTERNAL:
                engine.submit(Question(from_text(text), A, server, True))
        found = False
        while answers := engine.collect():
            found = found or any(answer.trouble is None and answer.values for answer in answers)
    return bool(resolvers) and not found


def find_short_signatures(learnt: Learnt, asking: Asking) -> None:
    """Notes which zones of a directory are on servers that leave a length out of their signatures: each server is sent one
    change that changes nothing, signed with the user's ticket, if there is one."""
    tried: dict[Server, bool] = {}
    for zone in learnt.zones.values():
        for server in zone.servers[:1] if zone.signed_changes else ():
            name = learnt.servers[server].name
            if server not in tried and name is not None:
                from salt_mirror.dns.kerberos import signs_short

                host = to_text(name).rstrip(".")
                tried[server] = bool(signs_short(server, host, zone.apex, timeout_s=asking.timeout * 5))
            zone.short_signature = tried.get(server, False)


def with_servers(estate: Estate, atlas: Atlas) -> None:
    """Put the servers that were asked already in the place of the estate's own, so that nothing is asked twice."""
    at = {(server.address, server.port): server for server in atlas.servers}

    def known(server: Server) -> Server:
        asked_server = at.get((server.address, server.port), server)
        asked_server.label = server.label
        return asked_server

    estate.servers = {label: known(server) for label, server in estate.servers.items()}
    for zones in estate.zones.values():
        for apex, zone in zones.items():
            if zone.servers is not None:
                zones[apex] = replace(zone, servers=tuple(map(known, zone.servers)))
