"""`mend` as the installed program: on the demo's world, and on servers that misbehave in the middle of it."""

from __future__ import annotations

import base64
import hashlib
import json
import os
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import dns.message
import dns.name
import dns.opcode
import dns.rcode
import dns.tsig
import dns.update
import dns.zone
import pytest
from hypothesis import given
from hypothesis import strategies as st

from salt_mirror.checks.plan.rules import RULES
from salt_mirror.checks.plan.sending import meaning
from salt_mirror.demo.world import gullmarsh
from salt_mirror.dns.dialogue import Dialogue, Runner
from salt_mirror.dns.edits import Reply
from salt_mirror.dns.names import from_text
from salt_mirror.dns.questions import Answer, Key, Question
from salt_mirror.dns.records import SOA, TXT
from salt_mirror.dns.traffic.engine import Engine
from salt_mirror.keeping.masterfiles import next_serial
from salt_mirror.standin.authority import read_zone
from salt_mirror.standin.server import Fault, StandIn, StandIns
from support import realservers
from support.program import PROGRAM, Run, begin
from support.waiting import PATIENCE_S

FORWARD, REVERSE = "pans.example", "20.77.10.in-addr.arpa"
HEAD = "$TTL 600\n@ SOA ns.pans.example. h.pans.example. 2026112301 3600 600 1209600 300\n@ NS ns.pans.example.\n"
TEXTS = {
    FORWARD: HEAD + "ns A 192.0.2.1\nh1 A 10.77.20.1\nh2 A 10.77.20.22 ; moved on Friday\n",
    REVERSE: HEAD + "1 PTR h1.pans.example.\n22 PTR h2.pans.example.\n7 PTR gone.pans.example.\n",
}
SECRET = bytes(range(32))
KEY = dns.name.from_text("mirror")


class Mended:
    """A primary that takes signed changes, a secondary that follows it, and the estate, which expects h2 at another address and
    h3 besides."""

    def __init__(self, standins: StandIns, folder: Path) -> None:
        self.first, self.second = (
            standins.add([read_zone(text, zone) for zone, text in TEXTS.items()]) for _ in range(2)
        )
        self.first.keys[KEY] = dns.tsig.Key(KEY, SECRET, dns.tsig.HMAC_SHA256)
        self.first.updates = "signed"
        self.first.followers = [self.second]
        self.folder = folder
        (folder / "hosts.zone").write_text("h1 A 10.77.20.1\nh2 A 10.77.20.2\nh3 A 10.77.20.3\n", encoding="utf-8")
        self.lay_out()

    def lay_out(self, *, secret: bytes = SECRET, key: str = 'update_key = "mirror"\n', more: str = "") -> None:
        (self.folder / "mirror.key").write_text(base64.b64encode(secret).decode("ascii"), encoding="utf-8")
        text = f'{more}[keys.mirror]\nsecret_file = "mirror.key"\n[reach]\n"192.0.2.1" = "{self.first.endpoint}"\n'
        for zone, expect in ((FORWARD, 'expect = ["hosts.zone"]\n'), (REVERSE, "")):
            text += f'[[zones]]\nname = "{zone}"\nservers = ["one", "two"]\n{key}{expect}'
        for label, server in (("one", self.first), ("two", self.second)):
            text += f'[servers.{label}]\naddress = "127.0.0.1"\nport = {server.port}\n'
        (self.folder / "estate.toml").write_text(text, encoding="utf-8")

    def before_an_update(self, act: Callable[[dns.update.UpdateMessage], None]) -> None:
        """Has something happen just before the primary carries a change out."""
        carry_out = self.first._update

        def update(query: dns.update.UpdateMessage) -> dns.message.Message:
            act(query)
            return carry_out(query)

        self.first._update = update  # type: ignore[method-assign]

    def holds(self, server: StandIn | None = None) -> str:
        return "\n".join(contents(server or self.first, zone) for zone in TEXTS)


def contents(server: StandIn, zone: str) -> str:
    """A zone as a server has it, without its SOA."""
    held = server.authority.zones[dns.name.from_text(zone)]
    return "\n".join(
        sorted(line for line in held.to_text(relativize=False).lower().splitlines() if " soa " not in line)
    )


@pytest.fixture
def mended(standins: StandIns, tmp_path: Path) -> Mended:
    return Mended(standins, tmp_path)


APPLY = ("mend", "--apply", "--yes", "--undo", "undo")


def faults(report: dict[str, list[dict[str, str]]]) -> set[tuple[str, str, str | None]]:
    return {(one["code"], one["name"], one["address"]) for one in report["findings"] if one["weight"] == "fault"}


def test_the_demos_faults_are_mended_but_those_that_were_listed_and_the_way_back_restores_every_zone(
    run: Run, tmp_path: Path
) -> None:
    with gullmarsh(tmp_path) as (_, servers):
        primaries = [(label, str(zone)) for label in ("dc-north", "ns1") for zone in servers[label].authority.zones]
        held = {key: contents(servers[key[0]], key[1]) for key in primaries}
        (tmp_path / "decisions").write_text(
            "# after talking to Kiln House\nregister rake-19.*   # it is there\n"
            "remove   *  pair.*\nremove gullmarsh.example mail.missing-host\nregister * view.missing\nremove * age.stale\n",
            encoding="utf-8",
        )
        plan = run("mend", "--decisions", "decisions", "--json")
        sheet = plan.report["plan"]
        done = run(*APPLY, "--decisions", "decisions")
        number = len(sheet["changes"])
        assert done.out.startswith(f"{number} of {number} changes were carried out, and every server has them; ")
        assert done.status == 1
        listed = {(one["code"], one["name"], one["address"]) for one in sheet["not_ours"]}
        audit = run("audit", "--json").report
        assert faults(audit) <= listed and not sheet["waiting"] and len(faults(audit)) <= 13
        north = contents(servers["dc-north"], "pans.gullmarsh.internal")
        assert "rake-19.pans.gullmarsh.internal. 3600 in a 10.77.10.97" in north
        assert run("mend", "--json", "--decisions", "decisions").report["plan"]["changes"] == []
        undo = tmp_path / "undo"
        assert sys.platform == "win32" or undo.stat().st_mode & 0o777 == 0o600
        back = run("mend", "--back", "undo", "--yes", "--undo", "again")
        assert back.status == 0
        assert {key: contents(servers[key[0]], key[1]) for key in held} == held


