"""The rows of a descent, from what was seen on the way."""

from __future__ import annotations

from salt_mirror.checks.common.delegation import lameness
from salt_mirror.checks.common.soa import negative_ttl
from salt_mirror.checks.common.wording import many
from salt_mirror.checks.descend.sheet import LegSheet, Step, StepServer, TrustRow
from salt_mirror.checks.descend.walking import Leg, Level, Visit
from salt_mirror.dns.names import to_text
from salt_mirror.dns.records import NS, SOA, rdata_text, soa_fields, type_text
from salt_mirror.dns.reverse import address_text


def sheet_of(leg: Leg) -> LegSheet:
    """Return one leg laid out."""
    alias = next((one.answer.alias for one in leg.ends if one.answer.alias is not None), None)
    return LegSheet(
        name=to_text(leg.name),
        type=type_text(leg.rdtype),
        steps=[_step(level, leg.rdtype) for level in leg.levels],
        values=texts_of(leg.ends, leg.rdtype),
        alias=to_text(alias) if alias is not None else "",
        cached=_cached(leg),
        chain=_chain(leg),
    )


def _chain(leg: Leg) -> list[TrustRow]:
    """Return the links of the chain of trust, the name's own last."""
    if leg.chain is None:
        return []
    links = leg.chain.every
    return [
        TrustRow(
            name=to_text(link.zone),
            trust=link.trust,
            why=link.why,
            failing=[f"{one.server.label}: {one.why}" for one in link.failing],
        )
        for link in links
    ]


def _step(level: Level, rdtype: int) -> Step:
    remarks = [f"{to_text(target)}: no address ({why})" for target, why in level.homeless.items()]
    remarks += [f"{to_text(target)}: its address was not found ({why})" for target, why in level.unfound.items()]
    remarks += [f"{to_text(target)}: no glue" for target in level.unglued]
    remarks += [f"{to_text(target)}: stale glue" for target in level.wrong_glue]
    unused = many(level.not_asked, "address", "addresses")
    remarks += [f"{unused} not asked: no IPv6 here, or kept to one family"] if level.not_asked else []
    remarks += [f"{level.left_out} more servers or name servers were left out"] if level.left_out else []
    remarks += ["the questions for one name were used up here"] if level.stopped else []
    return Step(
        zone=to_text(level.zone),
        servers=[
            StepServer(
                server=visit.name.rstrip("."),
                endpoint=visit.server.endpoint,
                address=address_text(visit.address),
                kind=_kind(visit, level),
                says=words_of(visit, rdtype)
                if visit.usable
                else f"lame: {how}"
                if (how := lameness(visit.answer, level.zone))
                else (visit.answer.trouble or visit.answer.status),
                rtt_ms=round(visit.answer.rtt_ms, 3) if visit.answer.rtt_ms is not None else None,
            )
            for visit in level.asked
        ],
        remarks=remarks,
    )


def _kind(asked: Visit, level: Level) -> str:
    if asked.delegation is not None:
        return "refers"
    if asked.usable:
        return "answers"
    return "lame" if lameness(asked.answer, level.zone) is not None else "silent"


def words_of(asked: Visit, rdtype: int) -> str:
    answer, delegation = asked.answer, asked.delegation
    if delegation is not None:
        names = [to_text(target) for target in delegation.targets]
        shown = ", ".join(names) if len(names) <= 4 else f"{', '.join(names[:3])} and {len(names) - 3} more"
        return f"refers to {to_text(delegation.cut)} at {shown} (TTL {delegation.ttl})"
    if answer.values:
        return f"{', '.join(rdata_text(rdtype, value) for value in answer.values)} (TTL {answer.ttl})"
    if answer.alias is not None:
        return f"alias of {to_text(answer.alias)} (TTL {answer.ttl})"
    return "NXDOMAIN" if answer.status == "NXDOMAIN" else "NODATA"


def texts_of(asked: list[Visit], rdtype: int) -> list[str]:
    return [rdata_text(rdtype, value) for value in sorted({value for one in asked for value in one.answer.values})]


def names_of(asked: list[Visit]) -> str:
    names = list(dict.fromkeys(one.name.rstrip(".") for one in asked))
    return ", ".join(names) if len(names) <= 3 else f"{', '.join(names[:2])} and {len(names) - 2} more"


def _cached(leg: Leg) -> list[str]:
    """Return what a resolver would keep that went this way: the delegations, and the answer or the "no" at its end."""
    found = []
    for level in leg.levels:
        for visit in level.asked:
            if visit.delegation is not None:
                found.append(f"{to_text(visit.delegation.cut)} {type_text(NS)} for {visit.delegation.ttl} s")
                break
    for visit in leg.ends[:1]:
        if visit.answer.ttl is not None:
            what = type_text(leg.rdtype) if visit.answer.values else "CNAME"
            found.append(f"{to_text(leg.name)} {what} for {visit.answer.ttl} s")
            continue
        for record in visit.answer.sections.authority:
            if record.rdtype == SOA:
                seconds = negative_ttl(soa_fields(record.rdata), record.ttl)
                what = "NXDOMAIN" if visit.answer.status == "NXDOMAIN" else f"NODATA for {type_text(leg.rdtype)}"
                found.append(f'{to_text(leg.name)} "{what}" for {seconds} s')
    return found
