"""A host that another record points at: a mail exchanger, or the target of a service.

Strategy: its addresses come from its own authoritative servers. What such a host must not be (an alias, a literal, nowhere) is
the same rule for both kinds of records, so it is here once.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator
from dataclasses import dataclass
from functools import partial
from typing import Any

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.expected import Expects
from salt_mirror.checks.common.lookup import Lookup, lookup
from salt_mirror.checks.common.proposing import changed
from salt_mirror.checks.common.wording import answers_of, state, troubles_of, who_says_what
from salt_mirror.dns.dialogue import Dialogue
from salt_mirror.dns.names import Name, labels, to_text
from salt_mirror.dns.records import ADDRESS_TYPES, MX, TARGET_AT, address_type
from salt_mirror.dns.reverse import address_text
from salt_mirror.dns.special import is_private
from salt_mirror.findings import Change, Choice, Finding


@dataclass(slots=True)
class Host:
    """A host's name and what its own servers say of its addresses."""

    name: Name
    found: Lookup

    @property
    def literal(self) -> bool:
        """Whether the name is an address written as a name."""
        parts = [part.strip(b"[]") for part in labels(self.name)]
        return len(parts) == 4 and all(part.isdigit() and int(part) < 256 for part in parts)

    @property
    def usable(self) -> bool:
        """Whether there is an address to connect to."""
        return bool(self.found.values)

    @property
    def unknown(self) -> bool:
        """Whether nobody could say what addresses it has."""
        return not self.found.usable and not self.found.circle and not self.literal

    @property
    def addresses(self) -> list[str]:
        """Its addresses as text."""
        return [address_text(value) for value in self.found.values if len(value) in (4, 16)]

    def private(self) -> list[bytes]:
        """Return those of its addresses that nobody outside can reach."""
        return [value for value in self.found.values if len(value) in (4, 16) and is_private(value)]


def look_at(name: Name, view: str, atlas: Atlas) -> Dialogue[Host]:
    """Find a host's addresses on its own authoritative servers."""
    return Host(name, (yield from lookup(name, ADDRESS_TYPES, view, atlas)))


def host_findings(
    host: Host,
    view: str,
    *,
    public: bool,
    codes: str,
    owner: Name,
    rdtype: int,
    role: str,
    rule: str,
    still: str,
    expects: Expects,
    whose: Name | None = None,
    pointing: Lookup | None = None,
) -> Iterator[Finding]:
    """Return what is wrong with a host, as findings about the record that points at it.

    `codes` is the family (`mail` or `srv`), `owner` and `rdtype` the record, `role` what the host is to it, or to `whose`;
    `rule` is the RFC that forbids an alias, `still` what works without it, `pointing` the set in which the record stands.
    """
    name, looked_up = to_text(host.name), host.found
    say = partial(state, name=owner, rdtype=rdtype, view=view, server=host.name, answers=answers_of(looked_up))
    about = f"{name}, {role} of {to_text(whose if whose is not None else owner)},"
    if host.literal:
        text = f"{about} is an address and not a host name: senders look it up as a name and find nothing. {still}"
        yield say(f"{codes}.literal", text, answers=(), advice=f"name a host that has the address, in place of {name}")
        return
    if looked_up.circle:
        yield say(
            f"{codes}.no-address",
            f"{about} has no address: {looked_up.trouble}. {still}",
            **_let_go(host, pointing, view, expects),
        )
        return
    if looked_up.usable:
        if looked_up.followed:
            text = f"{about} is an alias of {to_text(looked_up.canonical)}; it must be a name of its own ({rule})."
            yield say(f"{codes}.alias", text, **_renamed(host, pointing, view))
        yield from _addresses(host, about, still, codes, say, view, pointing, expects, public=public)
    if looked_up.unverified or not looked_up.usable:
        why, where = troubles_of(looked_up), " everywhere" if looked_up.usable else ""
        text = f"{about} could not be looked up{where}: {why}."
        yield say(f"{codes}.unverified", text, outcome="unverified", cause=why)