def test_the_plan_says_first_what_it_mends_then_what_goes_and_comes_with_the_reason(run: Run, mended: Mended) -> None:
    done = run("mend")
    first, facts, *rest = done.out.splitlines()
    assert first == (
        "5 changes in 2 zones mend 4 of 5 faults and 0 of 2 cautions; 2 are not ours to change; 1 waits for a decision."
    )
    assert done.status == 1 and facts.endswith("a plan; --apply sends it")
    text = "\n".join(rest)
    assert (
        "    h2.pans.example. A  (expected at 10.77.20.2)\n        - 600 10.77.20.22\n        + 600 10.77.20.2\n"
        in text
    )
    assert "+ 600 h3.pans.example." in text and "register  the host was forgotten" in text
    assert text.index("pans.example.  2 changes, sent to one") < text.index(f"{REVERSE}.  ")
    # Of one host alone, as somebody on the phone asks for it; and settled by a word.
    assert run("mend", "h3").out.startswith("2 changes in 2 zones mend 2 of 2 faults.")
    assert run("mend", "10.77.20.7", "--choose", "remove").out.startswith("1 change in 1 zone mends 1 of 1 fault.")
    assert run("mend", "--only", "authority").out.startswith("Nothing is ours to change of 2 cautions.")


def test_a_plan_is_written_to_load_and_taken_back_as_long_as_nobody_has_changed_anything(
    run: Run, mended: Mended
) -> None:
    assert run("mend", "--write", "plan").status == 1
    zone, removed = (Path(mended.folder / f"plan.{end}").read_text(encoding="utf-8") for end in ("zone", "remove"))
    lines = [json.loads(line) for line in (mended.folder / "plan.jsonl").read_text(encoding="utf-8").splitlines()][1:]
    assert [(one["name"], one["before"], one["after"]) for one in lines][:2] == [
        ("h2.pans.example.", ["10.77.20.22"], ["10.77.20.2"]),
        ("h3.pans.example.", [], ["10.77.20.3"]),
    ]
    h2 = "; remove: h2.pans.example. 600 IN A 10.77.20.22\nh2.pans.example. 600 IN A 10.77.20.2\n"
    assert f"$ORIGIN pans.example.\n; expected at 10.77.20.2\n{h2}" in zone
    assert "waits for a decision: gone.pans.example. pair.lost-pointer" in zone
    assert removed.splitlines()[:2] == ["; zone pans.example.", "h2.pans.example. 600 IN A 10.77.20.22"]
    # Without its head it is nobody's approved plan: then each set is sent that still is what it was.
    text = (mended.folder / "plan.jsonl").read_text(encoding="utf-8").partition("\n")[2]
    (mended.folder / "plan.jsonl").write_text(text, encoding="utf-8")
    moved = read_zone(TEXTS[FORWARD].replace("10.77.20.22", "10.77.20.23"), FORWARD)
    mended.first.authority.hold(moved)
    mended.second.authority.hold(moved)
    done = run(*APPLY, "--plan", "plan.jsonl", "--json").report
    # h2 is somewhere else by now: neither its address nor the pointer to it is what was meant.
    assert [one["name"] for one in done["plan"]["changes"]] == [
        "h3.pans.example.", "3.20.77.10.in-addr.arpa.", "22.20.77.10.in-addr.arpa.",
    ]  # fmt: skip
    assert "h2.pans.example. 600 in a 10.77.20.23" in mended.holds()
    (mended.folder / "report.json").write_text(run("audit", "--json").out, encoding="utf-8")
    again = run("mend", "--plan", "report.json", "--json").report
    assert {one["name"] for one in again["plan"]["changes"]} >= {"h2.pans.example."}


def test_a_master_file_kept_by_hand_is_edited_line_by_line_with_its_serial_raised(run: Run, mended: Mended) -> None:
    own = mended.folder / "pans.zone"
    own.write_text(TEXTS[FORWARD], encoding="utf-8")
    done = run("mend", "--zone-file", f"{FORWARD}=pans.zone")
    assert "pans.zone: serial 2026112301 -> " in done.out and "(by date)" in done.out
    before, after = (
        path.read_text(encoding="utf-8").splitlines() for path in (own, mended.folder / "pans.zone.mended")
    )
    assert own.read_text(encoding="utf-8") == TEXTS[FORWARD]
    changed = {number for number, (one, other) in enumerate(zip(before, after, strict=False)) if one != other}
    assert changed == {1, 5} and after[5] == "h2 A 10.77.20.2 ; moved on Friday"
    assert after[len(before) :] == ["h3.pans.example. 600 IN A 10.77.20.3"]


@given(st.integers(1, 2**32 - 2), st.integers(1_000_000_000, 2_000_000_000))
def test_a_serial_goes_on_as_it_was_counted_and_never_back(serial: int, now: int) -> None:
    after, how = next_serial(serial, float(now))
    assert serial < after < 2**32
    assert how in ("by date", "by the clock", "one by one") and (how != "one by one" or after == serial + 1)


