"""Signatures where no stand-in is kind: a signed zone above, two servers below, and one thing after the other that goes
wrong."""

from __future__ import annotations

import time
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

import dns.dnssec
import dns.name
import dns.rdata
import dns.zone
import pytest

from salt_mirror.checks.authority.judging import Inspection
from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.part import Setting, carry_out
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.names import from_text
from salt_mirror.dns.traffic.engine import Engine
from salt_mirror.estate.building import load_estate
from salt_mirror.standin.authority import read_zone
from salt_mirror.standin.server import Fault, StandIn
from salt_mirror.standin.signing import SigningKey, key_from, sign_zone
from support.estates import Served, found
from support.program import Outcome, Run

ABOVE, CHILD = "marsh.invalid.", "salt.marsh.invalid."
DAY = 86_400
HEAD = (
    "$TTL 300\n@ SOA ns1 h 1 7200 1800 1209600 300\n@ NS ns1\n@ NS ns2\nns1 A 192.0.2.1\nns2 A 198.51.100.2\n"
    "www A 192.0.2.80\n"
)
CUT = "salt NS ns1.salt\nsalt NS ns2.salt\nns1.salt A 192.0.2.1\nns2.salt A 198.51.100.2\n"
TOP = "$TTL 300\n@ SOA p h 1 7200 1800 1209600 300\n@ NS p\np A 192.0.2.5\n"
ENTRY, ZONE, OTHER = key_from("entry"), key_from("zone", entry=False), key_from("other", entry=False)
ABOVE_KEYS = (key_from("above"), key_from("above zone", entry=False))


def signed(
    apex: str, text: str, keys: tuple[SigningKey, ...] = (ENTRY, ZONE), *, begins: int = -3600, ends: int = 30 * DAY
) -> dns.zone.Zone:
    """A zone, signed from and to so many seconds from now."""
    now = int(time.time())
    return sign_zone(read_zone(text, apex), keys, inception=now + begins, expiration=now + ends)


def ds_text(*keys: SigningKey, apex: str = CHILD) -> str:
    return "".join(f"salt DS {key.ds(apex)}\n" for key in keys)


class Marsh:
    """The signed zone above with its servers, the child's two servers, and an estate that lists them all."""

    def __init__(self, served: Served, run: Run) -> None:
        self._served, self._run = served, run
        self.child = served.serve(CHILD.rstrip("."), HEAD, HEAD)
        self.above: list[StandIn] = []

    def lay(
        self,
        *children: dns.zone.Zone,
        above: tuple[dns.zone.Zone, ...] | None = None,
        ds: str | None = None,
        more: str = "",
    ) -> list[str]:
        """Serves the zones, the last of the children on all servers that are left; return the codes of signatures."""
        return sorted(
            code for code in found(self.look(*children, above=above, ds=ds, more=more)) if code.startswith("sig.")
        )

    def look(
        self,
        *children: dns.zone.Zone,
        above: tuple[dns.zone.Zone, ...] | None = None,
        ds: str | None = None,
        more: str = "",
    ) -> Outcome:
        for server, zone in zip(self.child, [*children, children[-1]], strict=False):
            server.authority.hold(zone)
        if above is None:
            above = (signed(ABOVE, TOP + CUT + (ds_text(ENTRY) if ds is None else ds), ABOVE_KEYS),)
        self.above = [self._served.serve(ABOVE.rstrip("."), TOP)[0] for _ in above]
        for server, zone in zip(self.above, above, strict=True):
            server.authority.hold(zone)
        reach = {"192.0.2.1": self.child[0], "198.51.100.2": self.child[1], "192.0.2.5": self.above[0]}
        also = {ABOVE.rstrip("."): {f"p{n}": server.port for n, server in enumerate(self.above)}}
        self._served.publish(CHILD.rstrip("."), self.child, more, reach, also)
        return self._run("authority", CHILD, "--json", "--timeout", "0.5", "--tries", "2")


@pytest.fixture
def marsh(served: Served, run: Run) -> Marsh:
    return Marsh(served, run)


