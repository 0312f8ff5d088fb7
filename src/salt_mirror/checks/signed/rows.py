"""The rows of a zone's signatures, from what was judged."""

from __future__ import annotations

from datetime import UTC, datetime

from salt_mirror.checks.common.wording import duration, many, moment_from, rounded, together_said
from salt_mirror.checks.signed.judging import CopyJudged, SignedJudged
from salt_mirror.checks.signed.sheet import KeyRow, SignatureRow, SignedSheet
from salt_mirror.dns.dnssec.algorithms import algorithm
from salt_mirror.dns.dnssec.keys import DnsKey
from salt_mirror.dns.dnssec.signatures import State, Verified
from salt_mirror.dns.names import to_text
from salt_mirror.dns.records import Soa, type_text


def signed_sheet(judged: SignedJudged) -> SignedSheet | None:
    """Return a zone's signatures laid out; None for a zone that nobody says is signed."""
    seen = judged.seen
    if not seen.is_signed:
        return None
    windows = [_row(copy, name, verified, judged.now) for copy in judged.copies for name, verified in _named(copy)]
    valid = [row for row in windows if row.state == State.VALID.value]
    first = min(valid, key=lambda row: row.left_s, default=None)
    soa = next((copy.soa for copy in judged.copies if copy.soa is not None), None)
    return SignedSheet(
        says=_says(judged),
        ds=[one.said for one in judged.ds],
        ds_seen=bool(judged.ds) or seen.parentless or any(answer.trouble is None for answer in seen.ds),
        keys=_keys(judged),
        signatures=windows,
        denial=_denial(judged),
        verified=_verified(judged),
        first_end=_first_end(first, soa, judged.now) if first is not None else "",
        refresh_s=soa.refresh if soa is not None else 0,
        expire_s=soa.expire if soa is not None else 0,
        ttl_s=max((copy.longest_ttl for copy in judged.copies), default=0),
    )


def _first_end(first: SignatureRow, soa: Soa | None, now: float) -> str:
    """Return what ends first, and whether a secondary that has lost its primary would serve it beyond that (RFC 6781 section
    4.4.2)."""
    text = f"{first.set} on {first.server}, {moment_from(now, first.left_s)}, in {rounded(first.left_s)}"
    if soa is None or first.left_s >= soa.expire:
        return text
    return f"{text}; a secondary without its primary would serve it for up to {duration(soa.expire)} (expire)"


def _named(copy: CopyJudged) -> list[tuple[str, Verified]]:
    return [(f"{to_text(proof.owner)} {type_text(proof.rdtype)}", verified) for proof, verified in copy.windows]


def _row(copy: CopyJudged, name: str, verified: Verified, now: float) -> SignatureRow:
    signature, state = verified
    return SignatureRow(
        server=copy.copy.server.label,
        set=name,
        key=signature.tag,
        begins=_moment(now + signature.begins_in(now)),
        ends=_moment(now + signature.ends_in(now)),
        left_s=signature.ends_in(now),
        state=state.value,
    )


def _moment(seconds: float) -> str:
    return f"{datetime.fromtimestamp(int(seconds), UTC):%Y-%m-%dT%H:%M:%SZ}"


def _says(judged: SignedJudged) -> str:
    """Return in one sentence what validators make of the zone."""
    good = sum(copy.sound for copy in judged.listed)
    copies = sum(copy.listed for copy in judged.seen.copies)
    bad = [copy.copy.server.label for copy in judged.listed if not copy.sound]
    but = f" (not on {together_said(bad)})" if bad and good else ""
    on = f"it validates on {good} of {many(copies, 'server')}{but}"
    if judged.clock_doubted is not None:
        return "signed; the clock of this computer is in doubt"
    if not judged.copies:
        return "a DS record at the parent, and no keys in the zone"
    if judged.validated:
        return f"signed; {on}"
    if judged.ds and not judged.counted:
        return "signed; no validator can use its DS set"
    if not judged.seen.parentless and not any(answer.trouble is None for answer in judged.seen.ds):
        return f"signed; its DS set was not seen; by its own keys {on}"
    return f"signed, without a DS record that leads to it; by its own keys {on}"


def _keys(judged: SignedJudged) -> list[KeyRow]:
    holders: dict[DnsKey, list[CopyJudged]] = {}
    for copy in judged.copies:
        for key in copy.entrance.keys:
            holders.setdefault(key, []).append(copy)
    return [
        KeyRow(
            tag=key.tag,
            algorithm=algorithm(key.algorithm).name,
            role="revoked" if key.is_revoked else "entry" if key.is_entry else "zone",
            ds=[ds.said for ds in judged.ds if ds.fits(judged.seen.zone, key)],
            signs_keys=any(
                (one.signature.tag, one.signature.algorithm) == (key.tag, key.algorithm) and one.state is State.VALID
                for copy in copies
                for proof in copy.examined[0].proofs
                for one in proof.signatures
            ),
            servers=[copy.copy.server.label for copy in copies],
        )
        for key, copies in sorted(holders.items(), key=lambda one: (not one[0].is_entry, one[0].tag))
    ]


def _denial(judged: SignedJudged) -> str:
    kinds = {one.kind for copy in judged.copies for one in copy.examined if one.kind}
    hashing = next((found for copy in judged.copies if (found := copy.hashing) is not None), None)
    if hashing is None:
        return together_said(sorted(kinds))
    salt = hashing.salt.hex() or "no salt"
    opt_out = ", opt-out" if any(one.opt_out for copy in judged.copies for one in copy.examined) else ""
    return f"NSEC3, {many(hashing.iterations, 'iteration')}, {salt}{opt_out}"


def _verified(judged: SignedJudged) -> str:
    answers = max((len(copy.examined) for copy in judged.copies), default=0)
    seen = judged.seen
    whole = {copy.copy.server.label: copy.whole.sets for copy in judged.copies if copy.whole is not None}
    dates = (
        f"; of {together_said(whole)} the dates and keys of all {max(whole.values()):,} record sets" if whole else ""
    )
    if not answers:
        return ""
    if not seen.expected:
        return f"{many(answers, 'answer')} verified on each server; nothing is expected in the zone{dates}"
    part = "all" if seen.verified == seen.expected else f"{seen.verified:,} of"
    return f"{many(answers, 'answer')} verified on each server, {part} {seen.expected:,} expected record sets among them{dates}"