def test_what_somebody_changed_meanwhile_is_left_and_the_rest_of_its_zone_is_carried_out(
    run: Run, mended: Mended
) -> None:
    def somebody(query: dns.update.UpdateMessage) -> None:
        zone = read_zone(TEXTS[FORWARD].replace("10.77.20.22", "10.77.20.24"), FORWARD)
        if query.zone[0].name == zone.origin and "10.77.20.24" not in contents(mended.first, FORWARD):
            mended.first.authority.hold(zone)

    mended.before_an_update(somebody)
    done = run(*APPLY, "--json")
    sheet = done.report["plan"]
    said = {one["name"]: one["says"] for one in sheet["carried"]}
    assert done.status == 1 and said["h2.pans.example."] == "changed since it was looked at: left as it is"
    assert said["h3.pans.example."] == "done" and said["3.20.77.10.in-addr.arpa."] == "done"
    assert (
        said["2.20.77.10.in-addr.arpa."]
        == said["22.20.77.10.in-addr.arpa."]
        == "the name it leads to was left as it was"
    )
    assert "h2.pans.example. 600 in a 10.77.20.24" in mended.holds() and "10.77.20.3" in mended.holds()


@pytest.mark.parametrize(
    ("how", "says", "status"),
    [
        ("other secret", "not signed with the key", 1),
        ("no key", "one: it refuses the change", 1),
        ("silent", "no answer in time; it was not carried out", 1),
        ("no updates", "one: it takes no dynamic updates", 1),
        ("secondary", "one: it is not authoritative for the zone, or only a secondary, or wants a key", 1),
        ("never follows", "two does not have it yet: does it follow its primary?", 3),
    ],
)
def test_what_keeps_a_change_from_being_made_is_told_as_it_is(
    run: Run, mended: Mended, how: str, says: str, status: int
) -> None:
    before = mended.holds()
    more: tuple[str, ...] = ()
    if how == "other secret":
        mended.lay_out(secret=bytes(32))
    elif how == "no key":
        mended.lay_out(key="")
    elif how == "silent":
        mended.first.fault = Fault.DATAGRAMS_ALONE
        more = ("--timeout", "0.2")
    elif how == "no updates":
        mended.first.updates = "nobody"
    elif how == "secondary":
        mended.before_an_update(lambda query: query.zone.clear())
    else:
        mended.first.followers = []
        more = ("--within", "2s")
    done = run(*APPLY, *more)
    assert says in done.out, done.out
    assert (mended.holds() == before) == (status == 1) and done.status in (1, status)
    assert run("mend", "--back", "undo", "--yes", "--undo", "second", *more).status in (0, 3)
    assert mended.holds() == before


@pytest.mark.skipif(sys.platform == "win32", reason="there is no such signal")
def test_a_run_that_is_killed_between_two_messages_can_go_back_and_can_go_on(mended: Mended, run: Run) -> None:
    before = mended.holds()
    killed: list[int] = []

    def kill(query: dns.update.UpdateMessage) -> None:
        if not killed and query.zone[0].name == dns.name.from_text(REVERSE):
            killed.append(process.pid)
            process.kill()
            raise ConnectionResetError  # the message never came

    carry_out = mended.first.respond

    def respond(wire: bytes, *, stream: bool, source: str = "") -> bytes | None:
        try:
            return carry_out(wire, stream=stream)
        except ConnectionResetError:
            return None

    mended.before_an_update(kill)
    mended.first.respond = respond  # type: ignore[method-assign]
    process = begin(*APPLY, cwd=mended.folder, stdout=subprocess.PIPE)
    process.communicate(timeout=PATIENCE_S)
    assert killed and process.returncode == -9
    assert "h3.pans.example." in contents(mended.first, FORWARD) and contents(mended.first, REVERSE) in before
    half = mended.holds()
    back = run("mend", "--back", "undo", "--yes", "--undo", "back")
    assert back.status == 0 and back.out.startswith(
        "2 of 2 sets restored; 2 are as before already; 1 was never sent by"
    )
    assert mended.holds() == before
    assert run("mend", "--back", "back", "--yes", "--undo", "forth").status == 0 and mended.holds() == half
    done = run("mend", "--apply", "--yes", "--undo", "whole", "--choose", "remove")
    assert done.out.startswith("4 of 4 changes were carried out, and every server has them; 0 faults left.")


def limited(folder: Path, room: int) -> tuple[int, str, str]:
    """Mends where no file may be larger than so many bytes, with the way back in `full`."""
    import resource

    if sys.platform == "win32":
        raise NotImplementedError
    process = begin(
        "mend", "--apply", "--yes", "--undo", "full", cwd=folder, stdout=subprocess.PIPE, stderr=subprocess.PIPE,
        preexec_fn=lambda: resource.setrlimit(resource.RLIMIT_FSIZE, (room, room)),
    )  # fmt: skip
    out, err = process.communicate(timeout=PATIENCE_S)
    return process.returncode, out, err


@pytest.mark.skipif(sys.platform == "win32", reason="there is no such limit")
def test_an_undo_file_that_fills_up_in_the_middle_keeps_the_rest_back_and_is_told(run: Run, mended: Mended) -> None:
    before = mended.holds()
    assert run(*APPLY).err.startswith("salt-mirror: the way back is in undo: salt-mirror mend --back undo\n")
    assert run("mend", "--back", "undo", "--yes", "--undo", "back").status == 0 and mended.holds() == before
    lines = (mended.folder / "undo").read_bytes().splitlines(keepends=True)
    refused = limited(mended.folder, len(lines[0]))
    assert refused[0] == 2 and "nothing was sent" in refused[2] and not (mended.folder / "full").exists()
    room = sum(map(len, lines[: 1 + 5 + 2])) + 20  # the head, five sets, one message and its answer
    status, out, err = limited(mended.folder, room)
    assert status == 4, err
    assert "full cannot be written any more" in err and "1 message had been sent: mend --back full goes back" in err
    assert out.startswith("2 of 5 changes were carried out") and "not sent, since the way back could not be" in out
    assert mended.holds() != before
    assert run("mend", "--back", "full", "--yes", "--undo", "again").status == 0 and mended.holds() == before


