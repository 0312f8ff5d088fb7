"""Signed zones whose records are changed by hand: what has to be done besides.

Strategy: a server that signs by itself signs what an update brings. Where changes are made in a master file nothing does, and
the old signatures no longer fit: that is said with the plan, for zones that have keys.
"""

from __future__ import annotations

from collections.abc import Iterable

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.dns.dialogue import Runner, put
from salt_mirror.dns.names import to_text
from salt_mirror.dns.questions import Question
from salt_mirror.dns.records import DNSKEY
from salt_mirror.estate.model import Zone


def signed_elsewhere(zones: Iterable[Zone], atlas: Atlas, runner: Runner) -> list[str]:
    """Return a remark for each zone that is signed."""
    remarks = []
    for zone in zones:
        batch = [Question(zone.apex, DNSKEY, atlas.sibling(server, "signed")) for server in zone.servers or ()]
        answers = next(iter(runner.run([put(batch)])), []) if batch else []
        if any(answer.trouble is None and answer.values for answer in answers):
            remarks.append(
                f"{to_text(zone.apex)} is signed (DNSSEC): unless its server signs by itself, have it signed anew after it is "
                "changed, or validating resolvers answer SERVFAIL"
            )
    return remarks
