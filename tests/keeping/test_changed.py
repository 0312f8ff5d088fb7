"""The audit that follows changes: cheap where nothing has changed, and of one mind with a whole one where it asked."""

from __future__ import annotations

import random
from pathlib import Path
from typing import Any

import pytest

from salt_mirror.standin.authority import read_zone
from salt_mirror.standin.server import Fault, StandIn
from support.estates import Served
from support.examples import seeds
from support.program import Run

HOSTS = 60
FORWARD = ("pans.salt.invalid", "kiln.salt.invalid")
HEAD = "$TTL 300\n@ SOA ns1.pans.salt.invalid. h 1 7200 1800 1209600 300\n@ NS ns1.pans.salt.invalid.\n"
HEAD += "@ NS ns2.pans.salt.invalid.\n"


class Works:
    """Two forward zones and a reverse one on two servers, with an estate that expects every host."""

    def __init__(self, served: Served, folder: Path) -> None:
        self.folder = folder
        self.servers: list[StandIn] = served.serve(
            "salt.invalid", HEAD + "ns1.pans A 192.0.2.1\n", HEAD + "ns1.pans A 192.0.2.1\n"
        )
        self.serials = dict.fromkeys((*FORWARD, "2.0.192.in-addr.arpa"), 1)
        self.hosts = {n: (f"h{n}", FORWARD[n % 2], f"192.0.2.{n}") for n in range(3, HOSTS + 3)}
        self.expected = dict(self.hosts)
        self.pointers = {n: f"{name}.{zone}." for n, (name, zone, _) in self.hosts.items()}
        self.write()
        for zone in self.serials:
            self.publish(zone)

    def publish(self, zone: str, *, bump: bool = False) -> None:
        """Lets both servers have a zone as it is now, with the next serial or without."""
        self.serials[zone] += bump
        head = HEAD.replace("h 1 ", f"h {self.serials[zone]} ")
        if zone in FORWARD:
            own = "ns1 A 192.0.2.1\nns2 A 192.0.2.2\n" if zone == FORWARD[0] else ""
            lines = [f"{name} A {address}" for name, where, address in self.hosts.values() if where == zone]
        else:
            own = "1 PTR ns1.pans.salt.invalid.\n2 PTR ns2.pans.salt.invalid.\n"
            lines = [f"{n} PTR {target}" for n, target in self.pointers.items()]
        for server in self.servers:
            server.authority.hold(read_zone(head + own + "\n".join(lines) + "\n", zone))

    def write(self) -> None:
        """The estate and its lists."""
        text = "".join(
            f'[[zones]]\nname = "{zone}"\nview = "inside"\nservers = ["one", "two"]\nexpect = ["{zone}.csv"]\n'
            for zone in FORWARD
        )
        text += '[[zones]]\nname = "192.0.2.0/24"\nview = "inside"\nservers = ["one", "two"]\n'
        for label, server in zip(("one", "two"), self.servers, strict=True):
            text += f'[servers.{label}]\naddress = "127.0.0.1"\nport = {server.port}\n'
        text += "[reach]\n" + "".join(
            f'"192.0.2.{n}" = "127.0.0.1:{server.port}"\n' for n, server in enumerate(self.servers, 1)
        )
        (self.folder / "estate.toml").write_text(text, encoding="utf-8")
        for zone in FORWARD:
            rows = [f"{name},A,{address}" for name, where, address in self.expected.values() if where == zone]
            (self.folder / f"{zone}.csv").write_text("name,type,value\n" + "\n".join(rows) + "\n", encoding="utf-8")


@pytest.fixture
def works(served: Served, tmp_path: Path) -> Works:
    return Works(served, tmp_path)


AUDIT = ("audit", "--only", "pairs,rollcall,authority", "--skip", "auth.*", "--json")
CHANGED = (*AUDIT, "--changed", "--history", "runs.db")


def told(report: dict[str, Any]) -> set[tuple[str, str, str | None]]:
    return {(one["code"], one["name"], one["address"]) for one in report["findings"] if one["weight"] != "note"}


def sampled(report: dict[str, Any]) -> set[str]:
    return {line["zone"].rstrip(".") for line in report["audit"]["zones"] if "unchanged" in line}


