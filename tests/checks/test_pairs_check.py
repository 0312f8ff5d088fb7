"""The judgement of `pairs`, driven by tables of answers: no socket, one rule a test."""

from __future__ import annotations

import ipaddress
from dataclasses import replace

import msgspec
import pytest

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.part import Setting, carry_out
from salt_mirror.checks.common.undotted import undotted
from salt_mirror.checks.pairs.case import Pair
from salt_mirror.checks.pairs.judging import Pairs
from salt_mirror.checks.pairs.scope import PairsScope
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.errors import Unusable
from salt_mirror.dns.names import from_text, to_text
from salt_mirror.dns.system import DEFAULT_PACE
from salt_mirror.estate.model import Estate
from support.tables import ADDRESS, FINDER, HOST, KILN, NORTH, NOW, REVERSE, Table, both, estate

PANS = estate("pans.example", "10.77.20.0/24", expect=((HOST, "A", ADDRESS),))


def judged(told: dict[tuple[str, str, str], list[str] | str], *arguments: str, known: Estate = PANS) -> Pairs:
    atlas = Atlas(known, resolvers=[FINDER] if any(label == "finder" for label, *_ in told) else [])
    found = Pairs(PairsScope(known, arguments), atlas)
    carry_out(found, Setting(NOW), Runner(Table(told)))
    return found


def codes(found: Pairs) -> list[str]:
    return sorted(finding.code for finding in found.findings())


def outcomes(found: Pairs) -> dict[str, str]:
    return {
        f"{to_text(name)} {ipaddress.ip_address(address) if address else '-'}": outcome
        for (_, name, address), outcome in found.outcomes.items()
    }


SOUND: dict[tuple[str, str], list[str] | str] = {(HOST, "A"): [ADDRESS], (REVERSE, "PTR"): [HOST]}


def test_a_name_whose_pointer_leads_back_agrees_without_a_word() -> None:
    found = judged(both(SOUND), HOST)
    assert outcomes(found) == {f"{HOST}. {ADDRESS}": "agrees"}
    assert not found.findings()


@pytest.mark.parametrize("status", ["timeout", "REFUSED", "SERVFAIL", "malformed", "unreachable", "truncated"])
@pytest.mark.parametrize("asked", [(HOST, "A"), (HOST, "AAAA"), (REVERSE, "PTR")])
def test_no_answer_from_one_server_is_unverified_and_never_a_fault(status: str, asked: tuple[str, str]) -> None:
    found = judged(both(SOUND) | {("kiln", *asked): status}, HOST)
    assert outcomes(found) == {f"{HOST}. {ADDRESS}": "unverified"}
    (finding,) = found.findings()
    assert (finding.code, finding.weight, finding.outcome) == ("pair.unverified", "note", "unverified")
    assert "kiln" in finding.cause
    assert any(evidence.server == "north" and evidence.values for evidence in finding.evidence)


def test_no_answer_from_any_server_is_unverified_too() -> None:
    silent = both({(HOST, "A"): "timeout", (HOST, "AAAA"): "timeout", (REVERSE, "PTR"): "timeout"})
    assert outcomes(judged(silent, HOST)) == {f"{HOST}. {ADDRESS}": "unverified"}
    deaf = both({**SOUND, (REVERSE, "PTR"): "REFUSED"})
    assert outcomes(judged(deaf, HOST)) == {f"{HOST}. {ADDRESS}": "unverified"}


def test_what_one_server_denies_stays_a_fault_when_another_is_silent() -> None:
    told = both({(HOST, "A"): [ADDRESS]}) | {("kiln", REVERSE, "PTR"): "timeout"}
    found = judged(told, HOST)
    assert codes(found) == ["pair.no-pointer", "pair.unverified"]
    assert outcomes(found) == {f"{HOST}. {ADDRESS}": "differs"}
    assert "on north" in next(f.text for f in found.findings() if f.code == "pair.no-pointer")


def test_a_finding_to_which_two_ways_lead_is_the_one_that_says_most_whichever_came_first() -> None:
    first, *_ = judged(both(SOUND) | {("kiln", HOST, "A"): []}, HOST).findings()
    less = msgspec.structs.replace(first, evidence=first.evidence[:1])
    for findings in ((first, less), (less, first)):
        found = Pairs(PairsScope(PANS, [HOST]), Atlas(PANS))
        for finding in findings:
            found.take([Pair("", from_text(HOST), None, "differs", (finding,))])
        assert list(found.findings()) == [first]


def test_a_server_that_lags_behind_is_named_with_what_each_says() -> None:
    found = judged(both(SOUND) | {("kiln", REVERSE, "PTR"): ["old.pans.example"]}, HOST)
    disagree = next(f for f in found.findings() if f.code == "pair.servers-disagree")
    assert "north says kiln-02.pans.example." in disagree.text
    assert "kiln says old.pans.example." in disagree.text
    assert disagree.remedy == f"; remove: {REVERSE}. IN PTR old.pans.example.\n{REVERSE}. IN PTR {HOST}."


