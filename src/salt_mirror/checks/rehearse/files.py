"""What servers refuse in a zone file, or serve differently from what it says: each with file, line, and what would be right.

Strategy: pure, over the records of one file. The rules are those of the RFCs; which of them keep a server from loading the
zone was tried on BIND and NSD (`docs/jobs/zone-files-in-version-control.md` has the table): what any of them refuses is a
fault.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

import msgspec

from salt_mirror.checks.common.wording import many, state
from salt_mirror.checks.rehearse.proposed import ProposedZone
from salt_mirror.dns.names import Name, ancestors, is_within, to_text, wildcard_below
from salt_mirror.dns.records import AAAA, CNAME, DNAME, DS, MADE_BY_SIGNERS, NS, SOA, A, record_line, type_text
from salt_mirror.estate.expectations import Expectation
from salt_mirror.findings import FileLine, Finding

_BESIDE_AN_ALIAS = MADE_BY_SIGNERS | {CNAME, 25}
"""What may stand beside a CNAME: what signers make, and KEY (RFC 4034 section 2.5, RFC 2535 section 2.3.5)."""
_MOST_LINES = 3


def line_of(record: Expectation) -> FileLine:
    """Return where a record stands, with the record."""
    text = record_line(record.name, record.rdtype, record.rdata, record.ttl)
    return FileLine(file=str(record.source), line=record.line, says=f"+ {text}")


def refusals(proposed: ProposedZone) -> list[Finding]:
    """Return all that is wrong with a file before anybody compares it with anything."""
    return list(_Refusals(proposed).found())


class _Refusals:
    def __init__(self, proposed: ProposedZone) -> None:
        self._file = proposed
        self._apex = proposed.zone.apex
        self._inside = {name: records for name, records in proposed.at.items() if is_within(name, self._apex)}

    def found(self) -> Iterator[Finding]:
        """Return the findings, by kind."""
        for problem in self._file.problems:
            at = FileLine(file=problem.file, line=problem.line)
            yield self._state("reh.unreadable", f"{at.place}: {problem.says}.", self._apex, SOA, [at])
        yield from self._apex_sets()
        yield from self._outside()
        for name, records in self._inside.items():
            yield from self._aliases(name, records)
            yield from self._ttls(name, records)
        yield from self._cuts()
        yield from self._below_dname()

    def _state(
        self, code: str, text: str, name: Name, rdtype: int, lines: Iterable[FileLine], *, advice: str = ""
    ) -> Finding:
        finding = state(code, text, name=name, rdtype=rdtype, view=self._file.zone.view, advice=advice)
        return msgspec.structs.replace(finding, lines=list(lines)[:_MOST_LINES])

    def _whole_file(self) -> list[FileLine]:
        return [FileLine(file=str(self._file.path), line=0)]

    def _apex_sets(self) -> Iterator[Finding]:
        """The SOA has to be one, at the apex; there have to be name servers, with addresses where they lie inside."""
        apex, top = to_text(self._apex), self._inside.get(self._apex, [])
        soas = [one for one in top if one.rdtype == SOA]
        others = [
            one for name, records in self._inside.items() if name != self._apex for one in records if one.rdtype == SOA
        ]
        # The very same record twice is one record.
        if len({one.rdata for one in soas}) != 1:
            number = many(len(soas), "SOA record")
            text = f"{self._file.path} has {number} at {apex}: a zone has exactly one, and servers refuse it."
            yield self._state("reh.soa", text, self._apex, SOA, map(line_of, soas) if soas else self._whole_file())
        for one in others:
            text = (
                f"{one.where}: {to_text(one.name)} has an SOA record, and only the top of the zone ({apex}) may: servers "
                "refuse the zone."
            )
            yield self._state("reh.soa", text, one.name, SOA, [line_of(one)])
        servers = [one for one in top if one.rdtype == NS]
        if not servers:
            text = f"{self._file.path} has no NS record at {apex}: some servers refuse the zone, and nobody finds its servers."
            yield self._state("reh.no-name-servers", text, self._apex, NS, self._whole_file())
        for one in servers:
            yield from self._unaddressed(one, "some servers refuse the zone, and resolvers cannot reach this one")

    def _unaddressed(self, server: Expectation, harm: str) -> Iterator[Finding]:
        """An NS record whose host lies inside the zone and has no address there."""
        target = server.rdata
        if not is_within(target, self._apex) or self._has_address(target):
            return
        there = self._inside.get(target, [])
        alias = any(one.rdtype == CNAME for one in there)
        what = "is an alias (RFC 2181 section 10.3)" if alias else "has no A or AAAA record in the file"
        text = f"{server.where}: {to_text(server.name)} is served by {to_text(target)}, which {what}: {harm}."
        lines = [line_of(server), *(line_of(one) for one in there if one.rdtype == CNAME)]
        advice = f"give {to_text(target)} an A or AAAA record, or name another server"
        yield self._state("reh.no-glue", text, server.name, NS, lines, advice=advice)

    def _has_address(self, name: Name) -> bool:
        """Return whether a name has an address in the file, or is given one by a wildcard or by another zone's servers."""
        if any(one.rdtype in (A, AAAA) for one in self._inside.get(name, ())):
            return True
        if name in self._inside:
            return False
        for above in ancestors(name)[1:]:
            if len(above) < len(self._apex):
                return False
            star = wildcard_below(above)
            if star is not None and any(one.rdtype in (A, AAAA) for one in self._inside.get(star, ())):
                return True
        return False

    def _outside(self) -> Iterator[Finding]:
        for name, records in self._file.at.items():
            if name in self._inside:
                continue
            text = (
                f"{records[0].where}: {to_text(name)} lies outside of {to_text(self._apex)}: some servers refuse the zone, "
                "others leave the record out."
            )
            advice = "put it into the zone that it belongs to, or correct $ORIGIN or the trailing dot"
            yield self._state("reh.outside-zone", text, name, records[0].rdtype, map(line_of, records), advice=advice)

    def _aliases(self, name: Name, records: Sequence[Expectation]) -> Iterator[Finding]:
        aliases = [one for one in records if one.rdtype == CNAME]
        if not aliases:
            return
        others = [one for one in records if one.rdtype not in _BESIDE_AN_ALIAS]
        if others:
            kinds = ", ".join(dict.fromkeys(type_text(one.rdtype) for one in others))
            text = (
                f"{to_text(name)} is an alias ({aliases[0].where}) and has {kinds} as well ({others[0].where}): servers "
                "refuse the zone (RFC 1034 section 3.6.2)."
            )
            lines = [line_of(aliases[0]), *map(line_of, others)]
            advice = f"keep the CNAME record or the others of {to_text(name)}, not both"
            yield self._state("reh.alias-and-other", text, name, CNAME, lines, advice=advice)
        if len({one.rdata for one in aliases}) > 1:
            text = (
                f"{to_text(name)} has {len(aliases)} CNAME records ({aliases[0].where}): servers refuse the zone (RFC 2181 "
                "section 10.1)."
            )
            advice = f"keep one CNAME record of {to_text(name)}"
            yield self._state("reh.several-aliases", text, name, CNAME, map(line_of, aliases), advice=advice)

    def _ttls(self, name: Name, records: Sequence[Expectation]) -> Iterator[Finding]:
        if len(records) < 2:
            return
        by_type: dict[int, list[Expectation]] = {}
        for one in records:
            if one.rdtype not in MADE_BY_SIGNERS:
                by_type.setdefault(one.rdtype, []).append(one)
        for rdtype, members in by_type.items():
            if len({one.ttl for one in members}) > 1:
                ttls = ", ".join(f"{one.ttl} s (line {one.line})" for one in members[:_MOST_LINES])
                text = (
                    f"The {type_text(rdtype)} records of {to_text(name)} have different TTLs: {ttls}. A set has one TTL (RFC "
                    "2181 section 5.2), and servers take one of these."
                )
                advice = f"write the same TTL for each of the {len(members)} records"
                yield self._state("reh.ttls-differ", text, name, rdtype, map(line_of, members), advice=advice)

    def _cuts(self) -> Iterator[Finding]:
        """Delegations: their servers need addresses, and what else lies below is hidden."""
        cuts = {
            name: [one for one in records if one.rdtype == NS]
            for name, records in self._inside.items()
            if name != self._apex and any(one.rdtype == NS for one in records)
        }
        needed = {one.rdata for servers in cuts.values() for one in servers}
        for name, servers in cuts.items():
            inside = [one for one in servers if is_within(one.rdata, name)]
            # RFC 1034 section 4.2.1: without glue nobody gets to a server that lies below the very cut.
            for one in inside if len(inside) == len(servers) else ():
                yield from self._unaddressed(one, f"resolvers cannot follow the delegation of {to_text(name)}")
        if not cuts:
            return
        for name, records in self._inside.items():
            cut = next((above for above in ancestors(name) if above in cuts), None)
            if cut is None:
                continue
            hidden = [
                one
                for one in records
                if not (name == cut and one.rdtype in (NS, DS, *MADE_BY_SIGNERS))
                and not (one.rdtype in (A, AAAA) and name in needed)
            ]
            if hidden:
                text = (
                    f"{hidden[0].where}: {to_text(name)} {type_text(hidden[0].rdtype)} lies below the delegation of "
                    f"{to_text(cut)}: no server answers with it."
                )
                advice = f"put it into {to_text(cut)}, or remove the delegation"
                yield self._state("reh.hidden", text, name, hidden[0].rdtype, map(line_of, hidden), advice=advice)

    def _below_dname(self) -> Iterator[Finding]:
        """A DNAME record hides what is below it (RFC 6672 section 2.4)."""
        tops = {name: one for name, records in self._inside.items() for one in records if one.rdtype == DNAME}
        for name, records in self._inside.items() if tops else ():
            above = next((one for one in ancestors(name)[1:] if one in tops), None)
            if above is not None:
                text = (
                    f"{records[0].where}: {to_text(name)} lies below the DNAME record of {to_text(above)}: some servers "
                    "refuse the zone, and no server answers with it (RFC 6672 section 2.4)."
                )
                lines = [line_of(records[0]), line_of(tops[above])]
                yield self._state("reh.below-dname", text, name, records[0].rdtype, lines)
