"""What agrees plainly on real servers is what the judge calls agreement: random zones on two of four programs, with and without
the screen."""

from __future__ import annotations

import random
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from support import realservers
from support.examples import seeds
from support.program import Run
from support.servers import KEY

ZONE, BACK = "pans.invalid", "2.0.192.in-addr.arpa"
HEAD = "$TTL 600\n@ IN SOA ns.pans.invalid. h.pans.invalid. 1 7200 1800 1209600 300\n@ NS ns.pans.invalid.\n"
HOSTS = 60
KINDS: dict[str, Callable[[Path, dict[str, str]], Any]] = {
    "nsd": realservers.nsd,
    "knot": lambda folder, held: realservers.knot(folder, held, key=KEY),
    "bind": lambda folder, held: realservers.bind(folder, held, key=KEY),
    "pdns": realservers.pdns,
}


def zones(chance: random.Random, other: bool) -> dict[str, str]:
    """A forward and a reverse zone, in which one host in four or so is not as it is expected; `other` has its own ways."""
    forward, back = [HEAD, "ns A 192.0.2.250\n", "*.wild A 192.0.2.240\n"], [HEAD]
    forward += [f"alias{number} CNAME h{number}\n" for number in range(1, HOSTS + 1, 4)]
    for number in range(1, HOSTS + 1):
        address, name = f"192.0.2.{number}", f"h{number}"
        match chance.randrange(16 if not other else 24):
            case 0:
                continue
            case 1:
                forward.append(f"{name} 60 A {address}\n")
            case 2:
                forward.append(f"{name} A {address}\n{name} A 192.0.2.{number + 100}\n")
            case 3:
                forward.append(f"{name} CNAME ns\n")
            case 4:
                forward.append(f"{name} A 192.0.2.{number + 100}\n")
            case 5:
                forward.append(f"{name} A {address}\n{name} AAAA 2001:db8::{number}\n")
            case _:
                forward.append(f"{name} A {address}\n")
        match chance.randrange(14):
            case 0:
                continue
            case 1:
                back.append(f"{number} PTR {name}.pans.invalid.\n{number} PTR ns.pans.invalid.\n")
            case 2:
                back.append(f"{number} PTR H{number}.PANS.invalid.\n")
            case 3:
                back.append(f"{number} PTR h{number % HOSTS + 1}.pans.invalid.\n")
            case _:
                back.append(f"{number} PTR {name}.pans.invalid.\n")
    return {ZONE: "".join(forward), BACK: "".join(back)}


CHECKS = ("pairs", "rollcall", "authority")


@pytest.mark.real
@pytest.mark.seeded
@pytest.mark.parametrize("seed", seeds(4))
def test_real_servers_are_told_the_same_with_and_without_the_screen(run: Run, tmp_path: Path, seed: int) -> None:
    chance = random.Random(seed)
    one, two = chance.sample(sorted(KINDS), 2)
    listed = [
        f"h{number},A,192.0.2.{number},{chance.choice(('', '', '600', '60'))}\n" for number in range(1, HOSTS + 1)
    ]
    listed += ["a.wild,A,192.0.2.240,\n", "b.wild,A,192.0.2.240,\n"]
    listed += [f"alias{number},CNAME,h{number}.pans.invalid.,\n" for number in range(1, HOSTS + 1, 4)]
    (tmp_path / "hosts.csv").write_text("name,type,value,ttl\n" + "".join(listed), encoding="utf-8")
    first = zones(chance, other=False)
    second = first if chance.random() < 0.5 else zones(chance, other=True)
    with KINDS[one](tmp_path / "one", first) as left, KINDS[two](tmp_path / "two", second) as right:
        text = ""
        for zone, more in ((ZONE, 'expect = ["hosts.csv"]\n'), (BACK, "")):
            text += f'[[zones]]\nname = "{zone}"\nview = "inside"\nservers = ["left", "right"]\n{more}'
        for label, server in (("left", left), ("right", right)):
            text += f'[servers.{label}]\naddress = "127.0.0.1"\nport = {server.port}\n'
        text += f'[reach]\n"192.0.2.250" = "127.0.0.1:{left.port}"\n'
        (tmp_path / "estate.toml").write_text(text, encoding="utf-8")
        for command in (("audit", *(word for check in CHECKS for word in ("--only", check))), ("stale",)):
            told = []
            for words in ((), ("--no-screen",)):
                done = run(*command, "--json", *words)
                assert done.status in (0, 1, 3), done.err
                report = done.report
                keys = ("code", "name", "type", "address", "server", "weight", "outcome", "text", "remedy", "expected")
                findings = sorted(str([finding.get(key) for key in keys]) for finding in report["findings"])
                told.append((findings, report.get("audit", {}).get("zones"), report["counts"]))
            assert told[0] == told[1] and (told[0][0] or command[0] != "audit")
