"""The rows of a sheet, from what was seen: each says what a server said, and judges nothing."""

from __future__ import annotations

from datetime import datetime

from salt_mirror.checks.authority.seen import Place, Seen, own_set
from salt_mirror.checks.authority.sheet import NameServer, ServerRow, Sheet
from salt_mirror.checks.authority.versions import handed_over
from salt_mirror.checks.common.soa import fields, judge, sums
from salt_mirror.checks.signed.sheet import SignedSheet
from salt_mirror.dns.names import Name, to_text
from salt_mirror.dns.questions import Answer
from salt_mirror.dns.records import soa_fields
from salt_mirror.dns.reverse import address_text
from salt_mirror.dns.serials import ahead
from salt_mirror.dns.wire import edns_in, offers_recursion
from salt_mirror.findings import Finding, Outcome


def sheet_of(
    seen: Seen, outcome: Outcome, findings: list[Finding], now: datetime, signed: SignedSheet | None = None
) -> Sheet:
    """Return all that was seen of a zone, laid out."""
    name = to_text(seen.zone)
    if seen.belongs is not None or not seen.exists or not seen.places:
        return Sheet(zone=name, view=seen.view, outcome=outcome, says=findings[0].text if findings else "")
    _, serial = seen.reference
    place = next(iter(seen.measure or seen.serving), None)
    answer = place.spoken if place is not None else None
    soa = soa_fields(answer.values[0]) if answer is not None and answer.values else None
    ttl = answer.ttl if answer is not None else None
    several = seen.several_primaries  # asked of all servers, and so not for each of them
    judgements = list(judge(soa, secondaries=seen.has_secondaries)) if soa is not None else []
    return Sheet(
        zone=name,
        view=seen.view,
        outcome=outcome,
        says=_says(seen, serial),
        soa=fields(soa, ttl, now, judgements) if soa is not None else [],
        sums=sums(soa) if soa is not None and seen.has_secondaries else [],
        servers=_rows(seen, None if several else serial),
        name_servers=_name_servers(seen),
        parent=to_text(seen.parentage.zone) if seen.parentage.zone is not None else "",
        parent_says=_parent_says(seen),
        content=seen.compared.words,
        not_asked=[address_text(address) for address in seen.beyond],
        signed=signed,
    )


def _rows(seen: Seen, serial: int | None) -> list[ServerRow]:
    """Return a line for each server, whose serial is compared with that of its own lineage."""
    unsigned = seen.unsigned
    others = {place.server for place in unsigned}
    unsigned_serial = seen.reference_of(unsigned)[1] if unsigned else None
    return [_row(one, seen.zone, unsigned_serial if one.server in others else serial) for one in seen.places]


def _says(seen: Seen, serial: int | None) -> str:
    serving = len(seen.serving)
    if seen.several_primaries:
        how = seen.replicas.through if seen.replicas is not None else "through a directory"
        some = "they" if len(seen.primaries) == serving else f"{len(seen.primaries)} of them"
        says = f"{serving} of {len(seen.places)} servers {'serves' if serving == 1 else 'serve'} it"
        return f"{says}; {some} replicate it {how}" if len(seen.primaries) > 1 else f"{says}; it is replicated {how}"
    same = sum(place.version is not None and place.version.serial == serial for place in seen.serving)
    version = f"; {same} of them with serial {serial}" if serial is not None else ""
    if seen.unsigned:
        version += f", {len(seen.unsigned)} with the unsigned copy that is signed"
    return f"{serving} of {len(seen.places)} servers serve it{version}"


def _row(place: Place, zone: Name, serial: int | None) -> ServerRow:
    """Return one server's line; `serial` is the one that it is compared with, if there is one."""
    version, spoken = place.version, place.spoken
    behind = ahead(serial, version.serial) if version is not None and serial is not None else None
    message = spoken.message if spoken is not None else b""
    edns = edns_in(message) if message else None
    lame = place.lame(zone)
    return ServerRow(
        server=place.server.label,
        endpoint=place.server.endpoint,
        names=[to_text(name) for name in place.names],
        addresses=[address_text(address) for address in place.addresses],
        listed=list(place.listed),
        udp=_reached(place.soa),
        tcp=_reached(place.tcp),
        state="authoritative" if version is not None else lame or "unknown",
        serial=version.serial if version is not None else None,
        behind=behind,
        rtt_ms=round(spoken.rtt_ms, 3) if spoken is not None and spoken.rtt_ms is not None else None,
        name_servers=[to_text(name) for name in own_set(place)] or None,
        edns=edns.payload if edns is not None else None,
        cookies=edns.cookie if edns is not None else None,
        recursion=offers_recursion(message) if message else None,
        transfer=_transfer(place.transfer),
        updates=_updates(place.update),
    )


def _reached(answer: Answer | None) -> str:
    if answer is None:
        return "not asked"
    return "answers" if answer.message else answer.trouble or answer.status


def _transfer(answer: Answer | None) -> bool | None:
    if answer is None or not answer.message:
        return None
    return handed_over(answer)


def _updates(answer: Answer | None) -> str:
    """Return what a server says to an unsigned change; nothing where that was not tried."""
    if answer is None:
        return ""
    if not answer.message:
        return f"not known: {answer.trouble or answer.status}"
    said = {
        "NOERROR": "from anyone",
        "REFUSED": "refused unsigned",
        "NOTIMP": "none at all",
        "NOTAUTH": "not by this server, or not unsigned",
    }
    return said.get(answer.status, f"answers {answer.status}")


def _name_servers(seen: Seen) -> list[NameServer]:
    own, above = seen.own_targets, seen.parentage
    name_servers = []
    for target in dict.fromkeys([*own, *(() if seen.elsewhere else above.targets)]):
        lookup = seen.lookups.get(target)
        sources = ["parent"] * (target in above.targets) + ["zone"] * (target in own)
        if any(target in place.names and "estate" in place.listed for place in seen.places):
            sources.append("estate")
        name_servers.append(
            NameServer(
                name=to_text(target),
                listed=sources,
                addresses=[address_text(address) for address in lookup.values] if lookup is not None else [],
                glue=[address_text(address) for address in above.glue(target)],
                trouble=(lookup.trouble or "") if lookup is not None and not lookup.usable else "",
            )
        )
    return name_servers


def _parent_says(seen: Seen) -> str:
    above = seen.parentage
    if above.none or above.trouble:
        return f"none: {above.none}" if above.none else f"could not be seen: {above.trouble}"
    if above.shared:
        return "its servers serve the zone too, so that the delegation cannot be seen"
    if seen.elsewhere:
        return "delegates to the servers of another view"
    if not above.delegations:
        return "does not delegate it"
    ttls = sorted({delegation.ttl for delegation in above.delegations.values()})
    servers = ", ".join(server.label for server in above.delegations)
    return f"delegates it, with a TTL of {' or '.join(map(str, ttls))} s (asked: {servers})"