def test_a_sound_zone_is_sound_and_the_first_line_says_so(marsh: Marsh) -> None:
    done = marsh.look(signed(CHILD, HEAD))
    assert [code for code in found(done) if code.startswith("sig.")] == [] and done.status == 0
    assert "signed; it validates on 2 of 2 servers." in done.report["says"]
    sheet = done.report["sheets"][0]["signed"]
    assert [(key["role"], len(key["ds"]), key["signs_keys"]) for key in sheet["keys"]] == [
        ("entry", 1, True),
        ("zone", 0, False),
    ]
    assert {row["state"] for row in sheet["signatures"]} == {"valid"} and sheet["denial"] == "NSEC"


def _without_ds_signature() -> dns.zone.Zone:
    zone = signed(ABOVE, TOP + CUT + ds_text(ENTRY), ABOVE_KEYS)
    zone.delete_rdataset(dns.name.from_text(CHILD), "RRSIG", "DS")
    return zone


def _above(ds: str) -> dns.zone.Zone:
    return signed(ABOVE, TOP + CUT + ds, ABOVE_KEYS)


def _cds(key: SigningKey) -> str:
    return f"@ CDS {key.ds(CHILD)}\n"


NEXT = key_from("next")
SCENES: dict[str, tuple[Callable[[Marsh], list[str]], list[str]]] = {
    "it ends before a new one can be everywhere": (
        lambda m: m.lay(signed(CHILD, HEAD, begins=-9 * DAY, ends=7200)), ["sig.ending"],
    ),
    "it ends in time": (lambda m: m.lay(signed(CHILD, HEAD, begins=-9 * DAY, ends=4 * 3600)), []),
    "each answer is signed anew, for an hour": (lambda m: m.lay(signed(CHILD, HEAD, begins=-60, ends=3600)), []),
    "each server has keys that the other has not": (
        lambda m: m.lay(signed(CHILD, HEAD), signed(CHILD, HEAD, (ENTRY, OTHER))), ["sig.keys-differ", "sig.keys-differ"],
    ),
    "a new key is published, and signs nothing yet": (
        lambda m: m.lay(signed(CHILD, HEAD, (ENTRY, NEXT, ZONE)), signed(CHILD, HEAD)), [],
    ),
    "the parent's servers have different DS sets": (
        lambda m: m.lay(signed(CHILD, HEAD, (ENTRY, NEXT, ZONE)), above=(_above(ds_text(ENTRY)), _above(ds_text(NEXT)))),
        ["sig.ds-differ"],
    ),
    "the parent's own signature is gone": (
        lambda m: m.lay(signed(CHILD, HEAD), above=(_without_ds_signature(),)), ["sig.ds-unproved"],
    ),
    "an unsigned zone below a parent whose denial has ended": (
        lambda m: m.lay(read_zone(HEAD, CHILD), above=(signed(ABOVE, TOP + CUT, ABOVE_KEYS, begins=-9 * DAY, ends=-DAY),)),
        ["sig.ds-unproved"],
    ),
    "an unsigned zone below a signed one": (lambda m: m.lay(read_zone(HEAD, CHILD), ds=""), []),
    "no DS": (lambda m: m.lay(signed(CHILD, HEAD), ds=""), ["sig.island"]),
    "no DS, and it has ended": (
        lambda m: m.lay(signed(CHILD, HEAD, begins=-9 * DAY, ends=-DAY), ds=""), ["sig.island-broken"],
    ),
    "the parent is not signed": (
        lambda m: m.lay(signed(CHILD, HEAD), above=(read_zone(TOP + CUT + ds_text(ENTRY), ABOVE),)), ["sig.island"],
    ),
    "no DS, and the estate trusts the key": (
        lambda m: m.lay(signed(CHILD, HEAD), ds="", more=f"trust_anchors = ['{CHILD} DS {ENTRY.ds(CHILD)}']"), [],
    ),
    "no DS, and the estate trusts another key": (
        lambda m: m.lay(signed(CHILD, HEAD), ds="", more=f"trust_anchors = ['{CHILD} DS {NEXT.ds(CHILD)}']"),
        ["sig.ds-mismatch"],
    ),
    "it asks for another DS": (
        lambda m: m.lay(signed(CHILD, HEAD + _cds(NEXT), (ENTRY, NEXT, ZONE))), ["sig.parent-waits"],
    ),
    "it asks for the DS that is there": (lambda m: m.lay(signed(CHILD, HEAD + _cds(ENTRY))), []),
    "it asks for no DS any more": (
        lambda m: m.lay(signed(CHILD, HEAD + "@ CDS 0 0 0 00\n")), ["sig.parent-waits"],
    ),
    "all of it is out of its time, above and below": (
        lambda m: m.lay(
            signed(CHILD, HEAD, begins=-9 * DAY, ends=-DAY),
            above=(signed(ABOVE, TOP + CUT + ds_text(ENTRY), ABOVE_KEYS, begins=-9 * DAY, ends=-DAY),),
        ),
        ["sig.unverified"],
    ),
}  # fmt: skip


