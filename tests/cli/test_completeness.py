"""What has to be complete: every code is shown by a planting or a test, every option is passed by one, every module is of a
size that a reader can hold."""

from __future__ import annotations

import ast
import re
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import typer.main

import salt_mirror
from salt_mirror.catalogue import catalogue
from salt_mirror.cli.main import program
from salt_mirror.standin.authority import read_zone
from salt_mirror.standin.server import StandIn, StandIns
from support.estates import lay_out
from support.program import Run

World = tuple[Path, dict[str, StandIn]]
HERE = Path(__file__).parents[1]
SOURCES = Path(salt_mirror.__file__).parent


def words_of_the_tests() -> str:
    files = [path for path in HERE.rglob("test_*.py") if path != Path(__file__)]
    files.append(SOURCES / "demo" / "scenario" / "plantings.toml")
    return "\n".join(path.read_text(encoding="utf-8") for path in files)


def test_every_code_is_shown_by_a_planting_or_a_test_and_no_other_is() -> None:
    families = "|".join(sorted({code.split(".")[0] for code in catalogue()}))
    named = set(re.findall(rf'"((?:{families})\.[a-z]+(?:-[a-z]+)*)"', words_of_the_tests()))
    assert named - {"pair.no-pionter"} == set(catalogue())


def options() -> Iterator[tuple[str, str]]:
    """Every option that help shows, by command."""
    group = typer.main.get_command(program())
    for name, command in group.commands.items():  # type: ignore[attr-defined]
        for parameter in command.params:
            if parameter.param_type_name == "option" and not getattr(parameter, "hidden", False):
                yield name, parameter.opts[0]


def test_every_option_is_passed_by_a_test() -> None:
    said = words_of_the_tests() + Path(__file__).read_text(encoding="utf-8").partition("# The options")[2]
    assert [option for option in sorted({one for _, one in options()}) if f'"{option}"' not in said] == []


def test_a_class_name_is_unique_and_the_glossary_leads_to_files_that_are_there() -> None:
    names = [
        node.name
        for path in SOURCES.rglob("*.py")
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8")))
        if isinstance(node, ast.ClassDef)
    ]
    assert sorted(name for name in set(names) if names.count(name) > 1) == []
    glossary = (SOURCES.parents[1] / "docs" / "glossary.md").read_text(encoding="utf-8")
    places = re.findall(r"`([a-z_/]+(?:\.py|\.toml|/))`", glossary)
    assert len(places) > 40 and [place for place in places if not (SOURCES / place).exists()] == []


def test_no_function_is_longer_than_a_screen_and_no_long_module_stands_without_a_reason() -> None:
    for path in SOURCES.rglob("*.py"):
        text = path.read_text(encoding="utf-8")
        tree = ast.parse(text)
        if len(text.splitlines()) > 400:
            assert "longer than others" in (ast.get_docstring(tree) or ""), path
        for node in ast.walk(tree):
            if isinstance(node, ast.FunctionDef):
                assert (node.end_lineno or 0) - node.lineno < 60, f"{path}: {node.name}"


