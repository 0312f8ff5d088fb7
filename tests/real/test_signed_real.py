"""Signed zones on real servers: what Unbound calls bogus, we call bogus, and the other way round."""

from __future__ import annotations

import json
import time
from collections.abc import Sequence
from datetime import UTC, datetime
from pathlib import Path

import dns.dnssec
import dns.name
import dns.zone
import msgspec
import pytest

from salt_mirror.checks.authority.judging import Inspection
from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.part import Setting, carry_out
from salt_mirror.checks.common.trust import Flaw
from salt_mirror.checks.descend.judging import Descents
from salt_mirror.checks.signed.whole import look_over
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.dnssec.keys import keys_in
from salt_mirror.dns.holding import Holding
from salt_mirror.dns.names import from_text
from salt_mirror.dns.questions import Answer, Key, Question, Server
from salt_mirror.dns.records import DNSKEY, Record, type_from_text
from salt_mirror.dns.traffic.engine import Engine
from salt_mirror.dns.wire import is_authentic
from salt_mirror.estate.building import load_estate
from support.estates import found
from support.examples import seeds
from support.program import Run
from support.realservers import nsd, secret_text, unbound
from support.signedworlds import PLANTINGS, Worlds, content_at, make_worlds
from support.signers import CHILD, SIGNERS, TEXT, above, bind_signing, ds_of, knot_signing, whole_zone

pytestmark = pytest.mark.real

ASKED = (
    ("www", "A"), ("nothing", "A"), ("www", "TXT"), ("x.wild", "A"), ("x.wild", "TXT"), ("alias", "A"), ("deep", "A"),
    ("x.made", "A"), ("x.star", "A"),
)  # fmt: skip
ADDRESSES = ("192.0.2.1", "192.0.2.2", "192.0.2.3")


def moment() -> datetime:
    return datetime.now(UTC)


def trust_of(part: Descents) -> str:
    """What we make of a name: the worst of the way to it and of those of its aliases."""
    assert part.descent is not None
    found = [leg.chain.trust if leg.chain is not None else "unverified" for leg in part.descent.legs]
    return max(found, key=["signed", "insecure", "unverified", "bogus"].index)


def why_of(part: Descents) -> list[str]:
    assert part.descent is not None
    return [finding.text for finding in part.findings()]


def planted_at(worlds: Worlds, name: str) -> tuple[str, str]:
    top = name.rstrip(".").rpartition(".")[2] + "."
    return worlds.planted[top], worlds.planted[f"z.{top}"]


def _validated(answer: Answer) -> str:
    """What a validating resolver makes of a name, by its answer."""
    if answer.status == "SERVFAIL":
        return "bogus"
    assert answer.status in ("NOERROR", "NXDOMAIN"), answer.status
    return "signed" if is_authentic(answer.message) else "insecure"


CODES: dict[str, set[str]] = {
    "expired": {"sig.expired"}, "not yet": {"sig.not-yet-valid"}, "one set expired": {"sig.expired"},
    "one set unsigned": {"sig.missing"}, "keys unsigned": {"sig.missing"}, "keys by the zone key": {"sig.missing"},
    "signature spoilt": {"sig.wrong"}, "record changed": {"sig.wrong"}, "by a stranger": {"sig.unknown-key"},
    "zone key removed": {"sig.unknown-key"}, "no DS": {"sig.island"}, "wrong digest": {"sig.ds-mismatch"},
    "wrong tag": {"sig.ds-mismatch"}, "another's DS": {"sig.ds-mismatch"}, "a DS more": {"sig.ds-extra"},
    "DS of the zone key": {"sig.missing"}, "SHA-1": {"sig.digest"},
    "SHA-1 right, SHA-256 wrong": {"sig.ds-half", "sig.ds-extra"}, "SHA-256 right, SHA-1 wrong": {"sig.ds-extra"},
    "unknown digest": {"sig.ds-unusable"}, "unknown algorithm": {"sig.ds-unusable"}, "unsigned below a DS": {"sig.not-signed"},
    "NSEC3 salted": {"sig.hash-parameters"}, "NSEC3 60 times": {"sig.hash-iterations"}, "RSASHA1": {"sig.algorithm"},
    "NSEC3 opt-out": {"sig.opt-out"}, "denial gone": {"sig.denial"},
    "denial unsigned": {"sig.missing"}, "denials expired": {"sig.expired"}, "NSEC3 denial gone": {"sig.denial"},
    "NSEC3 denial unsigned": {"sig.missing"}, "NSEC3 denials expired": {"sig.expired"},
}  # fmt: skip
"""What is said of a zone in which that is planted; of one that is not listed, nothing."""


