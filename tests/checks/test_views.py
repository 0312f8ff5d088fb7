"""Views held against each other: Gullmarsh's world, random names against an obvious judge, servers that do not tell."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from salt_mirror.checks.common.atlas import Atlas
from salt_mirror.checks.common.part import Setting, carry_out
from salt_mirror.checks.views.judging import Views
from salt_mirror.checks.views.scope import ViewsScope
from salt_mirror.demo.world import plantings
from salt_mirror.dns.dialogue import Runner
from salt_mirror.dns.names import from_text
from salt_mirror.dns.records import rdata_from_text, type_from_text
from salt_mirror.estate.expectations import Expectation
from salt_mirror.estate.file import InsideOnlyEntry, SameEntry
from salt_mirror.estate.model import Estate, Zone
from salt_mirror.standin.authority import read_zone
from salt_mirror.standin.server import StandIns
from support.estates import Served, found
from support.examples import examples
from support.program import Run
from support.tables import KILN, NORTH, NOW, Table

ZONE, HOST = "split.example", "web.split.example"
APEX = from_text(ZONE)
SOA, NS = [f"ns.{ZONE}. h.{ZONE}. 8 3600 600 1209600 300"], [f"ns.{ZONE}."]


def test_views_finds_every_planting_and_nothing_else(demo: Run) -> None:
    done = demo("views", "--json")
    planted = {(one["code"], one["name"]) for one in plantings()["views"]}
    assert done.status == 1 and {(one["code"], one["name"]) for one in done.report["findings"]} == planted
    wrong = next(one for one in done.report["findings"] if one["code"] == "view.wrong-view")
    assert wrong["text"].startswith("kiln-office should give the view internal, and gives the view public")
    leak = next(one for one in done.report["findings"] if one["code"] == "view.leak")
    assert leak["text"].startswith("ns2, which is public, answers for 30.77.10.in-addr.arpa.")
    web = demo("views", "web.gullmarsh.example", "--json").report  # otherwise in each view, as the estate expects it
    assert (
        web["counts"]["differs"] == 1 and web["counts"]["agrees"] == 6
    )  # in both views; three resolvers give the public one, one of two its own


SAID = st.sampled_from(["absent", "192.0.2.1", "192.0.2.2", "10.77.0.1", "timeout"])
WISH = st.sampled_from(["nothing", "as it is", "another", "gone"])


@examples(300)
@given(st.tuples(SAID, SAID), st.tuples(WISH, WISH), st.booleans(), st.booleans())
def test_a_name_in_two_views_is_judged_as_an_obvious_judge_does(
    said: tuple[str, str], wishes: tuple[str, str], same: bool, inside_only: bool
) -> None:
    told: dict[tuple[str, str, str], list[str] | str] = {}
    expectations: list[tuple[Expectation, ...]] = []
    for label, what, wish in zip(("north", "kiln"), said, wishes, strict=True):
        told[label, ZONE, "SOA"], told[label, ZONE, "NS"] = SOA, NS
        if what == "timeout":
            told |= {(label, HOST, kind): "timeout" for kind in ("A", "AAAA")}
        elif what != "absent":
            told[label, HOST, "A"] = [what]
        value = {"as it is": what if what[0].isdigit() else "192.0.2.9", "another": "192.0.2.9"}.get(wish, "")
        rdata = rdata_from_text(1, value) if value else b""
        presence = "absent" if wish == "gone" else "present"
        expectations.append(
            () if wish == "nothing" else (Expectation(from_text(HOST), type_from_text("A"), rdata, presence=presence),)  # type: ignore[arg-type]
        )
    zones = {
        view: {APEX: Zone(APEX, view, (server,), expected)}
        for view, server, expected in zip(("inside", "public"), (NORTH, KILN), expectations, strict=True)
    }
    estate = Estate(zones=zones, public_views=frozenset(("public",)))
    estate.same = [SameEntry(["web.*"])] if same else []
    estate.inside_only = [InsideOnlyEntry(["web.*"])] if inside_only else []
    part = Views(ViewsScope(estate, [from_text(HOST)]), Atlas(estate))
    carry_out(part, Setting(NOW), Runner(Table(told)))
    assert {one.code for one in part.findings()} == slow_judge(said, wishes, same=same, inside_only=inside_only)
    outcomes = {verdict.view: verdict.outcome for verdict in part.verdicts()}
    assert set(outcomes) == {"inside", "public"}
    if "timeout" in said:
        assert "agrees" not in outcomes.values()
    assert ("differs" in outcomes.values()) == any(one.outcome == "differs" for one in part.findings())


def slow_judge(said: tuple[str, str], wishes: tuple[str, str], *, same: bool, inside_only: bool) -> set[str]:
    inside, outside = said
    codes = {"view.unverified"} if "timeout" in said else set()
    if outside[0].isdigit():
        if inside_only:
            codes.add("view.leak")
        elif outside.startswith("10."):
            codes.add("view.private-address")
    if "timeout" in said:
        return codes
    if same:
        return codes | ({"view.not-same"} if inside != outside else set())
    if inside == "absent" and outside != "absent" and wishes[0] != "gone":
        codes.add("view.missing")
    if "absent" not in said and inside != outside and wishes != ("as it is", "as it is"):
        codes.add("view.differs")
    return codes


HEAD = "$TTL 300\n@ SOA ns h 7 3600 600 1209600 300\n@ NS ns\nns A 192.0.2.1\n"


def test_names_of_the_inside_are_seen_in_what_the_world_is_told(run: Run, served: Served, tmp_path: Path) -> None:
    public = HEAD.replace("SOA ns h", "SOA dc.pans.internal. h") + "@ MX 10 dc.pans.internal.\n"
    (one,) = served("split.example", public)
    with StandIns() as standins:
        inside = standins.add([])
        served.publish("split.example", [one], also={"pans.internal": {"two": inside.port}})
        path = tmp_path / "estate.toml"
        text = path.read_text(encoding="utf-8").replace(
            '"pans.internal"\nview = "public"', '"pans.internal"\nview = "inside"'
        )
        path.write_text(text, encoding="utf-8")
        done = run("views", "--json")
    assert found(done) == ["view.internal-name", "view.internal-name"]
    assert {one["type"] for one in done.report["findings"]} == {"SOA", "MX"}


def test_a_zone_of_the_inside_below_a_public_one_is_looked_for_outside_too(
    run: Run, served: Served, tmp_path: Path
) -> None:
    """The commonest way to name a directory: `corp` below the public domain, known to the inside alone."""
    public = HEAD + "vpn.corp A 192.0.2.9\n"
    (sound,) = served("split.example", public)
    with StandIns() as standins:
        inside = standins.add([read_zone(HEAD + "rake A 10.77.0.5\n", "corp.split.example")])
        leaking = standins.add([read_zone(public, "split.example"), read_zone(HEAD, "corp.split.example")])
        for server, codes in ((sound, ["view.missing"]), (leaking, ["view.leak"])):
            served.publish("split.example", [server], also={"corp.split.example": {"two": inside.port}})
            path = tmp_path / "estate.toml"
            text = path.read_text(encoding="utf-8")
            text = text.replace('"corp.split.example"\nview = "public"', '"corp.split.example"\nview = "inside"')
            (tmp_path / "vpn.zone").write_text("vpn.corp A 192.0.2.9\n", encoding="utf-8")
            text = text.replace('"split.example"\nview', '"split.example"\nexpect = ["vpn.zone"]\nview')
            path.write_text(text, encoding="utf-8")
            done = run("views", "--json")
            assert found(done) == codes, done.out


def test_a_resolver_that_gives_no_view_or_says_nothing_is_told_as_that(
    run: Run, served: Served, tmp_path: Path
) -> None:
    inside, outside = served.serve("split.example", HEAD + "web A 10.77.0.1\n", HEAD + "web A 192.0.2.7\n")
    (strange,) = served.serve("split.example", HEAD + "web A 203.0.113.9\n")
    text = ""
    for view, server in (("inside", inside), ("public", outside)):
        text += f'[[zones]]\nname = "split.example"\nview = "{view}"\nservers = ["{view}"]\nexpect = ["{view}.zone"]\n'
        text += f'[servers.{view}]\naddress = "{server.endpoint}"\n'
        value = "10.77.0.1" if view == "inside" else "192.0.2.7"
        (tmp_path / f"{view}.zone").write_text(f"web A {value}\n", encoding="utf-8")
    text += f'[resolvers.strange]\naddress = "{strange.endpoint}"\n'
    text += '[resolvers.silent]\naddress = "127.0.0.1:1"\nview = "inside"\n'
    (tmp_path / "estate.toml").write_text(text, encoding="utf-8")
    done = run("views", "--json", "--timeout", "0.1", "--tries", "1")
    assert found(done) == ["view.neither", "view.unverified"] and done.report["counts"]["differs"] == 0
    assert "203.0.113.9" in next(one["text"] for one in done.report["findings"] if one["code"] == "view.neither")


def test_a_name_is_told_as_everybody_gets_it(demo: Run, run: Run, served: Served, tmp_path: Path) -> None:
    done = demo("ask", "web.gullmarsh.example", "A", "--at", "everywhere", "--json")
    assert done.status == 1 and done.report["names"][0]["why"] == [
        "A: internal: 10.77.10.80; public: 192.0.2.10; harbour-office follows internal; "
        "north-office, kiln-office, quay-branch, isp-one and isp-two follow public"
    ]
    one, two = served("split.example", HEAD + "web A 192.0.2.7\nwas A 192.0.2.8\n", HEAD + "web A 192.0.2.7\n")
    (old,) = served.serve("split.example", HEAD + "web A 192.0.2.6\nwas A 192.0.2.8\n")
    more = f'[resolvers.old]\naddress = "{old.endpoint}"\n[resolvers.gone]\naddress = "127.0.0.1:1"\n'
    served.publish("split.example", [one, two], more)
    given = ("--at", "everywhere", "--json", "--timeout", "0.1", "--tries", "1")
    web = run("ask", "web.split.example", "A", *given).report["names"][0]["why"]
    assert web == ["A: public: 192.0.2.7; old only: 192.0.2.6; gone: no usable answer"]
    served.publish("split.example", [one, two], more + f'[resolvers.older]\naddress = "{old.endpoint}"\n')
    web = run("ask", "web.split.example", "A", *given).report["names"][0]["why"]
    assert web == ["A: public: 192.0.2.7; old and older, as no view: 192.0.2.6; gone: no usable answer"]
    served.publish("split.example", [one, two], more)
    was = run("ask", "was.split.example", "A", *given).report["names"][0]["why"]
    assert was == ["A: public: 192.0.2.8 (one) and no such name (two); old only: 192.0.2.8; gone: no usable answer"]
    path = tmp_path / "estate.toml"
    path.unlink()
    nowhere = run("ask", "web.split.example", "--at", "everywhere")
    assert nowhere.status == 2 and "asks all views and resolvers of an estate" in nowhere.err


@pytest.mark.parametrize(
    ("more", "says"),
    [
        ('[[same]]\nnames = ["web.*"]\nviews = ["insid"]\n', 'there is no view "insid"; did you mean "inside"?'),
        ('[resolvers.a]\naddress = "127.0.0.1"\nview = "insid"\n', 'there is no view "insid"; did you mean "inside"?'),
    ],
)
def test_views_that_are_not_there_are_errors(run: Run, tmp_path: Path, more: str, says: str) -> None:
    zones = "".join(f'[[zones]]\nname = "split.example"\nview = "{view}"\n' for view in ("public", "inside"))
    (tmp_path / "estate.toml").write_text(zones + more, encoding="utf-8")
    done = run("views")
    assert done.status == 2 and says in done.err.replace("\n", " ")


def test_with_one_view_there_is_nothing_to_compare_and_nothing_wrong(run: Run, tmp_path: Path) -> None:
    (tmp_path / "estate.toml").write_text('[[zones]]\nname = "split.example"\nview = "public"\n', encoding="utf-8")
    done = run("views")
    assert done.status == 0
    assert done.out.startswith("Nothing to compare: all zones of the estate are in one view, public.\n")
    assert run("views", "--json").report["outcome"] == "agrees"
    assert run("views", "web.split.example", "--at", "one").status == 2
