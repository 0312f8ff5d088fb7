"""What is wrong with a zone's authority: the judgement over all that was seen, in findings.

Strategy: one small function a question that an administrator would ask, each over the same `Seen`. A server that gave no
answer is unverified and accuses nobody; one that answered without authority is the fault itself.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from salt_mirror.checks.authority.seen import Place, Seen
from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.delegation import NO_ANSWER
from salt_mirror.checks.common.nearest import nearest
from salt_mirror.checks.common.soa import judge
from salt_mirror.checks.common.wording import duration, no_word_of, state, together_said
from salt_mirror.dns.names import Name, to_text
from salt_mirror.dns.questions import Answer, Server
from salt_mirror.dns.records import NS, SOA, rdata_text, record_line, soa_fields, type_text
from salt_mirror.dns.serials import ahead
from salt_mirror.dns.wire import offers_recursion
from salt_mirror.findings import Change, Choice, Finding, Outcome


class VersionWords:
    """What is wrong with the servers themselves and with the versions that they hold."""

    def __init__(self, seen: Seen, atlas: Atlas) -> None:
        self.seen = seen
        self.atlas = atlas
        self.zone = to_text(seen.zone)

    def finding(
        self,
        code: str,
        text: str,
        answers: Iterable[Answer | None] = (),
        *,
        rdtype: int = NS,
        expected: Iterable[str] = (),
        changes: Sequence[Change] = (),
        choices: Sequence[Choice] = (),
        advice: str = "",
        outcome: Outcome | None = None,
        cause: str = "",
        server: Server | Name | None = None,
    ) -> Finding:
        return state(
            code,
            text,
            name=self.seen.zone,
            rdtype=rdtype,
            view=self.seen.view,
            answers=answers,
            expected=expected,
            changes=changes,
            choices=choices,
            advice=advice,
            outcome=outcome,
            cause=cause,
            server=server,
        )

    # What is no zone at all

    def no_zone(self) -> Finding:
        seen = self.seen
        answers = [answer for telling in seen.found.tellings for answer in telling.answers]
        if seen.exists:
            belongs = to_text(seen.belongs) if seen.belongs is not None else "the zone above"
            text = f"{self.zone} is no zone of its own: it is a name in the zone {belongs}"
            return self.finding("auth.not-apex", text, answers, rdtype=SOA)
        near = nearest(seen.zone, [zone.apex for zone in self.atlas.estate.all_zones()])
        hint = f" Did you mean {to_text(near[0])}" if near else ""
        return self.finding(
            "auth.no-zone", f"{self.zone} does not exist.{hint + '?' if hint else ''}", answers, rdtype=SOA
        )

    def nobody(self) -> Finding:
        why = self.seen.found.trouble or "no server is known for it"
        return self.finding(
            "auth.unverified",
            f"{self.zone}: {why}.",
            rdtype=SOA,
            outcome="unverified",
            cause=f"no server to ask: {why}",
        )

    # Each server by itself

    def servers(self) -> Iterator[Finding]:
        for place in self.seen.places:
            lame = place.lame(self.seen.zone)
            where = f"{place.server.label} ({place.server.endpoint}{self._as_names(place)})"
            if lame is not None:
                listed = (
                    f"is listed by the {together_said(place.listed)} and"
                    if place.listed
                    else "was found for the zone, and"
                )
                text = f"{where} {listed} is lame: it {lame}."
                yield self.finding("auth.lame", text, [place.spoken], rdtype=SOA, server=place.server)
            elif place.version is None:
                why = place.soa.trouble if place.soa is not None else "not asked"
                cause = no_word_of(place.server, why)
                yield self.finding(
                    "auth.unverified",
                    f"{where} could not be judged: {why}.",
                    [place.soa, place.tcp],
                    rdtype=SOA,
                    outcome="unverified",
                    cause=cause,
                    server=place.server,
                )
            else:
                yield from self._manners(place, where)

    def _as_names(self, place: Place) -> str:
        names = [to_text(name) for name in place.names if to_text(name).rstrip(".") != place.server.label]
        return ", as " + " and ".join(names) if names else ""

    def _manners(self, place: Place, where: str) -> Iterator[Finding]:
        """Return what a server that serves the zone should do besides, or had better not."""
        soa, tcp, transfer = place.soa, place.tcp, place.transfer
        if tcp is not None and tcp.trouble is not None and not tcp.message and not tcp.unasked:
            text = f"{where} answers over UDP and not over TCP: long answers are lost, and transfers fail (RFC 7766)."
            yield self.finding("auth.no-tcp", text, [tcp], rdtype=SOA, server=place.server)
        if soa is not None and soa.status in NO_ANSWER:
            text = f"{where} answers over TCP and not over UDP: a firewall lets the one through and not the other."
            yield self.finding("auth.no-udp", text, [soa, tcp], rdtype=SOA, server=place.server)
        if soa is not None and offers_recursion(soa.message):
            text = f"{where} offers recursion to this computer: cached data mixes with authoritative data."
            yield self.finding("auth.open-recursion", text, [soa], rdtype=SOA, server=place.server)
        # Without the key another view of the server may have come: it is this one only with the SOA of this one.
        own = place.spoken.values[0] if place.server.key is not None and place.spoken and place.spoken.values else None
        if transfer is not None and handed_over(transfer, own):
            text = f"{where} hands the whole zone to anyone who asks from here, without a key."
            yield self.finding("auth.open-transfer", text, rdtype=SOA, server=place.server)
        if place.update is not None and place.update.status == "NOERROR":
            text = f"{where} takes changes of the zone from anyone who sends them from here, without a key."
            yield self.finding("auth.open-update", text, rdtype=SOA, server=place.server)

    # Versions

    def serials(self) -> Iterator[Finding]:
        seen = self.seen
        if not seen.elsewhere:
            sent = set(seen.parentage.targets)
            yield from (self._old_copy(place) for place in seen.old_copies if sent & set(place.names))
        if seen.several_primaries:
            text = (
                f"{self.zone} is replicated {self._through} by {places_said(seen.primaries)}: each counts serials by "
                "itself, so their records were compared, and not their serials."
            )
            yield self.finding("auth.several-primaries", text, rdtype=SOA)
            followers = self._followers
            for primary in seen.primaries:
                if primary.version is not None:
                    mine = [one for one in followers if one.version and one.version.mname == primary.version.mname]
                    yield from self._followed(mine, primary, primary.version.serial)
            return
        primary_place, serial = seen.reference
        if serial is not None:
            yield from self._followed(self._followers, primary_place, serial)
        elif leading := seen.leading:
            yield self._unordered(leading)
        if seen.unsigned:
            first, unsigned_serial = seen.reference_of(seen.unsigned)
            if unsigned_serial is not None:
                yield from self._followed(seen.unsigned, first, unsigned_serial)
            yield from self._signer()

    def _signer(self) -> Iterator[Finding]:
        """Return whether what a signer serves is what it is to sign: serials tell nothing of that, since it raises them by
        itself."""
        across = self.seen.across
        if not across.unlike:
            return
        first, signed = across.servers
        shown = [f"{to_text(name)} {type_text(rdtype)}" for name, rdtype in list(across.unlike)[:3]]
        more = len(across.unlike) - len(shown)
        text = (
            f"{signed.server.label} serves a signed copy of {self.zone} that differs from the unsigned one on "
            f"{first.server.label}: {', '.join(shown)}{f' and {more:,} more' if more else ''}. The signer has not followed its "
            "primary."
        )
        evidence = [answer for told in list(across.unlike.values())[:3] for answer in told]
        advice = f"look at the transfers from {first.server.label} to the signer"
        yield self.finding("auth.signer-behind", text, evidence, rdtype=SOA, server=signed.server, advice=advice)

    def _unordered(self, places: list[Place]) -> Finding:
        said = ", ".join(f"{p.server.label} {p.version.serial}" for p in places if p.version is not None)
        text = f"The serials of {self.zone} have no order (RFC 1982 section 3.2): {said}. No secondary can tell which is newer."
        return self.finding("auth.serials-unordered", text, [p.spoken for p in places], rdtype=SOA)

    @property
    def _followers(self) -> list[Place]:
        """The servers that have to follow the one whose version counts."""
        seen = self.seen
        others = {place.server for place in (*seen.primaries, *seen.old_copies)}
        return [place for place in seen.leading if place.server not in others]

    def _old_copy(self, place: Place) -> Finding:
        seen, label = self.seen, place.server.label
        serial = place.version.serial if place.version is not None else 0
        names = together_said(map(to_text, place.names))
        text = (
            f"An old copy of {self.zone} (serial {serial}) is still served by {label} ({names}), which the zone does not list, "
            "and the parent still refers resolvers to it."
        )
        evidence = [place.spoken, place.ns, *(one.ns for one in seen.measure[:1])]
        return self.finding("auth.outdated-copy", text, evidence, rdtype=SOA, server=place.server)

    def _followed(self, followers: list[Place], primary: Place | None, serial: int) -> Iterator[Finding]:
        """Return how secondaries stand to the version that counts."""
        serving = self.seen.serving
        for place in followers:
            version = place.version
            distance = ahead(serial, version.serial) if version is not None else 0
            if version is None or distance == 0:
                continue
            holder = primary.server.label if primary is not None else "the newest"
            newer = [p.spoken for p in serving if p.version is not None and p.version.serial == serial][:1]
            evidence = [place.spoken, *newer]
            label = place.server.label
            if distance is None:
                yield self._unordered([*(one for one in serving if one is primary), place])
                continue
            if distance < 0:
                text = (
                    f"{label} has serial {version.serial}, which is {-distance:,} ahead of the primary's {serial} ({holder}): "
                    "the primary's went back, and the secondary takes no change until it is ahead again."
                )
                advice = (
                    f"on the primary, set a serial after {version.serial}, such as {(version.serial + 1) % (1 << 32)}"
                )
                yield self.finding("auth.serial-ahead", text, evidence, rdtype=SOA, advice=advice, server=place.server)
                continue
            if place.own_primary and self.seen.primary is None:
                leader = next(iter(p.server.label for p in serving if p.version and p.version.serial == serial), holder)
                text = (
                    f"{label}, which the SOA of {self.zone} names as its primary, has serial {version.serial}, and {leader} "
                    f"has {serial}, {distance:,} ahead. Either {label} follows another primary, and will have it within "
                    f"{duration(version.refresh)} (refresh); or its own serial went back, and no secondary follows it."
                )
                advice = (
                    f'say which server is the primary: primary = "{leader}" (or "{label}") in the zone of the estate'
                )
                yield self.finding(
                    "auth.primary-unclear", text, evidence, rdtype=SOA, advice=advice, server=place.server
                )
                continue
            versions = "version" if distance == 1 else "versions"
            text = (
                f"{label} has serial {version.serial}, {distance:,} {versions} behind {holder} ({serial}). It "
                f"should follow within "
                f"{duration(version.refresh)} (refresh); if it does not, its transfers from the primary fail."
            )
            yield self.finding("auth.serial-behind", text, evidence, rdtype=SOA, server=place.server)

    def edited_apart(self) -> Iterator[Finding]:
        seen = self.seen
        primaries = seen.primaries
        by_version: dict[tuple[int, bool], list[Place]] = {}
        for place in seen.serving:
            if place.version is not None and place not in primaries:
                by_version.setdefault((place.version.serial, place.signed), []).append(place)
        for (serial, _), places in by_version.items():
            fields = [
                name
                for name in ("mname", "rname", "refresh", "retry", "expire", "minimum")
                if len({getattr(place.version, name) for place in places}) > 1
            ]
            if fields:
                text = (
                    f"{places_said(places)} have the same serial {serial} and different SOA records ({', '.join(fields)}): "
                    "the servers were edited apart, and no transfer will ever bring them together."
                )
                yield self.finding("auth.same-serial", text, [place.spoken for place in places], rdtype=SOA)
        if seen.compared.unlike:
            shown = [f"{to_text(name)} {type_text(rdtype)}" for name, rdtype in list(seen.compared.unlike)[:3]]
            more = len(seen.compared.unlike) - len(shown)
            evidence = [answer for told in list(seen.compared.unlike.values())[:3] for answer in told]
            what = f"{', '.join(shown)}{f' and {more:,} more' if more else ''}"
            servers = places_said(seen.compared.servers)
            if seen.several_primaries:
                text = f"{servers} replicate {self.zone} {self._through}, and have different records: {what}{self._lacking()}."
                servers_apart = [place.server for place in seen.compared.servers]
                advice = seen.replicas.advice(servers_apart) if seen.replicas is not None else ""
                yield self.finding("auth.not-replicated", text, evidence, rdtype=SOA, advice=advice)
                return
            text = f"{servers} have the same serial and different records: {what}."
            yield self.finding("auth.same-serial", text, evidence, rdtype=SOA)

    @property
    def _through(self) -> str:
        return self.seen.replicas.through if self.seen.replicas is not None else "through a directory"

    def _lacking(self) -> str:
        """Return which of the servers that replicate has what of the first set in which they differ."""
        (name, rdtype), answers = next(iter(self.seen.compared.unlike.items()))
        text = "; ".join(
            f"{answer.question.server.label}: {', '.join(rdata_text(rdtype, value) for value in answer.values) or 'none'}"
            for answer in answers
            if answer.trouble is None
        )
        what = "" if len(self.seen.compared.unlike) == 1 else f" ({to_text(name)} {type_text(rdtype)})"
        return f"{what}: {text}" if text else ""

    def soa(self) -> Iterator[Finding]:
        place = next(iter(self.seen.measure or self.seen.serving), None)
        answer = place.spoken if place is not None else None
        if answer is None or not answer.values:
            return
        soa = soa_fields(answer.values[0])
        judged = list(judge(soa, secondaries=self.seen.has_secondaries))
        right = {one.field: one.right for one in judged}
        numbers = [right.get(name, getattr(soa, name)) for name in soa._fields[2:]]
        rdata = answer.values[0][:-20] + b"".join(number.to_bytes(4, "big") for number in numbers)
        # One record mends all of them: each finding has the same one.
        advice = f"in the zone: {record_line(self.seen.zone, SOA, rdata, answer.ttl)} with the serial raised"
        for judgement in judged:
            text = f"{judgement.text[0].upper()}{judgement.text[1:]}."
            yield self.finding(judgement.code, text, [answer], rdtype=SOA, advice=advice)


def handed_over(answer: Answer, soa: bytes | None = None) -> bool:
    """Return whether an answer to a question for a transfer begins with the zone; with its very `soa` (rdata), where that is
    given."""
    if answer.status != "NOERROR" or not answer.message:
        return False
    first = next(iter(answer.sections.answer), None)
    begins = first is not None and (first.rdtype, first.owner) == (SOA, answer.question.name)
    return begins and (soa is None or (first is not None and first.rdata == soa))


def places_said(places: Iterable[Place]) -> str:
    return together_said(place.server.label for place in places)