def test_an_unsigned_word_that_the_key_is_unknown_is_looked_at_and_not_believed(run: Run, mended: Mended) -> None:
    carry_out = mended.first.respond

    def respond(wire: bytes, *, stream: bool, source: str = "") -> bytes | None:
        answer = carry_out(wire, stream=stream)
        if answer is None or (wire[2] & 0x78) >> 3 != 5:
            return answer
        refused = dns.message.make_response(dns.message.Message(id=int.from_bytes(wire[:2], "big")))
        refused.set_opcode(dns.opcode.UPDATE)
        refused.set_rcode(dns.rcode.NOTAUTH)
        refused.use_tsig(dns.tsig.Key(KEY, SECRET, dns.tsig.HMAC_SHA256), tsig_error=17)  # BADKEY
        return refused.to_wire()

    mended.first.respond = respond  # type: ignore[method-assign]
    done = run(*APPLY, "--json")
    told = [one["says"] for one in done.report["plan"]["carried"]]
    assert len(told) == 5 and all(one.startswith("done, as one has it now (it does not know the key") for one in told)
    assert "10.77.20.3" in mended.holds()


def test_what_is_not_on_the_server_afterwards_was_not_carried_out(run: Run, mended: Mended) -> None:
    mended.first._update = dns.message.make_response  # type: ignore[method-assign]
    before = mended.holds()
    done = run(*APPLY, "--within", "1s")
    assert done.out.startswith("0 of 5 changes were carried out; 5 faults left."), done.out
    assert done.status == 1 and mended.holds() == before
    assert "one answered that it was done, and does not have it" in done.out and "NOT EVERYWHERE" not in done.out


def test_what_the_proof_did_not_look_at_again_is_not_mended(run: Run, mended: Mended) -> None:
    mended.first.transfers = mended.second.transfers = True
    sheet = run("mend", "--json").report["plan"]
    open_ones = [one for one in sheet["not_ours"] if one["code"] == "auth.open-transfer"]
    assert len(open_ones) == 4, sheet["says"]
    done = run(*APPLY, "--transfer", "--json").report
    assert sum(one["code"] == "auth.open-transfer" for one in done["findings"]) == 4
    assert any("taken by transfer" in remark for remark in done["remarks"])


def altered(folder: Path, change: Callable[[list[dict[str, Any]]], None], *, digest: bool) -> None:
    """Writes another undo file after the one that mend wrote, with its digest made anew or left as it was."""
    head, *lines = (folder / "undo").read_text(encoding="utf-8").splitlines()
    found = json.loads(head)
    sets = [json.loads(line) for line in lines[: found["sets"]]]
    change(sets)
    texts = [json.dumps(one) for one in sets]
    if digest:
        found |= {
            "sets": len(texts),
            "digest": hashlib.sha256("".join(f"{one}\n" for one in texts).encode()).hexdigest(),
        }
    (folder / "other").write_text("\n".join([json.dumps(found), *texts]) + "\n", encoding="utf-8")


@pytest.mark.parametrize(
    ("change", "digest", "says"),
    [
        (lambda sets: sets[0].update(before=["10.66.6.6"]), False, "other was altered: its sets are not those"),
        (lambda sets: sets[0].update(name=f"{FORWARD}.", type="SOA", before=[], after=[]), True, "the top of its zone"),
        (
            lambda sets: sets[0].update(name=f"{FORWARD}.", type="NS", before=["n."], after=["m."]),
            True,
            "the top of its",
        ),
        (lambda sets: sets[0].update(type="RRSIG", before=[], after=[]), True, "no set that is changed by hand"),
        (lambda sets: sets[0].update(type="ANY", before=[], after=[]), True, "no set that is changed by hand"),
        (lambda sets: sets[0].update(name="h2.elsewhere.invalid."), True, "not in its zone"),
        (lambda sets: sets[0].update(ttl_before=None), True, "is without a TTL"),
        (lambda sets: sets.extend(sets[:1] * 150), True, "more than 100 need --at-most 155"),
    ],
)
def test_an_undo_file_that_was_edited_restores_nothing(
    run: Run, mended: Mended, change: Callable[[list[dict[str, Any]]], None], digest: bool, says: str
) -> None:
    assert run(*APPLY).status in (0, 1)
    altered(mended.folder, change, digest=digest)
    after = mended.holds()
    done = run("mend", "--back", "other", "--yes", "--undo", "again")
    assert (done.status, says in done.err, mended.holds()) == (2, True, after), done.err


def test_nothing_is_sent_unasked_or_beyond_what_was_allowed(run: Run, mended: Mended) -> None:
    before, asked = mended.holds(), mended.first.asked
    piped = run("mend", "--apply")
    assert piped.status == 2 and "--yes sends changes without asking" in piped.err and mended.first.asked == asked
    few = run(*APPLY, "--at-most", "3")
    assert few.status == 2 and "the plan has 5 changes, and --at-most allows 3" in few.err
    many = "".join(f"m{number} A 10.77.20.{number}\n" for number in range(40, 160))
    (mended.folder / "hosts.zone").write_text(many, encoding="utf-8")
    lots = run(*APPLY)
    assert lots.status == 2 and "more than 100 need --at-most 240" in lots.err
    assert mended.holds() == before and not (mended.folder / "undo").exists()
    assert run(*APPLY, "--at-most", "240").out.startswith("240 of 240 changes were carried out")
    taken = run(*APPLY)
    assert taken.status == 2 and "undo is there already, and may be needed to go back" in taken.err