@pytest.mark.parametrize("scene", SCENES)
def test_what_is_said_of_signatures(marsh: Marsh, scene: str) -> None:
    play, codes = SCENES[scene]
    assert play(marsh) == codes


def test_the_line_for_the_parent_is_exact_and_with_it_the_zone_validates(marsh: Marsh) -> None:
    done = marsh.look(signed(CHILD, HEAD), ds=ds_text(NEXT))
    (wrong,) = [one for one in done.report["findings"] if one["code"] == "sig.ds-mismatch"]
    line = wrong["advice"].removeprefix(f"in {ABOVE}: ")
    assert wrong["fate"] == "not ours" and "SERVFAIL for every name in it" in wrong["text"]
    above = signed(ABOVE, TOP + CUT + line + "\n", ABOVE_KEYS)
    assert marsh.lay(signed(CHILD, HEAD), above=(above,)) == []


def test_a_parent_or_a_server_that_says_nothing_is_unverified_and_accuses_nobody(marsh: Marsh) -> None:
    marsh.look(signed(CHILD, HEAD))
    (above,) = marsh.above
    above.fault = Fault.SILENT
    done = marsh._run("authority", CHILD, "--json", "--timeout", "0.3", "--tries", "1")
    assert {one["weight"] for one in done.report["findings"] if one["code"].startswith("sig.")} <= {"note"}
    above.fault = Fault.NONE
    marsh.child[1].fault = Fault.SILENT
    done = marsh._run("authority", CHILD, "--json", "--timeout", "0.3", "--tries", "1")
    said = [one for one in done.report["findings"] if one["code"].startswith("sig.")]
    assert [(one["code"], one["outcome"], one["server"]) for one in said] == [
        ("sig.unverified", "unverified", marsh.child[1].endpoint)
    ]


def test_a_copy_inside_that_is_not_signed_is_told_apart_from_a_broken_zone(
    marsh: Marsh, served: Served, run: Run
) -> None:
    marsh.look(signed(CHILD, HEAD))
    text = HEAD.replace("ns1", "in1").replace("@ NS ns2\n", "").replace("192.0.2.1\n", "10.77.0.1\n")
    (inside,) = served.serve(CHILD.rstrip("."), text)
    more = (
        f'[[zones]]\nname = "{CHILD}"\nview = "inside"\nservers = ["inside"]\n'
        f'[servers.inside]\naddress = "127.0.0.1"\nport = {inside.port}\n'
    )
    (seen_inside,) = served.serve(ABOVE.rstrip("."), TOP)  # the parent as people inside get it
    seen_inside.authority.hold(_above(ds_text(ENTRY)))
    more += f'[[zones]]\nname = "{ABOVE}"\nview = "inside"\nservers = ["q"]\n'
    more += f'[servers.q]\naddress = "127.0.0.1"\nport = {seen_inside.port}\n'
    reach = {
        "192.0.2.1": marsh.child[0],
        "198.51.100.2": marsh.child[1],
        "10.77.0.1": inside,
        "192.0.2.5": marsh.above[0],
    }
    served.publish(CHILD.rstrip("."), marsh.child, more, reach, {ABOVE.rstrip("."): {"p0": marsh.above[0].port}})
    done = run("authority", CHILD, "--view", "inside", "--json")
    assert [code for code in found(done) if code.startswith("sig.")] == ["sig.view-unsigned"]