def test_each_planting_is_found_by_its_code_on_its_server_and_nothing_else_is_said(tmp_path: Path) -> None:
    worlds = make_worlds(0, len(PLANTINGS), int(time.time()), ADDRESSES, sound_above=True)
    with (
        nsd(tmp_path / "root", worlds.roots) as root,
        nsd(tmp_path / "tops", worlds.tops) as tops,
        nsd(tmp_path / "zones", worlds.zones) as zones,
    ):
        text = estate_text(worlds, (root, tops, zones))
        text += f'[servers.low]\naddress = "127.0.0.1"\nport = {zones.port}\n'
        text += f'[servers.high]\naddress = "127.0.0.1"\nport = {tops.port}\n'
        for zone in worlds.zones:
            (tmp_path / f"{zone}.zone").write_text(f"$ORIGIN {zone}.\n{content_at(ADDRESSES[2])}", encoding="utf-8")
            text += f'[[zones]]\nname = "{zone}"\nview = "public"\nservers = ["low"]\nexpect = ["{zone}.zone"]\n'
            above = zone.partition(".")[2]
            text += f'[[zones]]\nname = "{above}"\nview = "public"\nservers = ["high"]\n'
        (tmp_path / "estate.toml").write_text(text, encoding="utf-8")
        estate = load_estate(tmp_path / "estate.toml")
        atlas = Atlas(estate)
        with Engine(timeout_s=2.0) as engine:
            part = Inspection([(zone.apex, zone.view) for zone in estate.all_zones()], atlas)
            carry_out(part, Setting(moment()), Runner(engine))
    found: dict[str, set[str]] = {planting: set() for planting in PLANTINGS}
    for finding in part.findings():
        if finding.code.startswith("sig."):
            found[worlds.planted[finding.name]].add(finding.code)
            assert finding.server in (msgspec.UNSET, zones.endpoint), finding
    assert found == {planting: CODES.get(planting, set()) for planting in PLANTINGS}


def test_a_resolver_validates_or_not_or_has_the_anchor_of_yesterday(tmp_path: Path, run: Run) -> None:
    number = list(PLANTINGS).index("expired")
    worlds = make_worlds(0, number + 1, int(time.time()), ADDRESSES, sound_above=True)
    other = make_worlds(1, 1, int(time.time()), ADDRESSES).anchor.replace(" 15 2 ", " 15 2 00")[:-2]
    with (
        nsd(tmp_path / "root", worlds.roots) as root,
        nsd(tmp_path / "tops", worlds.tops) as tops,
        nsd(tmp_path / "zones", worlds.zones) as zones,
    ):
        behind = {".": root, **dict.fromkeys(worlds.tops, tops), **dict.fromkeys(worlds.zones, zones)}
        validator = "validator iterator"
        anchored, lost = [f'trust-anchor: "{worlds.anchor}"'], [f'trust-anchor: "{other}"']
        with (
            unbound(tmp_path / "yes", {}, behind=behind, settings=anchored, modules=validator, known=".") as yes,
            unbound(tmp_path / "no", {}, behind=behind, known=".") as no,
            unbound(tmp_path / "old", {}, behind=behind, settings=lost, modules=validator, known="invalid") as old,
        ):
            text = '[resolver_tests]\nexternal = []\nsigned = ["www.z.t0"]\n'
            text += f'broken = ["www.z.t{number}"]\n'
            for label, server in (("yes", yes), ("no", no), ("old", old)):
                text += f'[resolvers.{label}]\naddress = "127.0.0.1"\nport = {server.port}\n'
            text += '[[zones]]\nname = "t0"\nview = "public"\nservers = ["high"]\n'
            text += f'[servers.high]\naddress = "127.0.0.1"\nport = {tops.port}\n'
            (tmp_path / "estate.toml").write_text(text, encoding="utf-8")
            watched = run("settle", "z.t0", "DS", "--at", "yes,no", "--within", "60s", "--json").report
            report = run("resolvers", "--json").report
    notes = {row["vantage"]: row["notes"] for row in watched["vantages"]}
    assert notes["yes"] == ["validates the new"] and notes["no"] == ["has the new, without having validated it"]
    found = {
        (one["code"], one["server"]) for one in report["findings"] if "anchor" in one["code"] or "valid" in one["code"]
    }
    assert found == {("res.no-validation", no.endpoint), ("res.trust-anchor", old.endpoint)}
    rows = [row for test in report["tests"] for row in test["tests"] if row["title"] == "validation"]
    assert "validates: www.z.t0. came as authentic, and www.z.t" in rows[0]["says"]


