"""A network renumbered on a real BIND with a real NSD behind it: every phase is rehearsed, sent, and judged by an audit."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import ExitStack
from pathlib import Path

import dns.query
import dns.zone
import pytest

from salt_mirror.dns.names import from_text
from salt_mirror.dns.questions import Key, Server
from support import realservers
from support.program import Run

pytestmark = pytest.mark.real
KEY = Key(from_text("mirror.test"), "hmac-sha256", bytes(range(32)))
SOA = "@ SOA ns.pans.example. h.pans.example. 7 3600 600 1209600 300\n"
HEAD = f"$TTL 3600\n{SOA}@ NS ns.pans.example.\n@ NS two.pans.example.\n"
ZONES = {
    "pans.example": HEAD
    + """ns A 192.0.2.53
two A 10.77.20.53
@ TXT "v=spf1 ip4:10.77.20.0/24 ip4:192.0.2.0/24 -all"
acl TXT "allow 10.77.20.1; deny all"
h1 A 10.77.20.1
h1 TXT "left alone"
h2 A 10.77.20.2
h2 A 192.0.2.2
both A 10.77.20.1
bare A 10.77.20.9
elsewhere A 192.0.2.7
*.pool A 10.77.20.8
""",
    "20.77.10.in-addr.arpa": HEAD
    + """1 PTR h1.pans.example.