def test_a_command_loads_its_own_check_and_no_other(standins: StandIns, tmp_path: Path) -> None:
    """What a command does not need costs every start: a whole third of it, when checks imported each other."""
    head = "@ 60 SOA ns . 1 2 3 4 5\n@ 60 NS ns\n"
    forward = read_zone(f"{head}www 60 A 192.0.2.7\n", "pans.example")
    server = standins.add([forward, read_zone(f"{head}7 60 PTR www.pans.example.\n", "2.0.192.in-addr.arpa")])
    lay_out(tmp_path / "estate.toml", "pans.example", {"one": server.port}, also={"192.0.2.0/24": {"one": server.port}})
    words = ["salt-mirror", "pairs", "www.pans.example", "--quiet"]
    script = (
        f"import sys; sys.argv = {words!r}\n"
        "from salt_mirror.entry import run\n"
        "try:\n    run()\nexcept SystemExit as end:\n    assert not end.code\n"
        "print(*(name for name in sys.modules if name.startswith(('salt_mirror', 'dns.resolver'))))\n"
    )
    done = subprocess.run([sys.executable, "-c", script], cwd=tmp_path, capture_output=True, text=True, check=True)
    loaded = done.stdout.split()
    assert "dns.resolver" not in loaded, "the system is asked for its resolvers where one is needed, and not before"
    packages = {name.split(".")[2] for name in loaded if name.startswith("salt_mirror.checks.")}
    assert packages == {"common", "pairs", "audit"}
    assert [name for name in loaded if name.startswith("salt_mirror.checks.audit.")] == [
        "salt_mirror.checks.audit.lines"
    ]
    assert len(loaded) <= 70


# The options that no other test has a use for


def test_a_cap_is_one_more_moment_of_the_budget(run: Run, world: World) -> None:
    call = ("budget", "shop.gullmarsh.example", "A", "--estate", str(world[0]), "--cap", "2h")
    assert "resolvers that keep entries for 7200 s have dropped the old value" in run(*call).out


def test_detail_adds_flags_and_sections_to_an_answer(run: Run, world: World) -> None:
    call = ("ask", "kiln-01", "A", "--at", "dc-north", "--estate", str(world[0]))
    plain, detailed = run(*call).out, run(*call, "--detail").out
    assert "AA" in detailed and "AUTHORITY" in detailed.upper() and len(detailed) > len(plain)


def test_a_forest_is_where_the_catalogues_are_looked_for(run: Run, world: World) -> None:
    call = ("services", "pans.gullmarsh.internal", "--directory", "--controller", "dc-north@North-Pans,global-catalog")
    asked = run(*call, "--forest", "gullmarsh.internal", "--json", "--estate", str(world[0]))
    rows = [row["title"] for controller in asked.report["tests"][0]["tests"] for row in controller["tests"]]
    assert "_gc._tcp.gullmarsh.internal. SRV" in rows and "_kerberos._tcp.pans.gullmarsh.internal. SRV" in rows


def test_a_pace_is_kept_to(run: Run, standins: StandIns) -> None:
    server = standins.add([read_zone("@ 60 SOA ns h 1 2 3 4 5\n@ 60 NS ns\nns 60 A 192.0.2.1\n", "salt.invalid")])
    names = [f"h{number}.salt.invalid" for number in range(8)]
    call = ("snapshot", "now.jsonl", *names, "--types", "A", "--at", f"127.0.0.1:{server.port}")
    slow = run(*call, "--pace", "8")
    assert slow.status == 0 and server.asked == 8
    assert run("snapshot", "x.jsonl", "a.invalid", "--pace", "0.01").status == 2


def test_peeking_leaves_a_cache_without_the_record_as_it_was(run: Run, world: World) -> None:
    call = ("settle", "peeked.gullmarsh.example", "A", "--to", "192.0.2.99", "--at", "north-office", "--peek", "--json")
    cache = world[1]["north-office"].cache
    assert cache is not None
    before = cache.fetched
    done = run(*call, "--within", "2s", "--estate", str(world[0]))
    assert {row["vantage"]: list(row["states"]) for row in done.report["vantages"]}["north-office"] == ["waiting"]
    assert cache.fetched == before


def test_a_network_that_is_larger_than_a_sweep_wants_a_yes(run: Run, tmp_path: Path) -> None:
    refused = run("pairs", "10.0.0.0/15", "--at", "127.0.0.1:1")
    assert refused.status == 2 and "sweeping more than 65,536 needs --sweep-all" in refused.err
    taken = run("pairs", "10.0.0.0/15", "--sweep-all", "--at", "127.0.0.1:1", "--tries", "1", "--timeout", "0.01")
    assert taken.status == 3
