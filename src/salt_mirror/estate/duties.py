"""What the estate says that its resolvers ought to do: which view they give, where else they answer, whom they ask, whom they
serve; and what is asked of each to try that."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from salt_mirror.dns.errors import Unusable, about
from salt_mirror.dns.names import Name, from_text, shown
from salt_mirror.dns.questions import Server
from salt_mirror.dns.records import type_from_text
from salt_mirror.dns.reverse import Network
from salt_mirror.dns.system import paced, parse_server
from salt_mirror.estate.errors import BadInput, hint
from salt_mirror.estate.file import ResolverEntry, ResolverTestsEntry
from salt_mirror.estate.forms import parse_network

EXTERNAL = ("example.com", "example.net")
"""Names that stand for the world where the estate names none: IANA keeps them for everybody (RFC 6761 section 6.5)."""


@dataclass(frozen=True, slots=True)
class Duty:
    """What one resolver ought to do. `also` are other ways to it, `serves` the networks of its users (empty: not said)."""

    view: str = ""
    also: tuple[Server, ...] = ()
    forwards_to: tuple[Server, ...] = ()
    serves: tuple[Network, ...] = ()


@dataclass(frozen=True, slots=True)
class ResolverTests:
    """Names of the world that every resolver has to find (none on a network that leads nowhere), and sets that are larger than
    a datagram; names that are signed and sound, and names that do not validate on purpose."""

    external: tuple[Name, ...] = tuple(map(from_text, EXTERNAL))
    large: tuple[tuple[Name, int], ...] = ()
    signed: tuple[Name, ...] = ()
    broken: tuple[Name, ...] = ()


def duty_of(
    label: str,
    entry: ResolverEntry,
    known: dict[str, Server],
    reached: Callable[[bytes, int], tuple[bytes, int]],
    path: Path,
) -> Duty:
    """Read what a resolver's entry says. `known` are servers and resolvers by label; `reached` tells where a published address
    is reached. Raises BadInput."""
    place = f"{path}: resolvers, {label}"
    also = []
    for text in entry.also:
        try:
            also.append(paced(parse_server(text, label, reached), entry.pace))
        except Unusable:
            raise
        except ValueError:
            what = f"{place}, also: {shown(text)} is no address; expected one such as 2001:db8::53, tls://192.0.2.53 or https://…"
            raise BadInput(what) from None
    for other in entry.forwards_to:
        if other not in known:
            raise BadInput(
                f"{place}, forwards_to: there is no [resolvers.{other}] or [servers.{other}]; {hint(other, known)}"
            )
    serves = []
    with about(f"{place}, serves"):
        for text in entry.serves:
            network = parse_network(text)
            if network is None:
                raise BadInput(f"{shown(text)} is no network; expected one such as 10.77.0.0/16")
            serves.append(network)
    return Duty(entry.view, tuple(also), tuple(known[other] for other in entry.forwards_to), tuple(serves))


def tests_of(entry: ResolverTestsEntry, path: Path) -> ResolverTests:
    """Read `[resolver_tests]`. Raises BadInput."""
    large = []
    with about(f"{path}: resolver_tests, external"):
        external = tuple(map(from_text, entry.external if entry.external is not None else EXTERNAL))
    with about(f"{path}: resolver_tests, large"):
        for text in entry.large:
            name, _, rdtype = text.strip().partition(" ")
            if not rdtype:
                raise BadInput(
                    f"{shown(text)} has no type; expected a name and a type, such as big.gullmarsh.example TXT"
                )
            large.append((from_text(name), type_from_text(rdtype.strip())))
    with about(f"{path}: resolver_tests, signed"):
        signed = tuple(map(from_text, entry.signed))
    with about(f"{path}: resolver_tests, broken"):
        broken = tuple(map(from_text, entry.broken))
    return ResolverTests(external, tuple(large), signed, broken)