2 PTR h2.pans.example.
53 PTR two.pans.example.
77 PTR printer.other.example.
99 PTR gone.pans.example.
""",
    "20.88.10.in-addr.arpa": HEAD,
    "2.0.192.in-addr.arpa": HEAD + "2 PTR h2.pans.example.\n7 PTR elsewhere.pans.example.\n53 PTR ns.pans.example.\n",
    "7.7.0.0.8.b.d.0.1.0.0.2.ip6.arpa": HEAD,
}
LISTED = "h1 A 10.77.20.1\nh2 A 10.77.20.2\n   A 192.0.2.2\nboth A 10.77.20.1 ; the same machine\n"


@pytest.fixture
def primary(tmp_path: Path) -> Iterator[Server]:
    """A primary that takes changes, a secondary that follows it, and the estate of both."""
    with ExitStack() as stack:
        port = realservers.free_port()
        first = stack.enter_context(
            realservers.bind(tmp_path / "bind", ZONES, key=KEY, updates=True, open_to_all=True, notify=port)
        )
        stack.enter_context(realservers.nsd(tmp_path / "nsd", ZONES, secondary=realservers.following(first), port=port))
        (tmp_path / "hosts.zone").write_text(LISTED, encoding="utf-8")
        (tmp_path / "key").write_text(realservers.secret_text(KEY), encoding="utf-8")
        text = '[keys."mirror.test"]\nsecret_file = "key"\n[reach]\n'
        text += f'"192.0.2.53" = "127.0.0.1:{first.port}"\n"10.77.20.53" = "127.0.0.1:{port}"\n'
        for zone in ZONES:
            expect = 'expect = ["hosts.zone"]\n' if zone == "pans.example" else ""
            text += f'[[zones]]\nname = "{zone}"\nservers = ["bind", "nsd"]\nupdate_key = "mirror.test"\n{expect}'
        for label, at in (("bind", first.port), ("nsd", port)):
            text += f'[servers.{label}]\naddress = "127.0.0.1"\nport = {at}\n'
        (tmp_path / "estate.toml").write_text(text, encoding="utf-8")
        yield first


def sets_of(server: Server) -> dict[tuple[str, str], tuple[int, set[str]]]:
    """Every set of the zones as the server has them now, with its TTL; the SOA left out."""
    found: dict[tuple[str, str], tuple[int, set[str]]] = {}
    for zone in ZONES:
        held = dns.zone.from_xfr(dns.query.xfr(server.host, zone, port=server.port, relativize=False), relativize=False)
        for name, rdataset in held.iterate_rdatasets():
            if rdataset.rdtype != dns.rdatatype.SOA:
                key = (name.to_text(), dns.rdatatype.to_text(rdataset.rdtype))
                found[key] = rdataset.ttl, {rdata.to_text() for rdata in rdataset}
    return found


def faults(run: Run) -> set[tuple[str, str, str]]:
    """The faults that an audit of the whole zones finds now, those of the old network by its new addresses."""
    done = run("audit", "--transfer", "--json")
    return {
        (one["code"], *(text.replace("10.77.20.", "10.88.20.").replace("20.77.10.", "20.88.10.") for text in places))
        for one in done.document["findings"]
        if one["weight"] == "fault" and one["outcome"] == "differs"
        for places in [(one["name"], one["address"] or one["type"])]
    }


def renumbered(value: str) -> str:
    return value.replace("10.77.20.", "10.88.20.")


def test_no_phase_of_a_renumbering_causes_a_fault_and_the_end_is_the_new_network(
    run: Run, primary: Server, tmp_path: Path
) -> None:
    before, first = sets_of(primary), faults(run)
    plan = ("rehearse", "--renumber", "10.77.20.0/24=10.88.20.0/24", "--write", "plan", "--json")
    done = run(*plan)
    assert done.status == 0, done.out
    phases = [row["phase"] for row in done.document["rehearsal"]["phases"]]
    assert phases == ["lower", "add", "switch", "remove"]
    assert any("10.77.20.53" in remark and "reach" not in remark for remark in done.document["remarks"])
    estate = (tmp_path / "estate.toml").read_text(encoding="utf-8")
    for phase in phases:
        if phase == "switch":
            (tmp_path / "hosts.zone.renumbered").replace(tmp_path / "hosts.zone")
            moved = estate.replace('"10.77.20.53" =', '"10.88.20.53" =')
            (tmp_path / "estate.toml").write_text(moved, encoding="utf-8")
        sent = run("mend", "--plan", "plan.jsonl", "--phase", phase, "--apply", "--yes", "--undo", f"{phase}.undo")
        assert "carried out, and every server has" in sent.out, (phase, sent.out, sent.err)
        assert faults(run) <= first, (phase, faults(run) - first)
        now = sets_of(primary)
        if phase == "add":
            spf = now["pans.example.", "TXT"][1]
            assert spf == {'"v=spf1 ip4:10.77.20.0/24 ip4:10.88.20.0/24 ip4:192.0.2.0/24 -all"'}
    wanted = {
        key: (ttl, {renumbered(value) for value in values} if key[1] in ("A", "TXT") else values)
        for key, (ttl, values) in before.items()
        if "20.77.10.in-addr.arpa." not in key[0] or key[1] == "NS"
    }
    pointers = {1: {"h1.pans.example."}, 2: {"h2.pans.example."}, 53: {"two.pans.example."}, 9: {"bare.pans.example."}}
    pointers[77] = {"printer.other.example."}
    wanted |= {(f"{number}.20.88.10.in-addr.arpa.", "PTR"): (3600, names) for number, names in pointers.items()}
    assert sets_of(primary) == wanted
    assert run("compare", "--plan", "plan.jsonl").status == 0


def test_ipv6_is_added_beside_ipv4_and_a_list_of_hosts_leaves_the_others(
    run: Run, primary: Server, tmp_path: Path
) -> None:
    before = sets_of(primary)
    (tmp_path / "some").write_text("h2\n", encoding="utf-8")
    move = "10.77.20.0/24=2001:db8:77:20::/64"
    assert run("rehearse", "--renumber", move, "--hosts", "some", "--write", "six", "--quiet").status == 0
    sent = run("mend", "--plan", "six.jsonl", "--phase", "add", "--apply", "--yes")
    assert "and every server has them" in sent.out, sent.out
    after = sets_of(primary)
    new = {key: value for key, value in after.items() if before.get(key) != value}
    reverse = "2.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.2.0.0.7.7.0.0.8.b.d.0.1.0.0.2.ip6.arpa."
    assert new.pop(("pans.example.", "TXT"))[1] == {
        '"v=spf1 ip4:10.77.20.0/24 ip6:2001:db8:77:20::/64 ip4:192.0.2.0/24 -all"'
    }
    assert new == {
        ("h2.pans.example.", "AAAA"): (3600, {"2001:db8:77:20::2"}),
        (reverse, "PTR"): (3600, {"h2.pans.example."}),
    }
