"""What a draft does not know, and how it can be given: the last lines of a draft, each a fact and a way.

Strategy: said once for all zones that share it. Nothing is guessed: what was not asked, or not answered, stands here.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import NamedTuple

from salt_mirror.checks.common.wording import many
from salt_mirror.checks.draft.learnt import Learnt, said
from salt_mirror.dns.names import Name, from_text, to_text
from salt_mirror.dns.questions import Server
from salt_mirror.dns.reverse import is_reverse
from salt_mirror.estate.model import Estate

_FEW = 6


class Lacking(NamedTuple):
    """Something that was not learnt, and how to give it."""

    what: str
    give: str


def lacking(
    learnt: Learnt, labels: Mapping[Server, str], known: Estate, *, transfer: bool, keys: bool, resolvers: bool
) -> Iterator[Lacking]:
    """Return what was not learnt, and the `known` estate does not say. `transfer`: transfers were wished for; `keys`: some were
    given; `resolvers`: some are known."""
    for name, why in learnt.lost.items():
        yield Lacking(f"{to_text(name)}: {why}.", "Name a server that holds it as a further argument.")
    for what, why in learnt.left_out.items():
        yield Lacking(
            f"{what} is left out of the estate: {why}.",
            "Such names stay unexpected; rename it, or check it by hand.",
        )
    if not learnt.zones:
        return
    yield from _unheld(learnt, labels, transfer=transfer, keys=keys)
    for server, one in learnt.servers.items():
        sent = list(learnt.sending_to(server))
        if sent and one.listed:
            hows = ", ".join(dict.fromkeys(how for _, how in sent))
            what = f"{labels[server]} is named as a server of {said(zone.apex for zone, _ in sent)}, and does not answer for "
            give = f'When it does, draft again with --add, or write "{labels[server]}" into servers = of the zone.'
            yield Lacking(f"{what}{'it' if len(sent) == 1 else 'them'} with authority: {hows}.", give)
    for apex, targets in learnt.elsewhere.items():
        if any(apex in zones for view, zones in known.zones.items() if view != learnt.view):
            continue
        what = f"{to_text(apex)} is delegated to {said(targets)}, of whom these servers know nothing: another view's."
        yield Lacking(what, f"draft {to_text(apex)} --view public --add, or whatever that view is called.")
    networks = sorted(learnt.beyond, key=str)
    if networks:
        shown = ", ".join(
            f"{network} ({many(learnt.beyond[network], 'address', 'addresses')})" for network in networks[:_FEW]
        )
        more = f" and {len(networks) - _FEW:,} more networks" if len(networks) > _FEW else ""
        what = f"Addresses were seen in {shown}{more}, whose reverse zones none of these servers has."
        yield Lacking(what, f"draft {networks[0]} SERVER --add, with the server that does.")
    declared = {from_text(one.domain) for one in known.directories}
    declared |= {from_text(learnt.directory.domain)} if learnt.directory is not None else set()
    others = [domain for domain in learnt.directories if domain not in declared]
    if others:
        what = f"{said(others)} is a directory: its sites, roles and GUIDs are only known from DNS."
        yield Lacking(what, "--directory ldaps://CONTROLLER reads them as an ordinary user.")
    if not learnt.view:
        yield Lacking(
            "Which users these zones are for.",
            "--view internal or --view public; mail is checked, and private addresses are faults, only in public views.",
        )
    if not resolvers:
        yield Lacking("This computer names no resolver.", "[resolvers.NAME] with an address, for each office's.")


def _unheld(learnt: Learnt, labels: Mapping[Server, str], *, transfer: bool, keys: bool) -> Iterator[Lacking]:
    unheld: list[Name] = [zone.apex for zone in learnt.unheld if not zone.partition]
    if not unheld:
        return
    forward = [apex for apex in unheld if not is_reverse(apex)]
    known = (
        "only what was asked for by name is known of them"
        if forward
        else "they were swept as far as their networks are small"
    )
    if not transfer:
        what = f"{many(len(unheld), 'zone was', 'zones were')} not taken whole, and {known}: hosts and zones may be missing."
        yield Lacking(what, "--transfer takes them where their servers allow it.")
        return
    reasons: dict[str, list[Name]] = {}
    for zone in (one for one in learnt.unheld if not one.partition):
        why = "; ".join(f"{labels[server]}: {how}" for server, how in zone.refusals.items())
        reasons.setdefault(why, []).append(zone.apex)
    for why, apexes in reasons.items():
        what = f"{said(apexes)}: handed over by none of its servers ({why}); {known}."
        give = "Have the transfer allowed to this computer" + ("." if keys else ", or give --key NAME:FILE.")
        yield Lacking(what, give)