def test_the_figure_has_a_bar_for_each_signature(marsh: Marsh, tmp_path: Path) -> None:
    marsh.look(signed(CHILD, HEAD), signed(CHILD, HEAD, begins=-9 * DAY, ends=-DAY))
    done = marsh._run("authority", CHILD, "--figure", str(tmp_path / "signatures.svg"), "--quiet")
    drawn = (tmp_path / "signatures.svg").read_text(encoding="utf-8")
    assert done.status == 1 and drawn.startswith("<?xml") and drawn.count("<path") > 20
    refused = marsh._run("authority", CHILD, "--figure", "signatures.txt")
    assert refused.status == 2 and "neither a .png nor a .svg" in refused.err


def test_an_audit_lists_what_ends_within_the_forecast(marsh: Marsh, tmp_path: Path) -> None:
    marsh.look(signed(CHILD, HEAD, ends=20 * DAY))
    page = ("--report", "html:audit.html")
    audited = marsh._run("audit", "--only", "authority", "--forecast", "21d", *page, "--json").report["audit"]
    assert "Signatures that end" in (tmp_path / "audit.html").read_text(encoding="utf-8")
    marsh._run("authority", CHILD, "--report", "html:zone.html")
    assert "it validates on 2 of 2 servers" in (tmp_path / "zone.html").read_text(encoding="utf-8")
    assert {one["zone"] for one in audited["ending"]} == {CHILD}
    assert {one["what"] for one in audited["ending"]} == {"keys (DNSKEY)", f"{CHILD} SOA"}
    assert all(set(one["servers"]) == {"one", "two"} and 0 < one["left_s"] <= 20 * DAY for one in audited["ending"])
    assert marsh._run("audit", "--only", "authority", "--forecast", "19d", "--json").report["audit"]["ending"] == []
    assert (
        "SIGNATURES THAT END: none in this time" in marsh._run("audit", "--only", "authority", "--forecast", "1d").out
    )


@pytest.mark.parametrize("line", ["marsh.invalid. DS 1 2", "marsh.invalid. A 192.0.2.1", "DS", "x..y. DS 1 13 2 00"])
def test_a_trust_anchor_that_is_none_says_what_would_be_one(run: Run, tmp_path: Path, line: str) -> None:
    (tmp_path / "estate.toml").write_text(f'trust_anchors = ["{line}"]\n', encoding="utf-8")
    done = run("authority", CHILD)
    assert done.status == 2 and "trust_anchors" in done.err and "expected a DS record" in done.err


def test_what_this_computer_cannot_verify_is_unverified(marsh: Marsh, tmp_path: Path) -> None:
    """An algorithm of which nothing is known here signs the answers; one that is known signs the keys."""
    zone = signed(CHILD, HEAD)
    apex = dns.name.from_text(CHILD)
    strange = ZONE.public.replace(algorithm=253)
    keys = zone.find_rdataset(apex, "DNSKEY")
    keys.add(strange)
    again = dns.dnssec.sign(
        dns.rrset.from_rdata_list(apex, keys.ttl, list(keys)), ENTRY.private, apex, ENTRY.public,
        inception=int(time.time()) - 60, expiration=int(time.time()) + 30 * DAY,
    )  # fmt: skip
    zone.delete_rdataset(apex, "RRSIG", "DNSKEY")
    zone.find_rdataset(apex, "RRSIG", "DNSKEY", create=True).add(again, 300)
    for name in list(zone.nodes):
        for rdataset in list(zone.nodes[name].rdatasets):
            if rdataset.rdtype == 46 and rdataset.covers != 48:
                records = [one.replace(algorithm=253, key_tag=dns.dnssec.key_id(strange)) for one in rdataset]
                zone.replace_rdataset(name, dns.rdataset.from_rdata_list(300, records))
    done = marsh.look(zone)
    said = [one for one in done.report["findings"] if one["code"].startswith("sig.")]
    assert {(one["code"], one["outcome"]) for one in said} == {("sig.unverified", "unverified")}
    assert "algorithm 253 cannot be verified on this computer" in said[0]["text"]
    assert done.status == 3


