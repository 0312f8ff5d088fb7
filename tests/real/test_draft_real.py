"""Drafts from real servers: three NSD with thirty zones and their reverse zones, a catalog zone, and zones that Knot hands
over to whoever signs."""

from __future__ import annotations

import tomllib
from collections.abc import Iterator
from contextlib import ExitStack
from pathlib import Path
from typing import Any

import pytest

from salt_mirror.dns.names import from_text
from salt_mirror.dns.questions import Key, Server
from support.program import Run
from support.realservers import bind, free_port, knot, nsd, pdns, secret_text, unbound

pytestmark = pytest.mark.real

TOP = "works.example"
CHILDREN = [f"p{number:02}.{TOP}" for number in range(1, 26)] + [f"deep.p{number:02}.{TOP}" for number in range(1, 5)]
REVERSE = ["1.88.10.in-addr.arpa", "2.88.10.in-addr.arpa", "2.0.192.in-addr.arpa"]
KEPT, LAME = f"p07.{TOP}", f"p09.{TOP}"
"""The zone that nobody hands over, and the one for which the third server is listed and does not answer."""
SOA = f"$TTL 300\n@ SOA one.{TOP}. host.{TOP}. 2026112501 7200 900 1209600 300\n"
NS = "".join(f"@ NS {label}.{TOP}.\n" for label in ("one", "two", "three"))
ADDRESSES = {"one": "192.0.2.1", "two": "192.0.2.2", "three": "192.0.2.3"}


def world() -> dict[str, str]:
    zones = dict.fromkeys((TOP, *CHILDREN, *REVERSE), SOA + NS)
    zones[TOP] += "".join(f"{label} A {address}\n" for label, address in ADDRESSES.items())
    zones["2.0.192.in-addr.arpa"] += "".join(
        f"{address[-1]} PTR {label}.{TOP}.\n" for label, address in ADDRESSES.items()
    )
    for number, origin in enumerate(CHILDREN, 1):
        above = origin.partition(".")[2]
        zones[above] += "".join(f"{origin}. NS {label}.{TOP}.\n" for label in ADDRESSES)
        network = 1 + number % 2
        zones[origin] += f"brine A 10.88.{network}.{number}\n"
        zones[f"{network}.88.10.in-addr.arpa"] += f"{number} PTR brine.{origin}.\n"
    zones["2.88.10.in-addr.arpa"] += f"200 PTR gone.{TOP}.\n"
    return zones


@pytest.fixture(scope="module")
def three(tmp_path_factory: pytest.TempPathFactory) -> Iterator[dict[str, Server]]:
    folder = tmp_path_factory.mktemp("three")
    zones = world()
    with ExitStack() as stack:
        yield {
            label: stack.enter_context(
                nsd(
                    folder / label,
                    {origin: text for origin, text in zones.items() if (label, origin) != ("three", LAME)},
                    provide="" if label == "one" else "127.0.0.1 NOKEY",
                    keeping=frozenset((KEPT,)),
                )
            )
            for label in ADDRESSES
        }


def reached(servers: dict[str, Server]) -> str:
    """The one thing that a draft cannot ask for: that published addresses are ports of this computer."""
    return "[reach]\n" + "".join(f'"{ADDRESSES[label]}" = "{server.endpoint}"\n' for label, server in servers.items())


def estate_in(folder: Path) -> dict[str, Any]:
    return tomllib.loads((folder / "estate.toml").read_text(encoding="utf-8"))


def zones_in(estate: dict[str, Any]) -> dict[str, dict[str, Any]]:
    return {zone["name"]: zone for zone in estate["zones"]}


def test_one_server_and_one_domain_give_every_zone_and_server(
    run: Run, three: dict[str, Server], tmp_path: Path
) -> None:
    (tmp_path / "estate.toml").write_text(reached(three), encoding="utf-8")
    done = run("draft", TOP, three["two"].endpoint, "--transfer", "--add")
    assert done.status == 0 and done.out.startswith("33 zones on 3 servers: 33 zones, 3 servers added to estate.toml.")
    estate = estate_in(tmp_path)
    zones = zones_in(estate)
    assert set(zones) == {TOP, *CHILDREN, "10.88.1.0/24", "10.88.2.0/24", "192.0.2.0/24"}
    assert estate["servers"] == {label: {"address": address} for label, address in ADDRESSES.items()}
    assert {name for name, zone in zones.items() if zone["servers"] != ["one", "three", "two"]} == {LAME}
    assert zones[LAME]["servers"] == ["one", "two"]
    assert {name for name, zone in zones.items() if "transfer" not in zone} == {KEPT}
    text = (tmp_path / "estate.toml").read_text(encoding="utf-8")
    assert (
        f"# three is in the NS set of {LAME}, and does not answer for it: answers without\n# authority.\n[[zones]]"
        in text
    )
    assert (
        f"{KEPT}.: handed over by none of its servers" in done.out
        and f"three is named as a server of {LAME}." in done.out
    )
    audit = run("audit", "--json").report
    faults = {(one["code"], one["name"]) for one in audit["findings"] if one["weight"] == "fault"}
    assert faults == {("auth.lame", f"{LAME}."), ("pair.lost-pointer", f"gone.{TOP}.")}