def estate_text(worlds: Worlds, servers: Sequence[Server]) -> str:
    """The estate of some worlds: their trust anchor, their root, and where the published addresses are reached."""
    places = zip(ADDRESSES, servers, strict=True)
    reach = "".join(f'"{address}" = "127.0.0.1:{server.port}"\n' for address, server in places)
    return f'trust_anchors = [\'{worlds.anchor}\']\n[roots]\n"ns" = ["{ADDRESSES[0]}"]\n[reach]\n{reach}'


NSEC3 = {"bind": ["iterations 0 optout no salt-length 0"], "knot": ["on"], "pdns": ["on", "narrow"]}
OPT_OUT = {"bind": "iterations 0 optout yes salt-length 0", "knot": "opt-out", "pdns": "opt-out"}


def said_of(folder: Path, parent: Server, *servers: Server) -> set[tuple[str, str]]:
    """The codes of signatures that `authority` finds, each with the server that it means, if it means one."""
    text = '[[zones]]\nname = "example"\nview = "public"\nservers = ["above"]\n'
    labels = [f"s{number}" for number in range(len(servers))]
    text += (
        f'[[zones]]\nname = "{CHILD}"\nview = "public"\nservers = {json.dumps(labels)}\nexpect = ["expected.zone"]\n'
    )
    for label, server in (("above", parent), *zip(labels, servers, strict=True)):
        text += f'[servers.{label}]\naddress = "127.0.0.1"\nport = {server.port}\n'
    text += f'[reach]\n"192.0.2.1" = "127.0.0.1:{parent.port}"\n' + "".join(
        f'"{address}" = "127.0.0.1:{server.port}"\n'
        for address, server in zip(("192.0.2.53", "198.51.100.53"), (*servers, servers[0]), strict=False)
    )
    (folder / "expected.zone").write_text(f"$ORIGIN {CHILD}.\n{TEXT}x.wild A 192.0.2.81\n", encoding="utf-8")
    (folder / "estate.toml").write_text(text, encoding="utf-8")
    estate = load_estate(folder / "estate.toml")
    with Engine(timeout_s=2.0) as engine:
        part = Inspection([(from_text(CHILD), "public")], Atlas(estate))
        carry_out(part, Setting(moment()), Runner(engine))
    places = {server.endpoint: label for label, server in zip(labels, servers, strict=True)}
    found = [one for one in part.findings() if one.code.startswith("sig.")]
    return {(one.code, places[one.server] if one.server else "") for one in found}


def looked_over(zone: dns.zone.Zone) -> dict[Flaw, list[tuple[bytes, int]]]:
    """What the dates and keys of a whole zone show."""
    records = [
        Record(name.to_digestable(), int(rdata.rdtype), ttl, rdata.to_digestable())
        for name, ttl, rdata in zone.iterate_rdatas()
    ]
    keys = keys_in(tuple(record.rdata for record in records if record.rdtype == DNSKEY))
    return look_over(Holding(from_text(CHILD), records), keys, time.time()).flawed


