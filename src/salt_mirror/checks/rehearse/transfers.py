"""Whether a new version of a zone reaches its secondaries: its serial, its name servers, its signatures.

Strategy: a serial is compared on the circle (RFC 1982) with that of each server which has to follow. What a server that does
not follow leads to, the checks find by themselves; here stands the reason.
"""

from __future__ import annotations

from collections.abc import Iterator

from msgspec.structs import replace

from salt_mirror.checks.common.wording import labels_of, state, together_said
from salt_mirror.checks.rehearse.files import line_of
from salt_mirror.checks.rehearse.loading import Loading, Uptake
from salt_mirror.dns.holding import Holding
from salt_mirror.dns.names import to_text
from salt_mirror.dns.records import DNSKEY, NS, SOA, soa_fields
from salt_mirror.dns.serials import ahead
from salt_mirror.findings import Finding


def transfer_findings(loading: Loading, before: Holding | None, *, changed: bool) -> Iterator[Finding]:
    """Return what keeps a file from reaching every server of its zone; `changed` says whether anything but the SOA differs."""
    if loading.served.soa and loading.serials:
        yield from _serial(loading, before, changed=changed)
        yield from _signatures(loading)
    if before is not None:
        yield from _left_out(loading, before)


def _serial(loading: Loading, before: Holding | None, *, changed: bool) -> Iterator[Finding]:
    proposed = loading.proposed
    apex, record = proposed.zone.apex, proposed.soa
    serial = soa_fields(loading.served.soa).serial
    if loading.signs or record is None:
        return
    same_soa = before is not None and before.rdata(apex, SOA) == (loading.served.soa,)
    if same_soa and not changed:
        return
    behind = {server: held for server, held in loading.serials.items() if not (ahead(serial, held) or 0) > 0}
    if not behind:
        return
    keepers = [server for server in behind if loading.fates[server] in (Uptake.KEEPS, Uptake.UNDECIDED)]
    held = next(iter(behind.values()))
    distance = ahead(serial, held)
    how = (
        f"does not rise: {labels_of(behind)} already {'has' if len(behind) == 1 else 'have'} {held}"
        if distance == 0
        else f"falls from {held} to {serial} ({labels_of(behind)})"
        if distance is not None
        else f"has no order with {held} ({labels_of(behind)}; RFC 1982 section 3.2)"
    )
    harm = (
        f"whether {labels_of(keepers)} would transfer the zone is not known"
        if keepers and distance is None
        else f"{labels_of(keepers)} would not transfer the zone, and keep{'s' if len(keepers) == 1 else ''} the old one"
        if keepers
        else "no secondary would notice the change"
    )
    text = f"The serial of {to_text(apex)} {how}; {harm} (RFC 1982, RFC 1034 section 4.3.5)."
    advice = f"write a serial above {max(behind.values(), key=lambda one: ahead(one, held) or 0)} into {record.where}"
    code = "reh.serial" if keepers else "reh.serial-kept"
    yield replace(
        state(code, text, name=apex, rdtype=SOA, view=proposed.zone.view, advice=advice), lines=[line_of(record)]
    )


def _signatures(loading: Loading) -> Iterator[Finding]:
    """A zone that is signed now, and whose file has no keys: its server signs by itself, or the zone breaks."""
    if not loading.signs:
        return
    apex = loading.proposed.zone.apex
    text = (
        f"{to_text(apex)} is signed (DNSSEC) and {loading.proposed.path} has no keys: unless its server signs what it loads, "
        "validating resolvers answer SERVFAIL. Signatures were judged as they are now."
    )
    yield state("reh.unsigned", text, name=apex, rdtype=DNSKEY, view=loading.proposed.zone.view)


def _left_out(loading: Loading, before: Holding) -> Iterator[Finding]:
    """Name servers that the file does not list any more: they are notified no more (RFC 1996 section 2)."""
    apex = loading.proposed.zone.apex
    gone = set(before.rdata(apex, NS)) - set(loading.served.holding.rdata(apex, NS))
    if not gone or loading.primary.replicas is not None:
        return
    names = together_said(map(to_text, sorted(gone)))
    text = (
        f"The NS set of {to_text(apex)} no longer has {names}: changes are not notified there (RFC 1996), so that it learns "
        "of them by refresh only, if it stays a secondary."
    )
    finding = state("reh.not-notified", text, name=apex, rdtype=NS, view=loading.proposed.zone.view)
    lines = [line_of(one) for one in loading.proposed.at.get(apex, ()) if one.rdtype == NS]
    yield replace(finding, lines=lines[:3])
