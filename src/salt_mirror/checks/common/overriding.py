"""Answers that a resolver rewrites, by a policy or local data in the place of the zone's records, distinguished from an
outdated entry; and what it only fails to validate.

Strategy: an old entry is what the zone once had, so that it goes by itself; a blocked or overridden name stays so until
somebody changes the resolver. Only what shows in the responses counts: authority for a zone that is not held there, a policy
zone beside the answer, an extended error that says so, or a TTL that stays while another entry's counts down.
"""

from __future__ import annotations

from collections.abc import Iterable

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.dns.dialogue import Dialogue
from salt_mirror.dns.extended import OVERRIDDEN
from salt_mirror.dns.names import Name, is_within, to_text
from salt_mirror.dns.questions import Answer, Question
from salt_mirror.dns.records import SOA


def made_by_itself(answers: Iterable[Answer], *, holds_zone: bool) -> str | None:
    """Return in words what shows that answers are a resolver's own making; None where nothing does. `holds_zone`: it is
    authoritative for the whole zone, so that authority shows nothing."""
    for answer in answers:
        if not answer.message:
            continue
        stated = next((error for error in answer.extended if error.code in OVERRIDDEN), None)
        if stated is not None:
            return f"its answer has the extended error {stated.said}"
        policy = _policy_zone(answer)
        if policy is not None:
            return f"its answer names the policy zone {to_text(policy)}"
        if answer.authoritative and not holds_zone:
            return "its answer is authoritative, and it does not hold the zone"
    return None


def validation_error(answer: Answer) -> str:
    """Return why a resolver says that something does not validate, as far as it says why (RFC 8914)."""
    return ", ".join(error.said for error in answer.extended) or "it gives no reason"


def asked_unchecked(failed: Iterable[Question], atlas: Atlas) -> Dialogue[dict[Question, Answer]]:
    """Ask what resolvers failed to answer once more with checking disabled (RFC 4035 section 3.2.2): where that brings an
    answer, the name does not validate, and the resolver is not at fault. Return the answers by the question that failed."""
    questions = list(failed)
    if not questions:
        return {}
    answers = yield [one._replace(server=atlas.sibling(one.server, "unchecked")) for one in questions]
    return dict(zip(questions, answers, strict=True))


def _policy_zone(answer: Answer) -> Name | None:
    """Return the zone whose SOA stands in the additional section: BIND and others add it to what a response policy has
    changed."""
    for record in answer.sections.additional:
        if record.rdtype == SOA and not is_within(answer.question.name, record.owner):
            return record.owner
    return None


def has_denial(answer: Answer) -> bool:
    """Return whether a denial has the SOA of a zone around the name, as each has that came from the zone's servers (RFC 2308
    section 2)."""
    return any(
        record.rdtype == SOA and is_within(answer.question.name, record.owner) for record in answer.sections.authority
    )


def stays(before: Answer, after: Answer, control_before: Answer, control_after: Answer) -> bool:
    """Return whether an answer is the same with the same TTL, while the TTL of another one of the same resolver has counted
    down in the meantime."""
    ttls = (before.ttl, after.ttl, control_before.ttl, control_after.ttl)
    if any(ttl is None for ttl in ttls) or before.values != after.values:
        return False
    counted = control_before.values == control_after.values and (control_after.ttl or 0) < (control_before.ttl or 0)
    return counted and before.ttl == after.ttl
