"""What the tests share: the installed program, Gullmarsh's world on loopback, and an exchange that answers from a table."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from salt_mirror.demo.world import gullmarsh
from salt_mirror.dns.names import from_text
from salt_mirror.dns.questions import Answer, Question, Server
from salt_mirror.dns.records import rdata_from_text, type_from_text
from salt_mirror.standin.server import StandIn, StandIns

PROGRAM = Path(sys.executable).with_name("salt-mirror.exe" if os.name == "nt" else "salt-mirror")


class Outcome:
    """What a run of the installed program left behind."""

    def __init__(self, done: subprocess.CompletedProcess[str]) -> None:
        self.status = done.returncode
        self.out = done.stdout
        self.err = done.stderr

    @property
    def report(self) -> dict[str, Any]:
        found: dict[str, Any] = json.loads(self.out)
        return found


@pytest.fixture
def run(tmp_path: Path) -> Callable[..., Outcome]:
    """Runs the installed program in a temporary folder; no resolver of this computer is ever asked."""

    def program(*arguments: str, resolvers: str = "", timeout: float = 60) -> Outcome:
        environment = os.environ | {"SALT_MIRROR_RESOLVERS": resolvers, "NO_COLOR": "1"}
        return Outcome(
            subprocess.run(
                [str(PROGRAM), *arguments],
                cwd=tmp_path,
                env=environment,
                capture_output=True,
                text=True,
                encoding="utf-8",
                timeout=timeout,
                check=False,
            )
        )

    return program


@pytest.fixture
def standins() -> Iterator[StandIns]:
    with StandIns() as started:
        yield started


@pytest.fixture(scope="session")
def world(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Path, dict[str, StandIn]]]:
    """Gullmarsh's estate file and its servers."""
    with gullmarsh(tmp_path_factory.mktemp("gullmarsh")) as (estate, servers):
        yield estate, servers


def server_of(standin: StandIn, label: str = "standin") -> Server:
    """The stand-in as the engine sees it."""
    packed = bytes(map(int, standin.host.split("."))) if "." in standin.host else bytes(15) + b"\x01"
    return Server(label, packed, standin.port)


class Table:
    """An exchange that answers from `{(label, name, type): values}`: a list of texts, or a status that is not NOERROR.

    `"=> target"` is an alias. What the table does not hold does not exist. `asked` keeps every question in its order.
    """

    def __init__(self, told: dict[tuple[str, str, str], list[str] | str]) -> None:
        self.backlog = 0
        self.asked: list[Question] = []
        self._told = {
            (label, from_text(name), type_from_text(kind)): said for (label, name, kind), said in told.items()
        }
        self._names = {(label, name) for label, name, _ in self._told}
        self._ready: list[Answer] = []

    def submit(self, question: Question) -> None:
        self.asked.append(question)
        self._ready.append(self._answer(question))
        self.backlog += 1

    def collect(self) -> list[Answer]:
        ready, self._ready = self._ready, []
        self.backlog = 0
        return ready

    def _answer(self, question: Question) -> Answer:
        key = (question.server.label, question.name)
        said = self._told.get((*key, question.rdtype), "NOERROR" if key in self._names else "NXDOMAIN")
        alias = self._told.get((*key, 5))
        if isinstance(alias, list):
            return Answer(question, "NOERROR", authoritative=True, alias=from_text(alias[0]), ttl=60)
        if isinstance(said, str):
            return Answer(question, said, authoritative=said in ("NOERROR", "NXDOMAIN"))
        values = tuple(sorted(rdata_from_text(question.rdtype, text) for text in said))
        return Answer(question, "NOERROR", authoritative=True, values=values, ttl=300)


def interrupt(process: subprocess.Popen[Any]) -> None:
    """Ctrl-C, or what comes nearest to it for a process of its own on Windows."""
    if sys.platform == "win32":
        process.send_signal(signal.CTRL_BREAK_EVENT)
    else:
        process.send_signal(signal.SIGINT)


FLAGS: int = getattr(subprocess, "CREATE_NEW_PROCESS_GROUP", 0)