@pytest.mark.parametrize(
    ("target", "told", "code", "remedy"),
    [
        (
            "old.pans.example",
            {("old.pans.example", "A"): ["10.77.20.9"]},
            "pair.stale-pointer",
            f"{REVERSE}. IN PTR {HOST}.",
        ),
        (
            "old.pans.example",
            {("old.pans.example", "TXT"): ['"x"']},
            "pair.orphan-pointer",
            f"{REVERSE}. IN PTR {HOST}.",
        ),
        ("old.pans.example", {}, "pair.lost-pointer", f"{REVERSE}. IN PTR {HOST}."),
        (f"{HOST}.20.77.10.in-addr.arpa", {}, "pair.missing-dot", f"{REVERSE}. IN PTR {HOST}."),
        ("old.pans.example", {("old.pans.example", "A"): [ADDRESS]}, "pair.shared", ""),
        (
            "oven.pans.example",
            {("oven.pans.example", "CNAME"): [HOST]},
            "pair.alias-target",
            f"{REVERSE}. IN PTR {HOST}.",
        ),
    ],
)
def test_a_pointer_to_another_name_is_judged_by_where_that_leads(
    target: str, told: dict[tuple[str, str], list[str] | str], code: str, remedy: str
) -> None:
    found = judged(both({**SOUND, (REVERSE, "PTR"): [target], **told}), HOST)
    (finding,) = found.findings()
    gone = f"; remove: {REVERSE}. IN PTR {target}.\n" if remedy else ""
    assert (finding.code, finding.remedy) == (code, gone + remedy)
    fault = finding.weight == "fault"
    assert outcomes(found)[f"{HOST}. {ADDRESS}"] == ("differs" if fault else "agrees")


@pytest.mark.parametrize("argument", [HOST, ADDRESS])
@pytest.mark.parametrize(
    "old", [f"{HOST}.20.77.10.in-addr.arpa.", "gone.pans.example."], ids=["without the dot", "gone"]
)
def test_what_only_an_outdated_copy_has_is_told_as_that_copy(argument: str, old: str) -> None:
    """It was mended at the primary: the old pointer is no fault of its own, it goes with the next transfer."""
    soa = "north.pans.example. h.pans.example. {} 3600 600 86400 300"
    told = both(SOUND) | {
        ("kiln", REVERSE, "PTR"): [old],
        ("north", "20.77.10.in-addr.arpa", "SOA"): [soa.format(8)],
        ("kiln", "20.77.10.in-addr.arpa", "SOA"): [soa.format(7)],
    }
    found = judged(told, argument)
    (finding,) = found.findings()
    assert finding.code == "pair.servers-disagree" and not finding.changes
    assert finding.advice == "let kiln transfer the zone from its primary"


def test_a_pointer_that_no_name_led_to_is_found_by_a_sweep_and_by_its_address() -> None:
    stale = both({**SOUND, ("9.20.77.10.in-addr.arpa", "PTR"): [HOST]})
    for arguments in (("10.77.20.0/24",), ("10.77.20.9",), ()):
        found = judged(stale, *arguments)
        assert codes(found) == ["pair.stale-pointer"]
        (finding,) = found.findings()
        assert finding.remedy == f"; remove: 9.20.77.10.in-addr.arpa. IN PTR {HOST}."
    assert codes(judged(both(SOUND), "10.77.20.9")) == ["pair.no-pointer"], "an address that is asked for must have one"
    assert codes(judged(both(SOUND), "10.77.20.0/28")) == [], "in a sweep nobody expects every address to have one"


def test_pointers_through_a_classless_delegation_are_followed() -> None:
    known = estate("pans.example", "10.77.20.0/24", "0/26.20.77.10.in-addr.arpa")
    inner = "2.0/26.20.77.10.in-addr.arpa"
    told = both({(HOST, "A"): [ADDRESS], (REVERSE, "CNAME"): [inner]})
    assert codes(judged(told | both({(inner, "PTR"): [HOST]}), HOST, known=known)) == []
    (finding,) = judged(told, HOST, known=known).findings()
    assert (finding.code, finding.remedy) == ("pair.no-pointer", f"{inner}. IN PTR {HOST}.")


def test_alias_chains_end() -> None:
    loop = both({("a.pans.example", "CNAME"): ["b.pans.example"], ("b.pans.example", "CNAME"): ["a.pans.example"]})
    found = judged(loop, "a.pans.example.")
    assert outcomes(found) == {"a.pans.example. -": "differs"}
    chain = both({(f"{number}.pans.example", "CNAME"): [f"{number + 1}.pans.example"] for number in range(12)})
    found = judged(chain, "0.pans.example.")
    assert outcomes(found) == {"0.pans.example. -": "unverified"}
    assert "more than 8" in next(iter(found.findings())).text