def _addresses(
    host: Host,
    about: str,
    still: str,
    codes: str,
    say: Callable[..., Finding],
    view: str,
    pointing: Lookup | None,
    expects: Expects,
    *,
    public: bool,
) -> Iterator[Finding]:
    """Return what is wrong with the addresses of a host that could be looked up."""
    looked_up = host.found
    if not host.usable:
        code = "no-address" if looked_up.exists else "missing-host"
        why = "has neither A nor AAAA" if looked_up.exists else "does not exist"
        yield say(f"{codes}.{code}", f"{about} {why}. {still}", **_let_go(host, pointing, view, expects))
    elif looked_up.divided:
        said = who_says_what(looked_up.usable, address_text)
        yield say(f"{codes}.host-disagrees", f"{about} has other addresses on other servers: {said}.")
    if public and (private := host.private()):
        said = ", ".join(address_text(value) for value in private)
        text = f"{about} has a private address in a public view: {said}. It cannot be reached from the Internet."
        changes, choices = without(private, looked_up, view, expects)
        yield say(f"{codes}.private-address", text, changes=changes, choices=choices)


def without(
    private: Collection[bytes], looked_up: Lookup, view: str, expects: Expects
) -> tuple[list[Change], list[Choice]]:
    """Return what takes private addresses out of a public view: changes, or a choice where none would be left; nothing that the
    estate expects is taken."""
    name = to_text(looked_up.canonical)
    private = [one for one in private if one not in expects.addresses(view, looked_up.canonical)]
    if not private:
        return [], []
    changes = [
        changed(
            looked_up.canonical, address_type(one), "registered", "it cannot be reached from the Internet", view=view,
            zone=looked_up.authority.zone, remove=[one],
        )
        for one in private
    ]  # fmt: skip
    if set(looked_up.values) - set(private):
        return changes, []
    return [], [Choice(word="remove", says=f"{name} is then left without any address", changes=changes)]


def _records_of(host: Host, pointing: Lookup | None) -> tuple[int, list[bytes]]:
    """Return the type of the set that points at a host, and those of its records that do."""
    rdtype = pointing.tellings[0].answers[0].question.rdtype if pointing is not None and pointing.tellings else MX
    values = pointing.values if pointing is not None else ()
    return rdtype, [value for value in values if value[TARGET_AT[rdtype] :] == host.name]


def _renamed(host: Host, pointing: Lookup | None, view: str) -> dict[str, Any]:
    """Return what puts a host's own name in the place of its alias."""
    rdtype, records = _records_of(host, pointing)
    name = to_text(host.found.canonical)
    if pointing is None or not records:
        return {"advice": f"name {name} in place of {to_text(host.name)}"}
    add = [value[: TARGET_AT[rdtype]] + host.found.canonical for value in records]
    change = changed(
        pointing.canonical, rdtype, "registered", f"{to_text(host.name)} is an alias of {name}", view=view,
        zone=pointing.authority.zone, add=add, remove=records,
    )  # fmt: skip
    return {"changes": [change]}


def _let_go(host: Host, pointing: Lookup | None, view: str, expects: Expects) -> dict[str, Any]:
    """Return what takes away the records that point at a host without addresses. To register it, somebody has to tell its
    address; a record or a host that the estate expects stays, and a host that it expects to be gone leaves nobody to decide."""
    rdtype, records = _records_of(host, pointing)
    name = to_text(host.name)
    if addresses := expects.addresses(view, host.name):
        where = " and ".join(address_text(one) for one in sorted(addresses))
        return {"advice": f"register {name} at {where}, where the estate expects it"}
    wanted = expects.values(view, pointing.canonical, rdtype) if pointing is not None else frozenset()
    if any(value in wanted for value in records):
        return {"advice": f"the estate expects this record: expect an address of {name} too, or not the record"}
    if pointing is None or not records:
        return {"advice": f"register the address of {name}"}
    change = changed(
        pointing.canonical,
        rdtype,
        "registered",
        f"{name} is gone",
        view=view,
        zone=pointing.authority.zone,
        remove=records,
    )
    if expects.gone(view, host.name):
        return {"changes": [change]}
    says = f"{name} is gone; if it is not, expect it in the estate with its address"
    return {"choices": [Choice(word="remove", says=says, changes=[change])]}
