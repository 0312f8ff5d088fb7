"""`mend` against real primaries, each with a secondary that follows by transfer: judged, planned, carried out, judged again,
and
undone. Worlds with everything that a remedy can get wrong in them."""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import ExitStack
from pathlib import Path

import dns.query
import dns.zone
import pytest

from salt_mirror.dns.edits import SetEdit
from salt_mirror.dns.names import from_text
from salt_mirror.dns.questions import UNKNOWN_KEY, Key, Server
from salt_mirror.dns.records import TXT, A
from salt_mirror.dns.update import Signer, send, update_message
from support import realservers
from support.program import Run

pytestmark = pytest.mark.real
KEY = Key(from_text("mirror.test"), "hmac-sha256", bytes(range(32)))
HEAD = "$TTL 600\n@ SOA ns.pans.example. h.pans.example. 7 3600 600 1209600 300\n@ NS ns.pans.example.\n"
ZONES = {
    "pans.example": HEAD
    + """ns A 192.0.2.53
h1 A 10.77.20.1
h2 A 10.77.20.2
h3 A 10.77.20.33
h5 A 10.77.20.5
h6 300 TXT "six"
h7 CNAME h1
h8 TXT "one" "left over"
h8 TXT "no; quotes \\"in\\" it $INCLUDE x"
*.stores TXT "wild"
@ MX 10 h7
old A 10.77.20.9
""",
    "20.77.10.in-addr.arpa": HEAD
    + """1 PTR h1.pans.example.
2 PTR gone.pans.example.
33 PTR h3.pans.example.
5 PTR h5.pans.example.20.77.10.in-addr.arpa.
8 PTR lost.pans.example.
9 PTR h1.pans.example.
""",
}
EXPECTED = """h2 A 10.77.20.2
h3 A 10.77.20.3
h4 A 10.77.20.4
h7 A 10.77.20.7
a.stores TXT "here"
h6 900 TXT "six"
"""
PRIMARIES = ("bind", "knot", "pdns")