def test_what_is_registered_is_expected_but_for_what_looks_wrong(
    run: Run, three: dict[str, Server], tmp_path: Path
) -> None:
    (tmp_path / "estate.toml").write_text(reached(three), encoding="utf-8")
    done = run("draft", TOP, three["two"].endpoint, "--transfer", "--add", "--expect", "registered")
    assert done.status == 0 and "1 record looks wrong, and is not among them" in done.out
    review = (tmp_path / "records" / "REVIEW.md").read_text(encoding="utf-8")
    assert review.startswith("# 1 record left out") and f"`200.2.88.10.in-addr.arpa. PTR` `gone.{TOP}.`" in review
    # The zone that nobody hands over is known by the pointers that lead into it.
    assert f"brine.{KEPT}. 300 IN A" in (tmp_path / "records" / f"{KEPT}.zone").read_text(encoding="utf-8")
    assert set(zones_in(estate_in(tmp_path))["10.88.2.0/24"]["expect"]) == {"records/2.88.10.in-addr.arpa.zone"}
    roll = run("rollcall", "--json").report
    assert roll["outcome"] == "agrees" and roll["counts"]["agrees"] > 60
    codes = {one["code"] for one in run("audit", "--json").report["findings"] if one["weight"] == "fault"}
    assert codes == {"auth.lame", "pair.lost-pointer"}


def test_without_transfer_it_finds_what_can_be_asked_for(run: Run, three: dict[str, Server], tmp_path: Path) -> None:
    (tmp_path / "estate.toml").write_text(reached(three), encoding="utf-8")
    done = run("draft", TOP, "10.88.1.0/24", three["one"].endpoint, "--add")
    assert done.status == 0 and "--transfer takes them where their servers allow it" in done.out
    zones = zones_in(estate_in(tmp_path))
    swept = {origin for number, origin in enumerate(CHILDREN, 1) if number % 2 == 0}
    assert set(zones) >= {TOP, "10.88.1.0/24", *swept} and not any("transfer" in zone for zone in zones.values())


def test_a_catalog_zone_is_a_list_of_zones(run: Run, tmp_path: Path) -> None:
    members = ["a.example", "b.example", "0.88.10.in-addr.arpa"]
    lines = "".join(f"m{number}.zones PTR {origin}.\n" for number, origin in enumerate(members))
    lines += "twice.zones PTR c.example.\ntwice.zones PTR d.example.\nx.m1.zones PTR e.example.\n"
    soa = "$TTL 0\n@ SOA invalid. invalid. 1 3600 600 1209600 0\n@ NS invalid.\n"
    zones = dict.fromkeys((*members, "c.example", "e.example"), SOA + f"@ NS one.{TOP}.\n")
    zones["catalog.example"] = soa + 'version TXT "2"\n' + lines
    zones["plain.example"] = SOA + f"@ NS one.{TOP}.\n"
    with nsd(tmp_path / "nsd", zones, provide="127.0.0.1 NOKEY") as server:
        done = run("draft", "--catalog", f"catalog.example@{server.endpoint}", "--folder", "new")
        assert done.status == 0, done.err
        estate = estate_in(tmp_path / "new")
        assert set(zones_in(estate)) == {"a.example", "b.example", "10.88.0.0/24"}
        assert all(zone["servers"] == [server.endpoint] for zone in estate["zones"])
        wrong = run(
            "draft", "--catalog", f"plain.example@{server.endpoint}", "a.example", server.endpoint, "--folder", "other"
        )
        assert "plain.example. is no catalog zone: it has no version.plain.example. TXT" in wrong.out