@pytest.mark.skipif(sys.platform == "win32", reason="there are no such terminals")
@pytest.mark.parametrize(("typed", "sent"), [("y\n", True), ("n\n", False), ("\n", False)])
def test_on_a_terminal_the_plan_is_shown_and_agreed_to_once(mended: Mended, typed: str, sent: bool) -> None:
    pty = pytest.importorskip("pty")
    before = mended.holds()
    ours, theirs = pty.openpty()
    process = subprocess.Popen(
        [str(PROGRAM), "mend", "--apply", "--undo", "undo"], cwd=mended.folder, stdin=theirs, stdout=theirs, stderr=theirs,
        env=os.environ | {"SALT_MIRROR_RESOLVERS": "", "COLUMNS": "150"},
    )  # fmt: skip
    os.close(theirs)
    said = b""
    while b"y sends, anything else does not" not in said:
        said += os.read(ours, 65536)
    assert b"h3.pans.example." in said and mended.holds() == before
    os.write(ours, typed.encode("ascii"))
    try:
        while piece := os.read(ours, 65536):
            said += piece
    except OSError:  # its end
        pass
    process.wait(PATIENCE_S)
    os.close(ours)
    assert (mended.holds() != before) == sent
    assert (b"5 of 5 changes were carried out" in said) == sent and (b"nothing was sent" in said) != sent


@pytest.mark.parametrize(
    ("options", "said"),
    [
        (("--choose", "keep"), '--choose: there is no decision "keep"'),
        (("--decisions", "bad"), 'bad, line 2: there is no decision "rmove"; did you mean "remove"?'),
        (("--plan", "bad"), "bad, line 1"),
        (("--plan", "torn.json"), "torn.json: is no report that can be read"),
        (("--zone-file", "pans.example"), "is no ZONE=FILE"),
        (("--zone-file", "other.example=hosts.zone"), 'the estate has no zone that is called "other.example"'),
        (("--back", "bad", "--yes"), "bad is no undo file"),
        (("--back", "short", "--yes"), "short ends before its last set: nothing had been sent yet"),
        (("--back", "short", "--apply"), "--back restores what its file says"),
        (("--apply", "--json"), "--json prints one document, at the end"),
        (("--write", "no/such"), "--write: no/such.jsonl cannot be written"),
    ],
)
def test_what_cannot_be_used_is_told_before_anything_is_asked(
    run: Run, mended: Mended, options: tuple[str, ...], said: str
) -> None:
    (mended.folder / "bad").write_text("# decided on Monday\nrmove h3\n", encoding="utf-8")
    (mended.folder / "torn.json").write_text('{"schema":"salt-mirror/report/1","findings":[{', encoding="utf-8")
    head = {"undo": "salt-mirror/undo/1", "begun": "", "estate": "", "sets": 2}
    (mended.folder / "short").write_text(json.dumps(head) + "\n", encoding="utf-8")
    asked = mended.first.asked
    done = run("mend", *options)
    assert done.status == 2 and said in done.err, done.err
    assert mended.first.asked == asked


def test_a_server_that_takes_changes_from_anyone_is_a_fault_and_is_not_changed_by_the_trial(
    run: Run, mended: Mended
) -> None:
    serial = mended.first.authority.zones[dns.name.from_text(FORWARD)].find_rdataset(f"{FORWARD}.", "SOA")[0].serial
    assert "auth.open-update" not in run("authority", FORWARD, "--json").out
    done = run("authority", FORWARD, "--try-updates", "--json").report
    assert [row["updates"] for row in done["sheets"][0]["servers"]] == ["refused unsigned", "none at all"]
    mended.first.updates = "anyone"
    mended.lay_out(key='update_key = "mirror"\ntry_updates = true\n')
    findings = run("audit", "--json").report["findings"]
    (finding,) = (one for one in findings if (one["code"], one["name"]) == ("auth.open-update", f"{FORWARD}."))
    assert finding["weight"] == "fault" and finding["server"] == mended.first.endpoint
    held = mended.first.authority.zones[dns.name.from_text(FORWARD)]
    assert held.find_rdataset(f"{FORWARD}.", "SOA")[0].serial == serial
    mended.first.updates = "nobody"
    mended.first.fault = Fault.DATAGRAMS_ALONE
    silent = run("authority", FORWARD, "--json", "--timeout", "0.2").report["sheets"][0]["servers"][0]
    assert silent["updates"].startswith("not known: ")


def test_the_rules_of_a_plan_are_explained(run: Run) -> None:
    done = run("explain", "plan")
    assert done.status == 0 and "what it touches, and what leans on that" in done.out
    assert done.out.count("Example: ") == len(RULES)


# Fragments for those who change zones by hand


def ask(question: Question) -> Dialogue[Answer]:
    (answer,) = yield [question]
    return answer


HOSTILE = ("a\\010$INCLUDE /etc/passwd", 'say \\"$ORIGIN\\" ; ( @', "\\255\\000" * 100, "x" * 255)


