"""Views of one server that are told apart by who asks: a real one, stand-ins, and random ones whose contents show what they
are."""

from __future__ import annotations

import socket
from pathlib import Path

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.expected import expected_sets
from salt_mirror.checks.common.part import Setting, carry_out
from salt_mirror.checks.rollcall.judging import Roll
from salt_mirror.dns.apart import ApartExchange
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.names import from_text
from salt_mirror.dns.questions import Answer, Question, Server
from salt_mirror.dns.records import SOA, A
from salt_mirror.estate.expectations import Expectation
from salt_mirror.estate.model import Estate, Zone
from salt_mirror.estate.ways import tell_apart
from salt_mirror.standin.authority import HeldZones, read_zone
from salt_mirror.standin.server import StandIns
from support import realservers
from support.estates import found
from support.examples import examples
from support.exchanges import Instant
from support.program import Run
from support.servers import KEY
from support.tables import NOW

ZONE = "split.example"
HEAD = "$TTL 300\n@ SOA ns h 7 3600 600 1209600 300\n@ NS ns\nns A 127.0.0.1\n"
INSIDE, OUTSIDE = HEAD + "web A 10.77.0.80\nrake A 10.77.0.5\n", HEAD + "web A 192.0.2.80\n"
SOURCE = "127.0.0.2"


def written(folder: Path, endpoint: str, more: str = "", *, expect: bool = True, update: str = "") -> None:
    text = more
    for view, address in (("internal", "10.77.0.80"), ("public", "192.0.2.80")):
        listed = f'expect = ["{view}.zone"]\n' if expect else ""
        changed = update if view == "internal" else ""
        (folder / f"{view}.zone").write_text(f"web A {address}\n", encoding="utf-8")
        text += f'[[zones]]\nname = "{ZONE}"\nview = "{view}"\nservers = ["ns"]\n{listed}{changed}'
    text += f'[servers.ns]\naddress = "{endpoint}"\n'
    (folder / "estate.toml").write_text(text, encoding="utf-8")


@pytest.mark.real
def test_a_real_server_shows_a_view_to_whoever_asks_from_its_network(run: Run, tmp_path: Path) -> None:
    """One way leads to one view, which is recognised; with a source address for the other, both are seen, taken and changed."""
    with realservers.bind_views(tmp_path / "bind", ZONE, KEY, INSIDE, OUTSIDE, inside=SOURCE) as server:
        written(tmp_path, server.endpoint)
        for command in ("rollcall", "rollcall --transfer", f"pairs web.{ZONE}", "views"):
            done = run(*command.split(), "--json")
            assert done.status == 3, done.out
            judged = {one["view"] for one in done.report["findings"] if one["outcome"] != "unverified"}
            assert "internal" not in judged, done.out
        said = run("rollcall").out
        assert "1 of 2" in said.splitlines()[0] and "it gives this computer the view public" in said
        assert "TSIG key" in said and "source address" in said and "--from" in said
        written(tmp_path, server.endpoint, expect=False)
        unknown = run("authority", "--json")
        assert unknown.status == 3 and "which of its views (internal, public)" in unknown.out
        from_there = f'[views.internal]\nsource = "{SOURCE}"\n'
        written(tmp_path, server.endpoint, from_there)
        for command in ("rollcall", "rollcall --transfer --unexpected", f"views web.{ZONE}"):
            done = run(*command.split(), "--json")
            assert done.status == 0 and done.report["counts"]["unverified"] == 0, done.out
        written(tmp_path, server.endpoint, from_there, update='update = "ns"\n')
        (tmp_path / "internal.zone").write_text("web A 10.77.0.80\npress A 10.77.0.81\n", encoding="utf-8")
        assert found(run("rollcall", "--json")) == ["roll.missing-name"]
        mended = run("mend", f"press.{ZONE}", "--apply", "--yes")
        assert "1 of 1 change was carried out" in mended.out and "0 faults left" in mended.out
        assert run("rollcall").status == 0


