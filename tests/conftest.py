"""The fixtures of the tests: the installed program, stand-in servers, Gullmarsh's world on loopback."""

from __future__ import annotations

import os
import signal
import subprocess
from collections.abc import Iterator
from pathlib import Path
from typing import IO

import pytest

from salt_mirror.demo.world import gullmarsh
from salt_mirror.standin.server import StandIn, StandIns
from support import examples as examples  # its profile is loaded before any property is made
from support.estates import Served
from support.forked import ABLE, Forks
from support.program import PROGRAM, Outcome, Run
from support.servers import Certified
from support.waiting import PATIENCE_S


def pytest_addoption(parser: pytest.Parser) -> None:
    """Adds `--backwards`."""
    parser.addoption(
        "--backwards", action="store_true", help="run the modules in reverse order: no test may need another"
    )


def pytest_configure() -> None:
    """Programs that the tests start get the default handling of SIGINT, also where a shell's background job ignores it."""
    if signal.getsignal(signal.SIGINT) is signal.SIG_IGN:
        signal.signal(signal.SIGINT, signal.default_int_handler)


LONG = (
    "mend",
    "documents",
    "shell",
    "demo",
    "vantages_real",
    "vantages",
    "plan",
    "ask",
    "from_here",
    "resolvers",
    "audit",
)
"""The modules that take longest, begun first, so that no worker is left alone with one at the end."""


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """Puts the long modules first, or last with `--backwards`; the order within a module stays."""
    places = {f"test_{name}": number for number, name in enumerate(LONG)}
    modules = sorted({item.path for item in items}, key=lambda path: (places.get(path.stem, len(places)), path))
    order = {path: number for number, path in enumerate(modules)}
    items.sort(key=lambda item: order[item.path], reverse=bool(config.getoption("--backwards")))


@pytest.fixture(scope="session")
def forks(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Forks | None]:
    """The program, loaded once; None where it has to be run as it is."""
    if not ABLE:
        yield None
        return
    forks = Forks(tmp_path_factory.mktemp("forks"))
    yield forks
    forks.close()


@pytest.fixture
def run(tmp_path: Path, forks: Forks | None) -> Run:
    """Runs the program in a temporary folder; no resolver of this computer is ever asked."""

    def program(
        *arguments: str, resolvers: str = "", stdin: IO[bytes] | None = None, folder: Path = tmp_path
    ) -> Outcome:
        environment = os.environ | {"SALT_MIRROR_RESOLVERS": resolvers, "NO_COLOR": "1"}
        if forks is not None:
            return Outcome(forks.run(arguments, folder, environment, stdin, PATIENCE_S))
        call = [str(PROGRAM), *arguments]
        return Outcome(
            subprocess.run(
                call, cwd=folder, env=environment, capture_output=True, text=True, encoding="utf-8",
                timeout=PATIENCE_S, stdin=stdin, check=False,
            )
        )  # fmt: skip

    return program


@pytest.fixture
def standins() -> Iterator[StandIns]:
    with StandIns() as started:
        yield started


@pytest.fixture
def served(standins: StandIns, tmp_path: Path) -> Served:
    """Serves zones from stand-ins, and writes the estate that lists them."""
    return Served(standins, tmp_path)


@pytest.fixture
def demo(run: Run, world: tuple[Path, dict[str, StandIn]]) -> Run:
    """Runs the program on Gullmarsh's estate."""
    return lambda *arguments, **more: run(*arguments, "--estate", str(world[0]), **more)


@pytest.fixture(scope="session")
def certified(tmp_path_factory: pytest.TempPathFactory) -> Certified:
    """A certificate that whoever trusts its authority trusts."""
    return Certified.made_in(tmp_path_factory.mktemp("certified"))


@pytest.fixture(scope="session")
def world(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Path, dict[str, StandIn]]]:
    """Gullmarsh's estate file and its servers."""
    with gullmarsh(tmp_path_factory.mktemp("gullmarsh")) as (estate, servers):
        yield estate, servers