@pytest.mark.real
def test_every_fragment_loads_in_real_servers_once_it_is_merged_and_hostile_values_stay_in_their_records(
    run: Run, tmp_path: Path
) -> None:
    with gullmarsh(tmp_path) as (estate, servers):
        records = tmp_path / "records" / "pans.zone"
        hostile = "".join(f'hostile{number} TXT "{text}"\n' for number, text in enumerate(HOSTILE))
        hostile += '\\$INCLUDE TXT "x"\n\\@ TXT "y"\n\\"q\\;\\(\\010 A 10.77.10.5\n'
        records.write_text(records.read_text(encoding="utf-8") + hostile, encoding="utf-8")
        assert run("audit", "--remedies", "mend.zone", "--estate", str(estate)).status == 1
        held = {
            (view, zone): servers[label].authority.zones[dns.name.from_text(zone)]
            for view, label, zones in (("internal", "dc-north", 6), ("public", "ns1", 4))
            for zone in list(map(str, servers[label].authority.zones))[:zones]
        }
        own = tmp_path / "servers" / "dc-north" / "pans.gullmarsh.internal.zone"
        run("mend", "--zone-file", f"pans.gullmarsh.internal={own}", "--estate", str(estate))
    text = (tmp_path / "mend.zone").read_text(encoding="utf-8")
    fragments = [part for part in text.split("\n; zone ")[1:] if "$ORIGIN" in part]
    assert len(fragments) >= 5
    merged: dict[str, str] = {}
    for fragment in fragments:
        head, _, body = fragment.partition("\n")
        apex, _, view = head.partition(" in the view ")
        gone = {line.removeprefix("; remove: ") for line in body.splitlines() if line.startswith("; remove: ")}
        whole = held[view, apex.rstrip(".") + "."] if (view, apex.rstrip(".") + ".") in held else held[view, apex]
        there = read_zone(whole.to_text(relativize=False), apex)
        for line in gone:
            owner, _, _, rdtype, value = line.split(" ", 4)
            rdataset = there.find_rdataset(owner, rdtype)
            (rdata,) = (one for one in rdataset if one.to_text().lower() == value.lower())
            rdataset.discard(rdata)  # type: ignore[no-untyped-call]
            if not len(rdataset):
                there.delete_rdataset(owner, rdtype)
        merged[apex.rstrip(".")] = there.to_text(relativize=False) + "\n" + body.partition("\n; not ours")[0]
    anew = {"pans.gullmarsh.internal": Path(f"{own}.mended").read_text(encoding="utf-8")}
    for number, zones in enumerate((merged, anew)):
        with (
            realservers.nsd(tmp_path / f"nsd{number}", zones) as one,
            realservers.bind(
                tmp_path / f"bind{number}", zones, key=Key(from_text("k.test"), "hmac-sha256", SECRET)
            ) as two,
            Engine() as engine,
        ):
            hostile_name = from_text("hostile0.pans.gullmarsh.internal")
            asked = [Question(from_text(zone), SOA, server) for zone in zones for server in (one, two)]
            asked += [Question(hostile_name, TXT, server) for server in (one, two)]
            answers = list(Runner(engine).run(ask(question) for question in asked))
            assert all(answer.trouble is None and answer.values for answer in answers), answers
    assert text.count("hostile") >= len(HOSTILE)
    assert all(line.isprintable() for line in text.splitlines())
    assert not any(line.lstrip().lower().startswith("$include") for line in text.splitlines())


def test_a_pointer_that_a_wildcard_makes_is_not_removed_and_one_of_its_own_is_registered(
    mended: Mended, run: Run, tmp_path: Path
) -> None:
    """No server has such a record: nothing is offered to remove it, and nobody is told to transfer."""
    reverse = HEAD + "1 PTR h1.pans.example.\n* PTR gone.pans.example.\n"
    for server in (mended.first, mended.second):
        server.authority.hold(read_zone(reverse, REVERSE))
    done = run("pairs", "10.77.20.7", "10.77.20.1", "--json")
    (lost,) = done.report["findings"]
    assert lost["code"] == "pair.lost-pointer" and "A wildcard synthesizes that PTR record" in lost["text"]
    assert not lost["changes"] and not lost["choices"] and "take the wildcard out" in lost["advice"]
    mend = run("mend", "h3", "--apply", "--yes")
    assert "transfer" not in mend.out and mend.status == 0, mend.out + mend.err
    zone = mended.first.authority.zones[dns.name.from_text(REVERSE)]
    assert [str(one.target) for one in zone.find_rdataset(f"3.{REVERSE}.", "PTR")] == ["h3.pans.example."]
    assert zone.get_rdataset(f"*.{REVERSE}.", "PTR") is not None
    assert run("pairs", "h3").status == 0


def test_sources_that_contradict_each_other_are_told_with_both_lines_and_nothing_of_that_host_is_planned(
    mended: Mended, run: Run, tmp_path: Path
) -> None:
    (tmp_path / "leases.csv").write_text("name,type,value\nh2,A,10.77.20.70\nh1,A,10.77.20.1\n", encoding="utf-8")
    estate = tmp_path / "estate.toml"
    text = estate.read_text(encoding="utf-8").replace(
        'expect = ["hosts.zone"]', 'expect = ["hosts.zone", "leases.csv"]'
    )
    estate.write_text(text, encoding="utf-8")
    roll = run("rollcall", "--json")
    clash = next(one for one in roll.report["findings"] if one["code"] == "roll.contradiction")
    assert roll.status == 1 and "hosts.zone, line 2" in clash["text"] and "leases.csv, line 2" in clash["text"]
    assert "h1.pans.example." not in {one["name"] for one in roll.report["findings"] if one["code"] == clash["code"]}
    plan = run("mend", "--json").report["plan"]
    assert {one["name"] for one in plan["changes"]} == {"h3.pans.example.", f"3.{REVERSE}."}
    shown = run("mend").out
    assert "CONTRADICTIONS IN THE ESTATE, to be settled there: " in shown and "the estate contradicts itself" in shown
    assert {one["fate"] for one in plan["not_ours"]} <= {"refused", "contradiction", "not ours", "advice"}
    files = run("expect", "hosts.zone", "leases.csv", "--zone", FORWARD)
    assert files.status == 1 and "h2.pans.example. A is 10.77.20.70, and 10.77.20.2 by hosts.zone, line 2" in files.err