def test_a_key_opens_zones_and_only_its_name_is_written(run: Run, tmp_path: Path) -> None:
    key = Key(from_text("mirror.test"), "hmac-sha256", b"salt" * 8)
    (tmp_path / "mirror.key").write_text(secret_text(key) + "\n", encoding="utf-8")
    zones = {
        "works.example": SOA + "@ NS one\none A 127.0.0.1\npan NS one\n",
        "pan.works.example": SOA + f"@ NS one.{TOP}.\n",
    }
    port = free_port()
    with knot(tmp_path / "knot", zones, key=key, port=port):
        given = ("draft", TOP, f"127.0.0.1:{port}", "--transfer")
        closed = run(*given, "--folder", "closed")
        assert set(zones_in(estate_in(tmp_path / "closed"))) == {TOP} and "or give --key NAME:FILE" in closed.out
        done = run(*given, "--key", "mirror.test:mirror.key", "--folder", "open")
        assert done.status == 0 and done.out.startswith("2 zones on 1 server: open"), done.out
        text = (tmp_path / "open" / "estate.toml").read_text(encoding="utf-8")
        assert secret_text(key) not in text + done.out
        estate = tomllib.loads(text)
        assert estate["keys"] == {"mirror.test": {"secret_file": "../mirror.key"}}
        assert estate["servers"][f"127.0.0.1:{port}"] == {"address": "127.0.0.1", "port": port, "key": "mirror.test"}
        assert run("rollcall", "--as-held-by", f"127.0.0.1:{port}", "--estate", "open/estate.toml").status == 0


def test_a_resolver_alone_leads_to_it_too(run: Run, three: dict[str, Server], tmp_path: Path) -> None:
    """Nobody names a server: a real cache finds the zone's, and the zone's own servers tell the rest."""
    (tmp_path / "estate.toml").write_text(reached(three), encoding="utf-8")
    with unbound(tmp_path / "unbound", {}, behind={TOP: three["one"]}) as resolver:
        done = run("draft", TOP, "--transfer", "--add", resolvers=resolver.endpoint)
    assert done.status == 0 and done.out.startswith("33 zones on 3 servers: 33 zones, 3 servers, 1 resolver added"), (
        done.out
    )
    estate = estate_in(tmp_path)
    assert estate["servers"] == {label: {"address": address} for label, address in ADDRESSES.items()}
    assert estate["resolvers"] == {"system": {"address": "127.0.0.1", "port": resolver.port}}


SMALL = {
    TOP: SOA + f"@ NS here.{TOP}.\nhere A 127.0.0.1\nbrine A 10.88.3.7\n@ MX 10 brine\npan NS here\n",
    f"pan.{TOP}": SOA + f"@ NS here.{TOP}.\nrake A 10.88.3.8\n",
    "3.88.10.in-addr.arpa": SOA + f"@ NS here.{TOP}.\n7 PTR brine.{TOP}.\n8 PTR rake.pan.{TOP}.\n9 PTR gone.{TOP}.\n",
}
KEY = Key(from_text("mirror.test"), "hmac-sha256", b"salt" * 8)


@pytest.mark.parametrize("kind", ["nsd", "knot", "bind", "pdns"])
def test_every_kind_of_server_leads_to_the_same_estate_without_transfer(run: Run, tmp_path: Path, kind: str) -> None:
    makers = {
        "nsd": lambda: nsd(tmp_path / kind, SMALL), "knot": lambda: knot(tmp_path / kind, SMALL, key=KEY),
        "bind": lambda: bind(tmp_path / kind, SMALL, key=KEY), "pdns": lambda: pdns(tmp_path / kind, SMALL),
    }  # fmt: skip
    with makers[kind]() as server:
        (tmp_path / "estate.toml").write_text(f'[reach]\n"127.0.0.1" = "{server.endpoint}"\n', encoding="utf-8")
        done = run("draft", TOP, server.endpoint, "--add", "--expect", "registered")
        assert done.status == 0, done.err
        estate = estate_in(tmp_path)
        assert {zone["name"] for zone in estate["zones"]} == {TOP, f"pan.{TOP}", "10.88.3.0/24"}
        assert estate["servers"] == {"here": {"address": "127.0.0.1"}}
        review = (tmp_path / "records" / "REVIEW.md").read_text(encoding="utf-8")
        assert review.startswith("# 1 record left out") and "`9.3.88.10.in-addr.arpa. PTR`" in review
        roll = run("rollcall", "--json").report
        assert roll["outcome"] == "agrees" and roll["counts"]["differs"] == 0


def test_address_space_that_a_server_only_fills_in_is_no_zone_of_ours(run: Run, tmp_path: Path) -> None:
    """A recursive BIND answers for private address space with empty zones of its own (RFC 6303)."""
    with bind(tmp_path / "bind", {TOP: SMALL[TOP]}, key=KEY, open_to_all=True) as server:
        (tmp_path / "estate.toml").write_text(f'[reach]\n"127.0.0.1" = "{server.endpoint}"\n', encoding="utf-8")
        done = run("draft", TOP, server.endpoint, "--add")
        assert [zone["name"] for zone in estate_in(tmp_path)["zones"]] == [TOP]
        assert (
            "Addresses were seen in 10.88.3.0/24 (1 address), whose reverse zones none of these servers has" in done.out
        )
