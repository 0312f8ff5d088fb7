"""What nobody expects: told of zones in hand, folded by network and pattern; a fault in a closed zone, and then to be
mended."""

from __future__ import annotations

import base64
from pathlib import Path

import dns.name
import dns.tsig
import pytest

from salt_mirror.standin.authority import read_zone
from salt_mirror.standin.server import StandIn, StandIns
from support.program import Run

HEAD = "$TTL 600\n@ SOA ns.pans.example. h.pans.example. 1 3600 600 1209600 300\n@ NS ns.pans.example.\n"
GUESTS = range(100, 141)
FORWARD = (
    HEAD
    + "ns A 192.0.2.1\nh1 A 10.77.20.1\nh2 A 10.77.20.2\nchild NS ns.child\nns.child A 192.0.2.9\n"
    + "_ldap._tcp SRV 0 0 389 h1\nodd MX 10 h1\n"
    + "".join(f'guest{n} A 10.77.20.{n}\nguest{n} TXT "dynamic"\n' for n in GUESTS)
)
POINTERS = "".join(f"{n} PTR guest{n}.pans.example.\n" for n in GUESTS)
REVERSE = HEAD + "1 PTR h1.pans.example.\n2 PTR h2.pans.example.\n" + POINTERS
SECRET = bytes(32)


@pytest.fixture
def server(standins: StandIns, tmp_path: Path) -> StandIn:
    """A server that hands its zones to anyone, and takes changes that are signed; two of its hosts are expected."""
    found = standins.add([read_zone(FORWARD, "pans.example"), read_zone(REVERSE, "20.77.10.in-addr.arpa")])
    found.transfers = True
    found.updates = "signed"
    key = dns.name.from_text("k")
    found.keys[key] = dns.tsig.Key(key, SECRET, dns.tsig.HMAC_SHA256)
    (tmp_path / "k").write_text(base64.b64encode(SECRET).decode("ascii"), encoding="utf-8")
    (tmp_path / "hosts.zone").write_text("h1 A 10.77.20.1\nh2 A 10.77.20.2\nns A 192.0.2.1\n", encoding="utf-8")
    lay_out(tmp_path, found)
    return found


def lay_out(folder: Path, server: StandIn, more: str = "") -> None:
    text = (
        f'[keys.k]\nsecret_file = "k"\n[reach]\n"192.0.2.1" = "{server.endpoint}"\n"192.0.2.9" = "{server.endpoint}"\n'
    )
    text += f'[servers.one]\naddress = "127.0.0.1"\nport = {server.port}\n'
    for zone, expect in (("pans.example", 'expect = ["hosts.zone"]\n'), ("20.77.10.in-addr.arpa", "")):
        text += f'[[zones]]\nname = "{zone}"\nservers = ["one"]\nupdate_key = "k"\n{expect}{more}'
    (folder / "estate.toml").write_text(text, encoding="utf-8")


def test_what_nobody_expects_is_folded_by_network_and_by_pattern(run: Run, server: StandIn, tmp_path: Path) -> None:
    found = run("rollcall", "--unexpected", "--json").report
    notes = [one for one in found["findings"] if one["code"] == "roll.unexpected" and one["type"] != "PTR"]
    texts = {one["name"]: one["text"] for one in notes}
    guests = (
        "none of them expected: guest100.pans.example., guest101.pans.example., guest102.pans.example. and 38 more."
    )
    assert found["outcome"] == "agrees" and texts == {
        "20.77.10.in-addr.arpa.": f"41 names with A records in 10.77.20.0/24, {guests}",
        "guest*.pans.example.": f"41 names with TXT records like guest*.pans.example., {guests}",
        "odd.pans.example.": "1 name with MX records at odd.pans.example., none of them expected: odd.pans.example.",
    }
    (pointers,) = (one for one in found["findings"] if one["type"] == "PTR")
    assert pointers["text"].startswith("41 names with PTR records in 10.77.20.0/24")
    assert "roll.unexpected" not in run("rollcall", "--json").out
    server.transfers = False
    refused = run("rollcall", "--unexpected")
    assert "roll.unexpected" not in refused.out and "did not transfer" in refused.out


def test_in_a_closed_zone_it_is_a_fault_unless_allowed_and_is_mended_once_somebody_says_so(
    run: Run, server: StandIn, tmp_path: Path
) -> None:
    lay_out(tmp_path, server, 'transfer = true\nclosed = true\nallow = ["guest*", "1??.20.77.10.in-addr.arpa"]\n')
    done = run("audit", "--json").report
    (fault,) = (one for one in done["findings"] if one["weight"] == "fault")
    assert (fault["code"], fault["name"], fault["type"]) == ("roll.not-allowed", "odd.pans.example.", "MX")
    assert run("mend").out.startswith("Nothing is ours to change of 1 fault")
    mended = run("mend", "--apply", "--yes", "--choose", "remove", "--undo", "undo")
    assert mended.out.startswith("1 of 1 change was carried out, and every server has it; 0 faults left.")
    after = run("audit", "--json").report
    assert not [one for one in after["findings"] if one["weight"] == "fault" or one["code"].startswith("roll.")]