def test_an_approved_plan_is_sent_exactly_or_not_at_all(mended: Mended, run: Run, tmp_path: Path) -> None:
    before = mended.holds()
    added = run("mend", "--only-adding")
    assert "It removes" not in added.out and "+ 600 10.77.20.2" in added.out and "- 600" not in added.out
    planned = run("mend", "--write", "plan", "--valid", "2h")
    assert "It removes 2 records, 1 of them in no list." in planned.out, planned.out
    approved = (tmp_path / "plan.jsonl").read_text(encoding="utf-8")
    # Altered, in its head or in a set; its time over.
    for name, text in (
        ("set", approved.replace("10.77.20.3", "10.77.20.4")),
        ("head", approved.replace('"by":"', '"by":"not ')),
    ):
        (tmp_path / name).write_text(text, encoding="utf-8")
        altered = run("mend", "--plan", name, "--apply", "--yes")
        assert altered.status == 2 and f"{name} was altered since it was made: nothing is sent" in altered.err
    assert run("mend", "--write", "over", "--valid", "0s").status == 1
    over = run("mend", "--plan", "over.jsonl", "--apply", "--yes")
    assert over.status == 2 and "over.jsonl was valid until " in over.err, over.err
    # Drifted: what the estate expects of one set is something else by now.
    text = (tmp_path / "hosts.zone").read_text(encoding="utf-8")
    (tmp_path / "hosts.zone").write_text(text.replace("10.77.20.3", "10.77.20.33"), encoding="utf-8")
    drifted = run("mend", "--plan", "plan.jsonl", "--apply", "--yes", "--json")
    left = {one["name"]: one["says"] for one in drifted.report["plan"]["left_out"]}
    assert left["h3.pans.example."] == "the estate expects something else of it by now than when it was planned"
    assert drifted.status == 1 and "cannot be sent as approved: nothing is sent" in drifted.report["says"]
    assert mended.holds() == before and not list(tmp_path.glob("*.undo"))
    # As it was: sent, and nothing but that.
    (tmp_path / "hosts.zone").write_text(text, encoding="utf-8")
    done = run("mend", "--plan", "plan.jsonl", "--apply", "--yes", "--json")
    sets = [json.loads(line) for line in approved.splitlines()[1:]]
    carried = {(one["name"], one["type"]) for one in done.report["plan"]["carried"] if one["outcome"] == "agrees"}
    assert carried == {(one["name"], one["type"]) for one in sets}
    assert done.report["plan"]["changes"] and any("valid until" in one for one in done.report["remarks"])


def test_a_ticket_says_why_what_risk_way_back_and_decisions(mended: Mended, run: Run, tmp_path: Path) -> None:
    (tmp_path / "decisions").write_text("remove gone.*\n", encoding="utf-8")
    forms = [word for form in ("markdown", "html", "json") for word in ("--report", f"{form}:ticket.{form}")]
    run("mend", *forms, "--decisions", "decisions")
    text = (tmp_path / "ticket.markdown").read_text(encoding="utf-8")
    titles = [line.removeprefix("## ") for line in text.splitlines() if line.startswith("## ")]
    assert titles[:5] == ["Why", "What", "Risk", "Way back", "Decisions made"], titles
    assert "- h2.pans.example. 600 IN A 10.77.20.22" in text and "+ h2.pans.example. 600 IN A 10.77.20.2" in text
    assert "signed with the key mirror" in text
    assert "- remove (decisions, line 1): The PTR record of 10.77.20.7" in text, text
    sheet = json.loads((tmp_path / "ticket.json").read_text(encoding="utf-8"))["plan"]
    assert sheet["digest"][:16] in text and sheet["risks"][0].startswith("It removes 3 records")
    page = (tmp_path / "ticket.html").read_text(encoding="utf-8")
    assert all(f"<h2>{title}</h2>" in page for title in titles) and "script" not in page
    run("mend", *forms, "--decisions", "decisions", "--apply", "--yes", "--undo", "undo")
    after = (tmp_path / "ticket.markdown").read_text(encoding="utf-8")
    assert "## What became of it" in after and "salt-mirror mend --back undo" in after
    assert run("mend", "--report", "csv:x.csv").status == 2 and run("mend", "--report", "html:-").status == 2
    assert run("mend", "--valid", "2h").status == 2


def test_what_somebody_else_has_done_as_wished_is_not_taken_back(mended: Mended, run: Run) -> None:
    """Between the look and the message somebody registers h3 as it is wished: this run has not changed it."""
    name = dns.name.from_text("h3.pans.example.")

    def register(query: dns.update.UpdateMessage) -> None:
        zone = mended.first.authority.zones[dns.name.from_text(FORWARD)]
        if query.zone[0].name == zone.origin and zone.get_rdataset(name, "A") is None:
            text = zone.to_text(relativize=False) + "\nh3.pans.example. 600 IN A 10.77.20.3\n"
            mended.first.authority.hold(read_zone(text, FORWARD))

    mended.before_an_update(register)
    done = run(*APPLY)
    assert done.out.startswith("4 of 5 changes were carried out"), done.out
    assert "it is as planned already, and not by this run" in done.out
    back = run("mend", "--back", "undo", "--yes", "--undo", "again")
    assert back.status == 0 and "h3.pans.example. 600 in a 10.77.20.3" in mended.holds(), back.out


