"""What is said of a domain's mail: the verdict, the order of the exchangers, and what is left without each of them."""

from __future__ import annotations

from collections.abc import Iterator

from salt_mirror.checks.common.test_tree import Test
from salt_mirror.checks.common.wording import many, together_said
from salt_mirror.checks.mail.asking import MailSeen
from salt_mirror.dns.names import to_text
from salt_mirror.dns.reverse import address_text


def verdict(seen: MailSeen) -> str:
    """Return what becomes of mail to the domain, in one sentence."""
    domain = to_text(seen.domain)
    if not seen.found.usable:
        return f"mail for {domain} could not be judged: {seen.found.trouble}"
    if seen.null and len(seen.found.values) == 1:
        return f"{domain} takes no mail, and says so (RFC 7505)"
    working = [one for one in seen.exchangers if one.host.usable and not one.host.literal]
    unknown = [to_text(one.host.name) for one in seen.exchangers if one.host.unknown]
    if seen.exchangers:
        doubt = f"; {together_said(unknown)} could not be looked up" if unknown else ""
        if working:
            return f"mail for {domain} is accepted by {len(working)} of {many(len(seen.exchangers), 'mail exchanger')}{doubt}"
        if unknown:
            return f"whether mail for {domain} arrives is not known: {together_said(unknown)} could not be looked up"
        return f"no mail exchanger of {domain} can be connected to: mail does not arrive"
    if seen.own is not None and seen.own.values:
        return f"{domain} has no MX: mail goes to its own address"
    if seen.own is None or (seen.found.exists and not seen.own.usable):
        return f"{domain} has no MX; whether it has an address of its own to take mail could not be looked up"
    return f"{domain} can receive no mail: it has neither MX nor address"


def order(seen: MailSeen) -> Test:
    """In which order a sender tries the exchangers."""
    pools = [
        together_said(
            to_text(exchanger.host.name)
            + ("" if exchanger.host.usable else " (not known)" if exchanger.host.unknown else " (no address)")
            for exchanger in pool
        )
        + (" (equal: by chance)" if len(pool) > 1 else "")
        for pool in seen.pools
    ]
    return Test(mark="ok", title="order", says=", then ".join(pools), why="the lowest preference is tried first")


def losses(seen: MailSeen) -> Iterator[Test]:
    """Return what is left when a pool of exchangers is lost."""
    pools = seen.pools
    for number, pool in enumerate(pools):
        if not any(one.host.usable for one in pool):
            continue  # it is lost already
        lost = together_said(to_text(one.host.name) for one in pool)
        left = [
            to_text(exchanger.host.name)
            for other in pools[:number] + pools[number + 1 :]
            for exchanger in other
            if exchanger.host.usable
        ]
        says = (
            f"mail goes to {', then '.join(left)}"
            if left
            else "nothing is left: senders keep mail for some days, then return it"
        )
        yield Test(
            mark="ok" if left else "note", title=f"if {lost} {'is' if len(pool) == 1 else 'are'} down", says=says
        )


def shared_with_web(seen: MailSeen) -> Test:
    """Return which exchangers share an address with the web host."""
    title = "the web host's address"
    looked = [one for one in (seen.web, seen.own) if one is not None]
    if any(not one.usable for one in looked):
        return Test(mark="note", title=title, says="could not be looked up")
    web = {*(seen.web.values if seen.web is not None else ()), *(seen.own.values if seen.own is not None else ())}
    shared = [
        f"{to_text(exchanger.host.name)} ({', '.join(address_text(v) for v in exchanger.host.found.values if v in web)})"
        for exchanger in seen.exchangers
        if web & set(exchanger.host.found.values)
    ]
    says = f"shared by {together_said(shared)}" if shared else "shared by no mail exchanger"
    return Test(mark="ok", title=title, says=says if web else "there is no web host")


_SHORT = {
    "mail.literal": "an address",
    "mail.alias": "an alias",
    "mail.missing-host": "the name does not exist",
    "mail.no-address": "neither A nor AAAA",
    "mail.private-address": "it cannot be reached from the Internet",
}


def exchanger_test(title: str, bad: set[str], why: str) -> Test:
    """Return one small test of an exchanger; `bad` are the codes that speak against it."""
    if bad == {"mail.unverified"}:
        return Test(mark="unverified", title=title, says="could not be asked", why=why)
    return Test(mark="fault" if bad else "ok", title=title, says=_SHORT[min(bad)] if bad else "", why=why)