def test_a_source_address_that_this_computer_does_not_have_is_told(
    run: Run, standins: StandIns, tmp_path: Path
) -> None:
    server = standins.add([read_zone(OUTSIDE, ZONE)])
    written(tmp_path, server.endpoint, '[views.internal]\nsource = "192.0.2.77"\n')
    done = run("rollcall")
    assert done.status == 3 and "does not have the source address" in done.out
    for more, says in (
        ('[views.internal]\nsource = "ns"\n', 'views, internal, source: "ns" is no IP address'),
        ('[views.interal]\nsource = "127.0.0.2"\n', 'no zone is in this view; did you mean "internal"?'),
    ):
        written(tmp_path, server.endpoint, more)
        wrong = run("rollcall")
        assert wrong.status == 2 and says in wrong.err.replace("\n", " ")


def test_settle_and_ask_put_no_question_for_a_view_that_is_not_theirs(
    run: Run, standins: StandIns, tmp_path: Path
) -> None:
    server = standins.add([read_zone(OUTSIDE, ZONE)])
    server.by_source[SOURCE] = HeldZones([read_zone(INSIDE, ZONE)])
    written(tmp_path, server.endpoint)
    done = run("settle", f"web.{ZONE}", "A", "--to", "192.0.2.80", "--view", "internal", "--within", "1s")
    assert done.status != 0 and "it gives this computer the view public" in done.out
    asked = run("ask", f"web.{ZONE}", "A", "--at", "authoritative", "--view", "internal")
    assert asked.status == 3 and "it gives this computer the view public" in asked.out
    assert run("ask", f"web.{ZONE}", "A", "--at", "authoritative", "--view", "public").status == 0


# Random views of one server


class OneView(Instant):
    """A server that shows the contents of one view, whatever is asked for."""

    def __init__(self, records: dict[str, frozenset[bytes]]) -> None:
        super().__init__()
        self._records = {from_text(f"{name}.{ZONE}"): values for name, values in records.items()}

    def answer(self, question: Question) -> Answer:
        values = self._records.get(question.name, frozenset()) if question.rdtype == A else frozenset()
        status = "NOERROR" if question.name in self._records or question.rdtype == SOA else "NXDOMAIN"
        return Answer(question, status, True, tuple(sorted(values)), 300 if values else None)


NAMES = ("web", "mail", "rake", "press")
VALUES = st.frozensets(st.sampled_from([bytes((10, 0, 0, n)) for n in range(4)]), min_size=1, max_size=2)
CONTENTS = st.dictionaries(st.sampled_from(NAMES), VALUES)


@given(
    expected=st.lists(CONTENTS, min_size=2, max_size=3), slips=CONTENTS, lost=st.sets(st.sampled_from(NAMES), max_size=2),
    given_view=st.integers(0, 2), listed=st.sets(st.integers(0, 2), min_size=2),
)  # fmt: skip
@examples(300)
def test_of_views_that_share_a_way_only_the_one_that_is_given_is_judged(
    expected: list[dict[str, frozenset[bytes]]], slips: dict[str, frozenset[bytes]], lost: set[str], given_view: int,
    listed: set[int],
) -> None:  # fmt: skip
    """Whatever else is wrong: no view that the server does not show agrees or is accused."""
    views = [f"v{number}" for number in sorted(listed) if number < len(expected)]
    assume(len(views) > 1)
    shown = views[given_view % len(views)]
    wanted = {view: expected[int(view[1:])] for view in views}
    records = {name: values for name, values in (wanted[shown] | slips).items() if name not in lost}

    def fits(view: str, name: str) -> bool:
        return wanted[view][name] <= records.get(name, frozenset())

    def against(view: str) -> set[str]:
        """The views that expect something else, and do not get it, where a view gets what it expects."""
        names = [name for name in wanted[view] if fits(view, name)]
        return {v for v in views for name in names if name in wanted[v] and not fits(v, name)}

    known = against(shown) == set(views) - {shown}
    borrowed = any(against(view) for view in views if view != shown)
    assume(known or not borrowed)  # contents that are another view's, and nowhere its own, nobody can tell
    server = Server("ns", bytes((127, 0, 0, 1)))
    zone = from_text(ZONE)
    estate = Estate(servers={"ns": server})
    for view in views:
        expectations = tuple(
            Expectation(from_text(f"{name}.{ZONE}"), A, value)
            for name, values in wanted[view].items()
            for value in values
        )
        estate.zones[view] = {zone: Zone(zone, view, (server,), expectations)}
    tell_apart(estate, {})
    sets = expected_sets(estate, None)
    part = Roll(sets, Atlas(estate), [])
    carry_out(part, Setting(NOW), Runner(ApartExchange(OneView(records))))
    outcomes = {(verdict.view, verdict.name): verdict.outcome for verdict in part.verdicts()}
    for (view, _), outcome in outcomes.items():
        assert view == shown or outcome == "unverified"
    judged = {name: outcome for (view, name), outcome in outcomes.items() if view == shown}
    for name, values in wanted[shown].items():
        right = values <= records.get(name, frozenset())
        expected_outcome = ("agrees" if right else "differs") if known and not borrowed else "unverified"
        assert judged[from_text(f"{name}.{ZONE}")] == expected_outcome