def test_mending_one_host_asks_little_and_judges_what_leans_on_it(run: Run, tmp_path: Path) -> None:
    with gullmarsh(tmp_path):
        whole, one = (run("mend", *words, "--json").report for words in ((), ("kiln-02",)))
        assert one["counts"]["questions"] * 20 < whole["counts"]["questions"]
        (change,) = one["plan"]["changes"]
        assert change in whole["plan"]["changes"] and change["after"] == ["kiln-02.pans.gullmarsh.internal."]
        done = run("mend", "kiln-02", "--apply", "--yes", "--json").report
        assert done["says"].startswith("1 of 1 change was carried out, and every server has it; 0 faults left")


def test_a_dry_run_tries_every_change_and_changes_nothing(mended: Mended, run: Run, tmp_path: Path) -> None:
    """Key, policy and drift show as they would; so does the way back."""
    before = [mended.first.authority.zones[dns.name.from_text(zone)].to_text() for zone in (FORWARD, REVERSE)]
    done = run("mend", "--dry-run")
    number = len(run("mend", "--json").report["plan"]["changes"])
    assert done.status == 0 and done.out.startswith(
        f"{number} of {number} changes would be carried out; nothing was changed."
    )
    assert not list(tmp_path.glob("*.undo"))
    assert [mended.first.authority.zones[dns.name.from_text(z)].to_text() for z in (FORWARD, REVERSE)] == before
    mended.lay_out(secret=bytes(32))
    other = run("mend", "--dry-run")
    assert other.status == 1 and other.out.startswith(f"0 of {number} changes would be carried out"), other.out
    mended.lay_out()
    assert run("mend", "--apply", "--yes", "--undo", "way.undo").status == 1
    back = run("mend", "--back", "way.undo", "--dry-run")
    assert back.status == 0 and back.out.startswith(
        f"{number} of {number} changes would be carried out; nothing was changed."
    )
    assert run("mend", "--dry-run", "--apply").status == 2


@pytest.mark.real
def test_one_name_that_a_policy_forbids_is_left_and_the_others_are_changed(run: Run, tmp_path: Path) -> None:
    """BIND refuses a whole message for one name that the key may not change."""
    key = Key(from_text("mirror.test"), "hmac-sha256", SECRET)
    (tmp_path / "mirror.key").write_text(base64.b64encode(SECRET).decode("ascii"), encoding="utf-8")
    (tmp_path / "hosts.zone").write_text("h1 A 10.77.20.1\nh2 A 10.77.20.2\nh3 A 10.77.20.3\n", encoding="utf-8")
    policy = "update-policy { deny mirror.test name h2.pans.example. ANY; grant mirror.test zonesub ANY; };"
    zone = HEAD + "ns A 192.0.2.1\n"
    with realservers.bind(tmp_path / "bind", {FORWARD: zone}, key=key, update_policy=policy) as server:
        (tmp_path / "estate.toml").write_text(
            f'[keys."mirror.test"]\nsecret_file = "mirror.key"\n[[zones]]\nname = "{FORWARD}"\nservers = ["one"]\n'
            f'update = "one"\nupdate_key = "mirror.test"\nexpect = ["hosts.zone"]\n'
            f'[servers.one]\naddress = "{server.endpoint}"\n'
            f'[reach]\n"192.0.2.1" = "{server.endpoint}"\n',
            encoding="utf-8",
        )
        tried = run("mend", "--dry-run", "--json").report["plan"]["carried"]
        assert {one["name"].split(".")[0]: one["outcome"] for one in tried} == {
            "h1": "agrees",
            "h2": "differs",
            "h3": "agrees",
        }
        done = run("mend", "--apply", "--yes")
        assert done.out.startswith("2 of 3 changes were carried out"), done.out
        assert run("rollcall", "--name", "h1", "--name", "h3").status == 0
        # What was refused is nobody's: somebody else may register h2 since, and going back leaves it alone.
        back = run("mend", "--back", next(tmp_path.glob("*.undo")).name, "--yes", "--undo", "again")
        assert back.out.startswith("2 of 2 sets restored; 1 was refused by that run, and stays as it is."), back.out
        assert back.status == 0


def test_a_record_of_somebody_else_takes_no_other_change_with_it_and_its_refusal_is_told_as_that(
    run: Run, mended: Mended
) -> None:
    """A directory server sends the whole message back as a failure, with our own signature on it."""
    mended.first.others = {dns.name.from_text("h2.pans.example.")}
    done = run("mend", "--apply", "--yes", "--undo", "undo", "--json").report
    carried = {(one["name"].split(".")[0], one["type"]): one for one in done["plan"]["carried"]}
    refused = carried["h2", "A"]
    assert (
        refused["outcome"] == "unverified"
        and "a record that another account owns; it was not carried out" in refused["says"]
    )
    assert "short_signature" not in refused["says"] and "signed" not in refused["says"]
    assert carried["h3", "A"]["says"] == "done" and "h3.pans.example. 600 in a 10.77.20.3" in contents(
        mended.first, FORWARD
    )
    assert "10.77.20.22" in contents(mended.first, FORWARD)


@pytest.mark.parametrize(
    ("reply", "signed", "says"),
    [
        (Reply("SERVFAIL"), True, "it failed; a directory server says so of a record that another account owns"),
        (Reply("SERVFAIL", "not signed", unknown=True), True, "it failed; a directory server says so of a record that"),
        (Reply("REFUSED", "", unknown=False), False, "it refuses the change, which was sent without a key"),
        (Reply("", "no answer in time", unknown=True), True, "no answer in time"),
    ],
)
def test_what_a_server_says_comes_before_how_it_signed_that(reply: Reply, signed: bool, says: str) -> None:
    assert meaning(reply, [], signed=signed).startswith(says)