def test_an_unchanged_estate_costs_a_sample_and_every_nth_run_is_whole(run: Run, works: Works) -> None:
    first = run(*CHANGED).report
    assert first["findings"] == [] and sampled(first) == set()
    second = run(*CHANGED, "--sample", "5", "--whole-every", "3")
    assert sampled(second.report) == set(works.serials) and second.status == 0
    assert second.report["counts"]["questions"] < first["counts"]["questions"] / 3
    reports = ("--report", "html:a.html", "--report", "markdown:a.md", "--report", "junit:a.xml", "--whole-every", "0")
    run(*CHANGED, *reports)
    written = [(works.folder / name).read_text(encoding="utf-8") for name in ("a.html", "a.md", "a.xml")]
    assert all(one.count("unchanged since ") >= 3 for one in written)
    words = run(*CHANGED[:-4], "--changed", "--history", "runs.db", "--whole-every", "5").out
    assert words.startswith(
        "Pairs, rollcall, authority only, of 8 checks: 0 of 3 zones looked at without a fault, 3 unchanged since "
    ) and words.splitlines()[0].endswith(" sampled); no faults.")
    assert sampled(run(*CHANGED, "--whole-every", "3").report) == set()
    assert "only known from a history" in run("audit", "--changed").err
    assert run(*CHANGED, "--remedies", "mend.zone").status == 2


def test_a_fault_of_an_unchanged_zone_is_asked_again_and_one_that_is_gone_makes_the_zone_whole(
    run: Run, works: Works
) -> None:
    del works.pointers[7]
    works.publish("2.0.192.in-addr.arpa", bump=True)
    lost = ("pair.no-pointer", "h7.kiln.salt.invalid.", "192.0.2.7")
    assert told(run(*CHANGED).report) == {lost}
    still = run(*CHANGED, "--sample", "0").report
    assert told(still) == {lost} and "2.0.192.in-addr.arpa" in sampled(still)
    works.pointers[7] = "h7.kiln.salt.invalid."
    works.publish("2.0.192.in-addr.arpa")  # somebody forgot the serial
    gone = run(*CHANGED, "--sample", "0").report
    assert told(gone) == set() and "2.0.192.in-addr.arpa" not in sampled(gone)
    assert [one["code"] for one in gone["audit"]["history"]["gone"]] == ["pair.no-pointer"]


def test_what_is_expected_otherwise_and_a_server_that_is_silent_make_a_zone_whole(run: Run, works: Works) -> None:
    run(*CHANGED)
    works.expected[99] = ("new-host", "pans.salt.invalid", "192.0.2.99")
    works.write()
    report = run(*CHANGED).report
    assert told(report) >= {("roll.missing-name", "new-host.pans.salt.invalid.", None)}
    assert sampled(report) == {"kiln.salt.invalid", "2.0.192.in-addr.arpa"}
    works.servers[1].fault = Fault.SILENT
    silent = run(*CHANGED, "--timeout", "0.2", "--tries", "1").report
    assert sampled(silent) == set() and silent["counts"]["unverified"]


@pytest.mark.seeded
@pytest.mark.parametrize("seed", seeds(4))
def test_whatever_changes_with_its_serial_is_found_as_a_whole_audit_finds_it(run: Run, works: Works, seed: int) -> None:
    chance = random.Random(seed)
    for _ in range(2):  # faults that are known before
        works.pointers.pop(chance.choice(list(works.pointers)))
    works.publish("2.0.192.in-addr.arpa", bump=True)
    run(*CHANGED)
    for _ in range(chance.randint(1, 4)):
        number = chance.choice(list(works.hosts))
        name, zone, _ = works.hosts[number]
        match chance.randrange(4):
            case 0:
                del works.hosts[number]
            case 1:
                works.hosts[number] = (name, zone, f"192.0.2.{chance.randint(100, 250)}")
            case 2:
                works.pointers[number] = f"other{number}.{zone}."
            case _:
                del works.hosts[number]
                works.expected.pop(number, None)
                works.write()
        works.publish(zone, bump=True)
        works.publish("2.0.192.in-addr.arpa", bump=chance.random() < 0.7)
    followed, whole = run(*CHANGED, "--sample", "0").report, run(*AUDIT).report
    assert told(followed) <= told(whole), "accused of what a whole audit does not find"
    changed = set(works.serials) - sampled(followed)
    missed = {one for one in told(whole) - told(followed) if any(one[1].endswith(f".{zone}.") for zone in changed)}
    assert changed and missed == set()