FAMILIES = """$TTL 300
@ SOA ns1 hostmaster 5 3600 600 1209600 300
@ NS ns1
@ NS ns2
@ MX 10 www
ns1 A 192.0.2.1
ns2 AAAA 2001:db8:77::2
www A 192.0.2.80
"""


def test_a_run_kept_to_one_ip_version_sends_nothing_over_the_other_and_says_so(
    run: Run, standins: StandIns, tmp_path: Path
) -> None:
    """The server that is left out has another record, so that whoever asked it would report that."""
    with socket.socket(socket.AF_INET6, socket.SOCK_DGRAM) as probe:
        try:
            probe.bind(("::1", 0))
        except OSError:
            pytest.skip("this computer has no ::1")
    four = standins.add([read_zone(FAMILIES, ZONE)])
    six = standins.add([read_zone(FAMILIES.replace("192.0.2.80", "192.0.2.81"), ZONE)], host="::1")
    (tmp_path / "expected.zone").write_text(f"www.{ZONE}. A 192.0.2.80\n", encoding="utf-8")
    zone = f'[[zones]]\nname = "{ZONE}"\nview = "public"\nservers = ["four", "six"]\nexpect = ["expected.zone"]\n'
    servers = f'[servers.four]\naddress = "127.0.0.1"\nport = {four.port}\n[servers.six]\naddress = "::1"\nport = {six.port}\n'
    reach = f'[reach]\n"192.0.2.1" = "127.0.0.1:{four.port}"\n"2001:db8:77::2" = "[::1]:{six.port}"\n'
    (tmp_path / "estate.toml").write_text(zone + servers + reach, encoding="utf-8")
    assert "roll.servers-disagree" in found(run("rollcall", "--json"))

    for option, other in (("--ipv4-only", six), ("--ipv6-only", four)):
        asked = other.asked
        for command in (
            "rollcall", f"pairs www.{ZONE}", "authority", f"mail {ZONE}", "stale", "audit", "snapshot now.jsonl --force",
            f"ask www.{ZONE} --at authoritative", f"budget www.{ZONE} A", f"descend www.{ZONE}",
        ):  # fmt: skip
            done = run(*command.split(), option)
            assert done.status in (0, 1, 3), done.out + done.err
        assert other.asked == asked, option
        rolled = run("rollcall", option, "--json")
        assert found(rolled) == ([] if other is six else ["roll.different"])
        assert any("not asked, since only" in remark for remark in rolled.report["remarks"])
    alone = zone.replace('"four", "six"', '"six"') + servers
    (tmp_path / "estate.toml").write_text(alone, encoding="utf-8")
    assert run("rollcall", "--ipv4-only").status == 3  # nobody was asked: nothing agrees
    for wrong in (("--ipv4-only", "--ipv6-only"), ("--ipv4-only", "--at", "six"), ("--ipv6-only", "--at", "192.0.2.1")):
        done = run("rollcall", *wrong)
        assert done.status == 2 and wrong[0] in done.err