@pytest.mark.parametrize("kind", SIGNERS)
def test_what_a_server_signs_by_itself_is_sound_and_every_fault_is_found_on_its_server(
    tmp_path: Path, kind: str
) -> None:
    with SIGNERS[kind](tmp_path / "sound") as one:
        ds = ds_of(one)
        with above(tmp_path / "good", ds) as parent:
            assert said_of(tmp_path, parent, one) == set()
            copy = whole_zone(one)
            assert looked_over(copy) == {}
            copy.delete_rdataset(dns.name.from_text(f"www.{CHILD}."), "RRSIG", "A")
            with nsd(tmp_path / "lacking", {CHILD: copy.to_text(relativize=False) + "\n"}) as lacking:
                assert said_of(tmp_path, parent, one, lacking) == {("sig.missing", "s1")}
            with nsd(tmp_path / "unsigned", {CHILD: TEXT}) as unsigned:
                assert said_of(tmp_path, parent, one, unsigned) == {("sig.unsigned-copy", "s1")}
        with above(tmp_path / "wrong", [f"{ds[0].rpartition(' ')[0]} {'00' * 32}"]) as parent:
            # Knot also says which DS it wants (CDS), and the parent does not have that
            assert said_of(tmp_path, parent, one) - {("sig.parent-waits", "")} == {("sig.ds-mismatch", "")}
        with above(tmp_path / "none", []) as parent:
            assert {code for code, _ in said_of(tmp_path, parent, one)} <= {"sig.island", "sig.parent-waits"}
    with SIGNERS[kind](tmp_path / "old", days_ago=40) as old, above(tmp_path / "over", ds_of(old)) as parent:
        assert said_of(tmp_path, parent, old) == {("sig.expired", "s0")}
    for how in NSEC3[kind]:
        with SIGNERS[kind](tmp_path / how, nsec3=how) as one, above(tmp_path / f"over {how}", ds_of(one)) as parent:
            assert said_of(tmp_path, parent, one) == set()
    with SIGNERS[kind](tmp_path / "open", nsec3=OPT_OUT[kind]) as one, above(tmp_path / "out", ds_of(one)) as parent:
        assert said_of(tmp_path, parent, one) == {("sig.opt-out", "")}


def test_a_change_of_keys_that_is_under_way_is_no_fault_and_half_of_one_is(tmp_path: Path) -> None:
    with bind_signing(tmp_path / "rolling", rolling=True) as one:
        old, new = ds_of(one)
        for name, ds in (("old", [old]), ("both", [old, new]), ("new", [new])):
            with above(tmp_path / name, ds) as parent:
                assert said_of(tmp_path, parent, one) == set(), name
        copy = whole_zone(one)
        keys = copy.find_rdataset(dns.name.from_text(f"{CHILD}."), "DNSKEY")
        signing_key = next(key for key in keys if dns.dnssec.key_id(key) == signer_of(copy))
        keys.discard(signing_key)  # type: ignore[no-untyped-call]
        with (
            nsd(tmp_path / "removed", {CHILD: copy.to_text(relativize=False) + "\n"}) as removed,
            above(tmp_path / "again", [old]) as parent,
        ):
            codes = {code for code, server in said_of(tmp_path, parent, one, removed) if server == "s1"}
        assert codes == {"sig.unknown-key", "sig.wrong"}  # all sets, and the key set that was signed before


def signer_of(zone: dns.zone.Zone) -> int:
    """The tag of the key that signs the SOA."""
    return int(zone.find_rdataset(dns.name.from_text(f"{CHILD}."), "RRSIG", "SOA")[0].key_tag)


KEY = Key(from_text("mirror.test"), "hmac-sha256", bytes(range(32)))


def estate_with_key(folder: Path, parent: Server, *servers: Server, key: str = 'update_key = "mirror.test"\n') -> None:
    """The zone above and the signed one, of which something is expected that is not there."""
    (folder / "key").write_text(secret_text(KEY), encoding="utf-8")
    (folder / "expected.zone").write_text(f"$ORIGIN {CHILD}.\n{TEXT}new A 192.0.2.90\n", encoding="utf-8")
    text = (
        '[keys."mirror.test"]\nsecret_file = "key"\n[[zones]]\nname = "example"\nview = "public"\nservers = ["above"]\n'
    )
    labels = [f"s{number}" for number in range(len(servers))]
    text += f'[[zones]]\nname = "{CHILD}"\nview = "public"\nservers = {json.dumps(labels)}\nexpect = ["expected.zone"]\n{key}'
    for label, server in (("above", parent), *zip(labels, servers, strict=True)):
        text += f'[servers.{label}]\naddress = "127.0.0.1"\nport = {server.port}\n'
    text += f'[reach]\n"192.0.2.1" = "127.0.0.1:{parent.port}"\n' + "".join(
        f'"{address}" = "127.0.0.1:{servers[0].port}"\n' for address in ("192.0.2.53", "198.51.100.53")
    )
    (folder / "estate.toml").write_text(text, encoding="utf-8")