def test_names_of_a_zone_below_on_the_same_server_are_not_judged_by_this_zones_keys(
    marsh: Marsh, tmp_path: Path
) -> None:
    """A child of the child that nobody declared, unsigned, on the very servers: its names are unsigned by right."""
    inner = read_zone(
        "$TTL 300\n@ SOA ns1.salt.marsh.invalid. h 1 7200 1800 1209600 300\n@ NS ns1.salt.marsh.invalid.\nwww A 192.0.2.9\n",
        f"pan.{CHILD}",
    )
    for server in marsh.child:
        server.authority.hold(inner)
    (tmp_path / "list.zone").write_text(
        f"$ORIGIN {CHILD}\n$TTL 300\nwww.pan A 192.0.2.9\nwww A 192.0.2.80\n", encoding="utf-8"
    )
    zone = signed(CHILD, HEAD + "pan NS ns1\n")
    marsh.look(zone)
    estate = tmp_path / "estate.toml"
    text = estate.read_text(encoding="utf-8").replace(
        'view = "public"\n', 'view = "public"\nexpect = ["list.zone"]\n', 1
    )
    estate.write_text(text, encoding="utf-8")
    loaded = load_estate(estate)
    with Engine(timeout_s=1.0) as engine:
        part = Inspection([(from_text(CHILD), "public")], Atlas(loaded))
        carry_out(part, Setting(datetime.now(UTC)), Runner(engine))
    assert [one.code for one in part.findings() if one.code.startswith("sig.")] == []


def test_ds_and_tlsa_records_without_what_they_are_about_are_stale(marsh: Marsh, tmp_path: Path) -> None:
    digest = "aa" * 32
    listed = (
        f"_25._tcp.mail TLSA 3 1 1 {digest}\n_25._tcp.www TLSA 3 1 1 {digest}\nwww A 192.0.2.80\n"
        f"gone DS 1 15 2 {digest}\nplain NS ns1\nplain DS 1 15 2 {digest}\ndeep NS ns1\ndeep DS 1 15 2 {digest}\n"
    )
    zone = signed(CHILD, HEAD + listed.replace("www A 192.0.2.80\n", ""))
    marsh.look(zone)
    for server in marsh.child:
        server.authority.hold(read_zone(HEAD, f"plain.{CHILD}"))
        server.authority.hold(signed(f"deep.{CHILD}", HEAD))
    (tmp_path / "list.zone").write_text(f"$ORIGIN {CHILD}\n$TTL 300\n{listed}", encoding="utf-8")
    estate = tmp_path / "estate.toml"
    text = estate.read_text(encoding="utf-8").replace(
        'view = "public"\n', 'view = "public"\nexpect = ["list.zone"]\n', 1
    )
    estate.write_text(text, encoding="utf-8")
    done = marsh._run("stale", "--json")
    said = {(one["name"], one["type"]): one for one in done.report["findings"] if one["code"] == "left.dangling"}
    assert {name.partition(".salt")[0] for name, _ in said} == {"_25._tcp.mail", "gone", "plain"}
    assert "is about mail.salt.marsh.invalid., which has no address" in said[f"_25._tcp.mail.{CHILD}", "TLSA"]["text"]
    assert "is not signed: validating resolvers answer SERVFAIL" in said[f"plain.{CHILD}", "DS"]["text"]
    assert said[f"gone.{CHILD}", "DS"]["advice"].startswith(f"in {CHILD} remove: gone.{CHILD} IN DS 1 15 2")
    assert not said[f"gone.{CHILD}", "DS"]["changes"] and not said[f"gone.{CHILD}", "DS"]["choices"]


def test_an_expected_ds_is_looked_for_at_the_parent_and_never_changed_from_here(marsh: Marsh, tmp_path: Path) -> None:
    marsh.look(signed(CHILD, HEAD), more='[keys.k]\nsecret_file = "k"')
    (tmp_path / "k").write_text("c2FsdC1taXJyb3Itc2VjcmV0LXNlY3JldC1zZWNyZXQ=\n", encoding="utf-8")
    estate = tmp_path / "estate.toml"
    head = f'name = "{ABOVE.rstrip(".")}"\nview = "public"\n'
    text = estate.read_text(encoding="utf-8").replace(head, f'{head}expect = ["list.zone"]\nupdate_key = "k"\n')
    estate.write_text(text, encoding="utf-8")
    for key, codes, says in (
        (ENTRY, [], ""),
        (NEXT, ["roll.different"], "follow from keys, and are never changed from here"),
    ):
        (tmp_path / "list.zone").write_text(f"$ORIGIN {ABOVE}\n$TTL 300\nsalt DS {key.ds(CHILD)}\n", encoding="utf-8")
        called = marsh._run("rollcall", "--json")
        assert [one["code"] for one in called.report["findings"]] == codes
        planned = marsh._run("mend", "--only", "rollcall", "--json")
        assert not (planned.report.get("plan") or {}).get("changes") and says in planned.out


