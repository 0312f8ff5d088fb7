"""Words of a command line that are taken as they stand: as Typer would have taken them, and without what that brings along."""

from __future__ import annotations

import os
import re
import subprocess
import sys
from enum import StrEnum
from importlib.metadata import requires
from pathlib import Path
from typing import Annotated, Any, Literal

import pytest
import typer
from hypothesis import given
from hypothesis import strategies as st

from salt_mirror.cli.words import UNSURE, Command, plain
from support.program import Run

PYDANTIC = any(re.match(r"pydantic\b", wanted) for wanted in requires("typer") or ())
"""Whether this version of Typer has words looked at by it."""


class Kiln(StrEnum):
    """A word of a few."""

    HOT = "hot"
    COLD = "cold-as-salt"


def _every(
    text: str = "",
    number: Annotated[int, typer.Option(min=1, max=10)] = 3,
    seconds: Annotated[float, typer.Option(min=0.01, max=60)] = 1.0,
    file: Path | None = None,
    kiln: Kiln | None = None,
    words: list[str] | None = None,
    pair: tuple[str, str] | None = None,
    many: int | None = None,
    heat: Literal["hot", "cold"] = "hot",
) -> None:
    pass


@pytest.fixture(scope="module")
def params() -> dict[str, Any]:
    app = typer.Typer(add_completion=False)
    app.command()(_every)
    return {param.name: param for param in typer.main.get_command(app).params if param.name}


WORDS = st.sampled_from(
    ["", "0", "3", "03", "10", "11", "-1", "+3", "1_0", "1.5", "1.", ".5", "1e1", "nan", "inf", " 3", "3 ", "٣", "0.01",
     "0.009", "60.0", "hot", "HOT", "cold-as-salt", "a" * 300, ".", "/", "nowhere/at all", "9" * 20, "0x3", "true", "None"]
)  # fmt: skip


@pytest.mark.skipif(not PYDANTIC, reason="this version of Typer needs no detour")
@given(
    name=st.sampled_from(["text", "number", "seconds", "file", "kiln", "words", "pair", "many", "heat"]),
    value=WORDS | st.text(max_size=5) | st.lists(WORDS, max_size=3).map(tuple),
)
def test_what_is_taken_as_it_stands_is_what_typer_makes_of_it(params: dict[str, Any], name: str, value: Any) -> None:
    param = params[name]
    many = name in ("words", "pair")
    if many != isinstance(value, tuple) or (not many and "\0" in value):
        return  # such a value does not come from a command line
    expected, info = param.type_descriptor.annotation, param.type_descriptor.parameter_info
    found = plain(expected, value, least=info.min, most=info.max)
    if found is not UNSURE:
        own = param.process_value(typer.Context(typer.main.get_command(typer.Typer(callback=lambda: None))), value)
        assert found == own and type(found) is type(own)


@pytest.mark.parametrize(
    ("expected", "value", "found"),
    [
        (str, "kiln-02", "kiln-02"),
        (int, "7", 7),
        (float, "0.25", 0.25),
        (float, "2", 2.0),
        (Path, "estate.toml", Path("estate.toml")),
        (Kiln, "hot", Kiln.HOT),
        (Literal["hot", "cold"], "cold", "cold"),
        (list[str], ("a", "b"), ["a", "b"]),
        (tuple[str, str], ("a", "b"), ("a", "b")),
        (float, 1.0, 1.0),
    ],
)
def test_plain_words_are_taken(expected: Any, value: Any, found: Any) -> None:
    assert plain(expected, value) == found


def test_what_is_wrong_is_told_as_ever(run: Run) -> None:
    for words, says in (
        (("--timeout", "0"), "0.01"),
        (("--timeout", "soon"), "valid"),
        (("--tries", "2.5"), "valid"),
        (("--fail-on", "friday"), "--fail-on"),
    ):
        refused = run("audit", *words)
        assert refused.status == 2 and says in " ".join(refused.err.split()) and not refused.out


def test_a_command_that_is_typed_well_brings_in_nothing_for_words(tmp_path: Path) -> None:
    (tmp_path / "estate.toml").write_text(
        '[[zones]]\nname = "salt.invalid"\nservers = ["one"]\n[servers.one]\naddress = "127.0.0.1"\nport = 9\n'
        '[keys.k]\nsecret_file = "k.key"\n',
        encoding="utf-8",
    )
    (tmp_path / "k.key").write_text("c2FsdA==", encoding="utf-8")
    words = "ask kiln.salt.invalid A --at one --timeout 0.1 --tries 1 --estate estate.toml --json"
    code = "import sys; from salt_mirror.cli.main import main\n"
    code += f"sys.argv = ['salt-mirror', *{words!r}.split()]\n"
    code += "try:\n    main()\nfinally:\n    print(*sorted(sys.modules), file=sys.stderr)"
    done = subprocess.run(
        [sys.executable, "-c", code],
        cwd=tmp_path,
        capture_output=True,
        text=True,
        encoding="utf-8",
        check=False,
        env=os.environ | {"SALT_MIRROR_RESOLVERS": ""},
    )
    assert done.stdout.startswith("{") and "salt_mirror.checks.ask.judging" in done.stderr
    heavy = {"pydantic", "rapidfuzz", "dns", "markdown_it", "matplotlib", "distributed", "httpx", "jinja2"}
    assert not heavy & set(done.stderr.split())


@pytest.mark.skipif(not PYDANTIC, reason="this version of Typer needs no detour")
def test_the_private_parts_of_typer_that_are_relied_on_are_there(params: dict[str, Any]) -> None:
    descriptors = [param.type_descriptor for param in params.values()]
    assert len(descriptors) >= 9, "cli/words.py goes Typer's own way for everything: look at its head"
    for expected in descriptors:
        assert hasattr(expected, "annotation")
        assert {"min", "max", "parser", "case_sensitive"} <= set(vars(expected.parameter_info))


def test_the_program_takes_its_words_plainly() -> None:
    from salt_mirror.cli.main import program

    app: Any = typer.main.get_command(program(["ask"]))
    assert isinstance(app.commands["ask"], Command)


def test_a_command_that_is_not_the_first_word_is_brought_in_all_the_same(run: Run) -> None:
    assert run("--", "explain", "pair.no-pointer").out == run("explain", "pair.no-pointer").out
    assert run("--", "explain", "--nonsense").status == 2