def test_an_address_that_is_expected_and_not_served_differs_even_if_the_served_one_is_sound() -> None:
    moved = both({(HOST, "A"): ["10.77.20.9"], ("9.20.77.10.in-addr.arpa", "PTR"): [HOST]})
    found = judged(moved)
    assert codes(found) == ["pair.other-address"]
    assert outcomes(found) == {f"{HOST}. 10.77.20.9": "agrees", f"{HOST}. {ADDRESS}": "differs"}
    assert codes(judged(both({}))) == ["pair.no-address"]


def test_each_view_is_judged_by_its_own_servers() -> None:
    inside, outside = estate("pans.example", "10.77.20.0/24"), estate("pans.example", "10.77.20.0/24")
    public = {apex: replace(zone, view="public", servers=(KILN,)) for apex, zone in outside.zones[""].items()}
    private = {apex: replace(zone, view="internal", servers=(NORTH,)) for apex, zone in inside.zones[""].items()}
    known = Estate(zones={"internal": private, "public": public})
    told: dict[tuple[str, str, str], list[str] | str] = {
        ("north", HOST, "A"): [ADDRESS], ("north", REVERSE, "PTR"): [HOST], ("kiln", HOST, "A"): ["10.77.20.9"],
    }  # fmt: skip
    found = judged(told, HOST, known=known)
    assert [(view, outcome) for (view, *_), outcome in found.outcomes.items()] == [
        ("internal", "agrees"),
        ("public", "differs"),
    ]


def test_servers_are_found_through_the_resolver_when_the_estate_has_no_zone() -> None:
    told = both(SOUND) | {
        ("finder", "pans.example", "SOA"): ["north.example. h.example. 1 2 3 4 5"],
        ("finder", "pans.example", "NS"): ["north.example."],
        ("finder", "20.77.10.in-addr.arpa", "SOA"): ["north.example. h.example. 1 2 3 4 5"],
        ("finder", "20.77.10.in-addr.arpa", "NS"): ["north.example."],
        ("finder", "north.example", "A"): ["198.51.100.11"],
        ("north.example", HOST, "A"): [ADDRESS],
        ("north.example", REVERSE, "PTR"): [HOST],
    }
    known = Estate(reach={bytes((198, 51, 100, 11)): (bytes((127, 0, 0, 1)), 5311)})
    found = judged(told, HOST, known=known)
    assert outcomes(found) == {f"{HOST}. {ADDRESS}": "agrees"}
    nowhere = judged({("finder", HOST, "SOA"): "timeout"}, HOST, known=known)
    assert codes(nowhere) == ["pair.unverified"]
    empty = told | {("finder", "20.77.10.in-addr.arpa", "SOA"): ["localhost. nobody.invalid. 1 2 3 4 5"]}
    (finding,) = judged(empty, HOST, known=known).findings()
    assert (finding.code, "RFC 6303" in finding.text) == ("pair.unverified", True)


@pytest.mark.parametrize(
    ("name", "meant"),
    [
        ("kiln.pans.example.20.77.10.in-addr.arpa", "kiln.pans.example."),
        ("kiln.pans.example.0.1.8.b.d.0.ip6.arpa", "kiln.pans.example."),
        ("kiln.pans.example.pans.example", "kiln.pans.example."),
        ("kiln.pans.example", None),
        ("pans.example.pans.example", None),
        ("kiln.kiln.example", None),
    ],
)
def test_a_forgotten_final_dot_is_recognised(name: str, meant: str | None) -> None:
    found = undotted(from_text(name))
    assert (to_text(found) if found else None) == meant


@pytest.mark.parametrize(
    ("argument", "message"),
    [
        ("10.0.0.0/8", "16,777,216 addresses; .* needs --sweep-all"),
        ("10.77.20.1/24", "the network is 10.77.20.0/24"),
        ("10.77.20.0/33", "is no network"),
        ("kiln-2", r"did you mean kiln-02\.pans\.example\."),
        ("a..b", "empty label"),
    ],
)
def test_an_argument_that_cannot_be_used_is_refused_before_anything_is_asked(argument: str, message: str) -> None:
    with pytest.raises(Unusable, match=message):
        PairsScope(PANS, [argument])


def test_large_and_ipv6_networks_are_judged_from_known_names_and_say_so() -> None:
    known = estate("pans.example", "10.in-addr.arpa", "2001:db8:77::/48", expect=((HOST, "AAAA", "2001:db8:77::2"),))
    scope = PairsScope(known)
    assert scope.size == 1
    assert "10.0.0.0/8 was not swept (16,777,216 addresses; --sweep-all" in scope.remarks[0]
    assert (
        "2001:db8:77::/48 was not swept, since IPv6 networks cannot be: judged from the 1 name known in it"
        in scope.remarks[1]
    )


def test_servers_that_are_found_keep_the_pace_that_was_wished_for() -> None:
    atlas = Atlas(Estate())
    assert atlas.server_at(from_text("ns.example"), bytes((192, 0, 2, 1))).pace == DEFAULT_PACE
    atlas.pace = 5.0
    assert atlas.server_at(from_text("ns2.example"), bytes((192, 0, 2, 2))).pace == 5.0