def test_who_asks_the_zone_itself_for_its_ds_is_told_where_it_is(marsh: Marsh) -> None:
    marsh.look(signed(CHILD, HEAD))
    told = marsh._run("ask", CHILD, "DS", "--at", "one")
    assert "the DS record of a zone is in the zone above" in told.out and "DNSKEY" in told.out
    above = marsh._run("ask", CHILD, "DS", "--at", "authoritative").out
    assert str(ENTRY.ds(CHILD)) in above


def test_the_budget_of_keys_has_the_waits_of_both_sides(marsh: Marsh) -> None:
    marsh.look(signed(CHILD, HEAD), above=(signed(ABOVE, TOP + CUT + ds_text(ENTRY), ABOVE_KEYS),) * 2)
    ds, keys = (marsh._run("budget", CHILD, kind).out for kind in ("DS", "DNSKEY"))
    # the parent's TTL is 5 min and its refresh 2 h, the keys' TTL an hour and the child's refresh 2 h
    assert "for 3 h (DNSKEY TTL 1 h, refresh 2 h) before its DS record comes" in ds
    assert "for 2 h 5 min (DS TTL 5 min, refresh 2 h) after the DS set was changed" in ds
    assert "A new key may sign 3 h after it was published" in keys
    assert "2 h 5 min (DS TTL 5 min, refresh 2 h) after that DS record is gone" in keys


def test_what_is_asked_of_named_servers_alone_is_doubted_and_not_accused(marsh: Marsh) -> None:
    """Nobody has looked whether a DS record leads to signatures that have ended."""
    marsh.look(signed(CHILD, HEAD), signed(CHILD, HEAD, begins=-9 * DAY, ends=-DAY))
    good, ended = (marsh._run("authority", CHILD, "--at", f"127.0.0.1:{one.port}", "--json") for one in marsh.child)
    assert [code for code in found(good) if code.startswith("sig.")] == []
    (doubt,) = [one for one in ended.report["findings"] if one["code"] == "sig.unverified"]
    assert doubt["outcome"] == "unverified" and "Whether a DS record leads to them was not seen" in doubt["text"]


def test_a_zone_that_is_transferred_is_looked_over_whole(marsh: Marsh) -> None:
    """What nobody expects, and so nobody asks for: its signature has ended, or is gone."""
    deep = HEAD + "deep.er A 192.0.2.99\nother A 192.0.2.98\npan NS ns1.pan\nns1.pan A 192.0.2.97\n"
    zone, now = signed(CHILD, deep), int(time.time())
    assert zone.origin is not None
    name = dns.name.from_text(f"deep.er.{CHILD}")
    rdataset = zone.find_rdataset(name, "A")
    made = dns.dnssec.sign(
        dns.rrset.from_rdata_list(name, 300, list(rdataset)), ZONE.private, zone.origin, ZONE.public,
        inception=now - 9 * DAY, expiration=now - DAY,
    )  # fmt: skip
    zone.delete_rdataset(name, "RRSIG", "A")
    zone.find_rdataset(name, "RRSIG", "A", create=True).add(made, 300)
    zone.delete_rdataset(dns.name.from_text(f"other.{CHILD}"), "RRSIG", "A")
    assert marsh.lay(signed(CHILD, deep), zone) == []
    for server in marsh.child:
        server.transfers = True
    done = marsh._run("authority", CHILD, "--transfer", "--json")
    said = {one["code"]: one for one in done.report["findings"] if one["code"].startswith("sig.")}
    assert {code: one["server"] for code, one in said.items()} == {
        "sig.expired": marsh.child[1].endpoint, "sig.missing": marsh.child[1].endpoint,
    }  # fmt: skip
    assert f"deep.er.{CHILD} A with expired signatures, as the whole zone shows" in said["sig.expired"]["text"]
    assert "of one and two the dates and keys of all" in done.report["sheets"][0]["signed"]["verified"]