@pytest.fixture(params=PRIMARIES)
def primary(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[Server]:
    """A primary that takes changes, a secondary that follows it, and the estate of both."""
    with ExitStack() as stack:
        port, folder = realservers.free_port(), tmp_path / request.param
        if request.param == "bind":
            starting = realservers.bind(folder, ZONES, key=KEY, updates=True, open_to_all=True, notify=port)
        elif request.param == "knot":
            starting = realservers.knot(folder, ZONES, key=KEY, generous=True, notify=port)
        else:
            starting = realservers.pdns_primary(folder, ZONES, key=KEY, notify=port)
        first = stack.enter_context(starting)
        stack.enter_context(realservers.nsd(tmp_path / "nsd", ZONES, secondary=realservers.following(first), port=port))
        (tmp_path / "expected.zone").write_text(EXPECTED, encoding="utf-8")
        (tmp_path / "gone.csv").write_text(
            'name,type,value,presence\nold,A,,absent\nh8,TXT,"""one"" ""left over""",absent\n', encoding="utf-8"
        )
        (tmp_path / "key").write_text(realservers.secret_text(KEY), encoding="utf-8")
        text = '[keys."mirror.test"]\nsecret_file = "key"\n[reach]\n' + f'"192.0.2.53" = "127.0.0.1:{first.port}"\n'
        for zone in ZONES:
            expect = 'expect = ["expected.zone", "gone.csv"]\n' if zone == "pans.example" else ""
            text += (
                f'[[zones]]\nname = "{zone}"\nservers = ["{first.label}", "nsd"]\nupdate_key = "mirror.test"\n{expect}'
            )
        for label, at in ((first.label, first.port), ("nsd", port)):
            text += f'[servers.{label}]\naddress = "127.0.0.1"\nport = {at}\n'
        (tmp_path / "estate.toml").write_text(text, encoding="utf-8")
        yield first


def zones_of(server: Server) -> str:
    """Both zones as the server has them now, without their SOA."""
    texts = []
    for zone in ZONES:
        held = dns.zone.from_xfr(dns.query.xfr(server.host, zone, port=server.port, relativize=False), relativize=False)
        lines = (line for line in held.to_text(relativize=False).lower().splitlines() if " soa " not in line)
        texts.append("\n".join(sorted(lines)))
    return "\n".join(texts)


def test_what_was_planned_is_carried_out_proved_and_undone_on_a_real_primary(
    run: Run, primary: Server, tmp_path: Path
) -> None:
    before = zones_of(primary)
    (sheet,) = run("authority", "pans.example", "--try-updates", "--json").report["sheets"]
    tried = {row["server"]: row["updates"] for row in sheet["servers"]}
    said = "not by this server, or not unsigned" if primary.label == "knot" else "refused unsigned"
    assert tried == {primary.label: said, "nsd": "none at all"} and zones_of(primary) == before
    plan = run("mend", "--choose", "remove", "--json").report
    done = run("mend", "--apply", "--yes", "--choose", "remove", "--undo", "undo", "--json").report
    sheet = done["plan"]
    assert len(sheet["changes"]) > 12 and not sheet["late"], sheet
    assert sheet["changes"] == plan["plan"]["changes"]
    assert [one["says"] for one in sheet["carried"]] == ["done"] * len(sheet["changes"])
    listed = {(one["code"], one["name"], one["address"]) for one in plan["plan"]["not_ours"]}
    audit = run("audit", "--json").report
    faults = {(one["code"], one["name"], one["address"]) for one in audit["findings"] if one["weight"] == "fault"}
    assert faults <= listed and not any(code.startswith(("pair.", "roll.")) for code, *_ in faults)
    assert run("mend", "--choose", "remove", "--json").report["plan"]["changes"] == []
    now = zones_of(primary)
    for line in (
        "h3.pans.example. 600 in a 10.77.20.3",
        "2.20.77.10.in-addr.arpa. 600 in ptr h2.pans.example.",
        'h6.pans.example. 900 in txt "six"',
    ):
        assert line in now
    assert not re.search(r"^(old|8\.20\.77)", now, re.MULTILINE) and "h7.pans.example. 600 in a 10.77.20.7" in now
    back = run("mend", "--back", "undo", "--yes", "--undo", "again")
    assert back.status == 0 and back.out.startswith(
        f"{len(sheet['changes'])} of {len(sheet['changes'])} sets restored."
    ), back.out
    assert zones_of(primary) == before
    twice = run("mend", "--back", "undo", "--yes", "--undo", "third")
    assert twice.status == 0 and f"{len(sheet['changes'])} are as before already" in twice.out


NAMES = [from_text(f"{name}.pans.example") for name in ("h1", "h2", "new")]
ONE, TWO, OLD = (frozenset((bytes((10, 77, 20, last)),)) for last in (1, 2, 9))


@pytest.mark.parametrize(
    "changed_since",
    [
        (SetEdit(NAMES[1], A, OLD, ONE, 600, 600), "NXRRSET"),
        (SetEdit(NAMES[1], A, TWO | ONE, ONE, 600, 600), "NXRRSET"),
        (SetEdit(NAMES[1], A, frozenset(), ONE, None, 600), "YXRRSET"),
        (SetEdit(NAMES[0], TXT, frozenset(), frozenset((b"\x01x",)), None, 600, named=False), "YXDOMAIN"),
    ],
)
def test_a_real_primary_carries_out_nothing_of_a_message_of_which_one_set_has_changed(
    primary: Server, changed_since: tuple[SetEdit, str]
) -> None:
    edit, rcode = changed_since
    before = zones_of(primary)
    new = SetEdit(NAMES[2], A, frozenset(), OLD, None, 600, named=False)
    zone = from_text("pans.example")
    assert send(primary, update_message(zone, [new, edit]), Signer(KEY)).status == rcode
    assert zones_of(primary) == before
    strange = Key(from_text("other.test"), "hmac-sha256", KEY.secret)
    assert send(primary, update_message(zone, [new]), Signer(strange)).status in (UNKNOWN_KEY, "REFUSED")
    assert send(primary, update_message(zone, [new]), None).status == (
        "NOTAUTH" if primary.label == "knot" else "REFUSED"
    )
    assert zones_of(primary) == before
    assert send(primary, update_message(zone, [new]), Signer(KEY)).done and "new.pans.example. 600 in a" in zones_of(
        primary
    )