def test_a_zone_that_its_server_signs_takes_updates_and_one_that_it_does_not_sign_is_told(
    tmp_path: Path, run: Run
) -> None:
    with knot_signing(tmp_path / "signs", key=KEY) as one, above(tmp_path / "over", ds_of(one)) as parent:
        estate_with_key(tmp_path, parent, one)
        done = run("mend", "--only", CHILD, "--apply", "--yes", "--json", "--undo", "one.undo")
        assert "was carried out, and every server has it; 0 faults left" in done.report["says"], done.out + done.err
        assert not [
            code for code in found(run("audit", "--only", CHILD, "--json")) if code.startswith(("sig.", "roll."))
        ]
        whole = whole_zone(one).to_text(relativize=False) + "\n"
        estate_with_key(tmp_path, parent, one, key="")
        (tmp_path / "expected.zone").write_text(f"$ORIGIN {CHILD}.\n{TEXT}newer A 192.0.2.91\n", encoding="utf-8")
        told = run("mend", "--only", CHILD, "--json").report
        assert any("have it signed anew after it is changed" in remark for remark in told["remarks"]), json.dumps(told)
        with knot_signing(tmp_path / "still", key=KEY, text=whole, signs=False) as other:
            estate_with_key(tmp_path, parent, other)
            (tmp_path / "expected.zone").write_text(f"$ORIGIN {CHILD}.\n{TEXT}newer A 192.0.2.91\n", encoding="utf-8")
            done = run("mend", "--only", CHILD, "--apply", "--yes", "--json", "--undo", "two.undo")
            assert done.status == 1 and {"sig.wrong", "sig.missing"} & set(found(done)), done.out


@pytest.mark.seeded
@pytest.mark.parametrize("seed", seeds(1))
def test_what_unbound_calls_bogus_we_call_bogus_and_the_other_way_round(tmp_path: Path, seed: int) -> None:
    """200 worlds of a root, a zone and a zone below that, each with something planted; Unbound validates by the root's
    anchor."""
    worlds = make_worlds(seed, 200, int(time.time()), ADDRESSES)
    minimal = "server:\n  minimal-responses: yes"  # what stands beside an answer is no part of it
    with (
        nsd(tmp_path / "root", worlds.roots, extra=minimal) as root,
        nsd(tmp_path / "tops", worlds.tops, extra=minimal) as tops,
        nsd(tmp_path / "zones", worlds.zones, extra=minimal) as zones,
    ):
        behind = {".": root, **dict.fromkeys(worlds.tops, tops), **dict.fromkeys(worlds.zones, zones)}
        settings = [
            f'trust-anchor: "{worlds.anchor}"',
            "val-log-level: 2",
            "qname-minimisation: no",
            "aggressive-nsec: no",
        ]
        estate = tmp_path / "estate.toml"
        estate.write_text(estate_text(worlds, (root, tops, zones)), encoding="utf-8")
        with (
            unbound(
                tmp_path / "unbound", {}, behind=behind, settings=settings, modules="validator iterator", known="."
            ) as judge,
            Engine(timeout_s=10.0) as engine,  # many wait for one cache at a time
        ):
            wrong = []
            runner = Runner(engine)
            asked = [(f"{label}.{zone}.", rdtype) for zone in worlds.zones for label, rdtype in ASKED]
            questions = [
                Question(from_text(name), type_from_text(kind), judge.again(signed=True), True) for name, kind in asked
            ]
            told: dict[tuple[bytes, int], str] = {}
            for at in range(0, len(questions), 64):  # it drops what is too much at a time
                batch = questions[at : at + 64]
                for question in batch:
                    engine.submit(question)
                while len(told) < at + len(batch):
                    for answer in engine.collect():
                        told[answer.question[:2]] = _validated(answer)
            atlas = Atlas(load_estate(estate))
            for name, kind in asked:
                part = Descents(from_text(name), type_from_text(kind), atlas, first=True)
                carry_out(part, Setting(moment()), runner)
                ours = trust_of(part)
                theirs = told[from_text(name), type_from_text(kind)]
                assert (ours == "bogus") == any(finding.code == "cut.bogus" for finding in part.findings())
                if ours != theirs:
                    wrong.append((name, kind, "ours", ours, "theirs", theirs, planted_at(worlds, name), why_of(part)))
            assert not wrong, "\n".join(map(str, wrong[:40])) + f"\n{len(wrong)} of {len(asked)}"
