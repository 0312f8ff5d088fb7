"""Every command of the pages that tell of the product runs, in a page's order, on the demo's world."""

from __future__ import annotations

import os
import re
import shlex
import shutil
import subprocess
from contextlib import ExitStack
from pathlib import Path

import pytest

from salt_mirror.demo.vantages import stationed
from salt_mirror.demo.world import gullmarsh
from support.documents import DOCS, JUDGED, commands_in, shown_in_help_and_jobs
from support.program import PROGRAM
from support.waiting import PATIENCE_S

BEYOND = re.compile(r"^(draft|demo|from-here( --self.*)?$)|tls://")
"""What asks servers that the demo does not have, or this computer's own."""
LEAVES = re.compile(r"--write|--history|--journal|--apply|^snapshot")
"""What leaves something that a later command takes up."""


def furnish(folder: Path) -> None:
    """The files that the pages speak of."""
    tables = {
        "names.txt": "kiln-02.pans.gullmarsh.internal A\n10.77.20.12\n",
        "migration.csv": "name,type,value\nshop.gullmarsh.example,A,192.0.2.12\n",
        "changes.csv": "name,type,value\nshop.gullmarsh.example,A,192.0.2.12\n",
    }
    for name, text in tables.items():
        (folder / name).write_text(text, encoding="utf-8")
    shutil.copy(folder / "exports" / "leases.csv", folder / "build-list.csv")
    shutil.copy(folder / "exports" / "pans.zone", folder / "controller.dns")
    shutil.copytree(folder / "computer", folder / "captured")


def as_run(typed: str, folder: Path) -> str:
    """A command as it is run here: nobody answers a question, waits for a change, or knows an undo file's moment beforehand."""
    if typed.startswith("mend --apply"):
        typed += " --yes"
    if typed.startswith("settle") and "--within" not in typed:
        typed += " --within 1s"
    undo = next(folder.glob("*.undo"), None)
    if undo is not None:
        typed = re.sub(r"mend-\S+\.undo", f"{undo.name} --yes", typed)
    return re.sub(r"--within \S+", "--within 1s", typed)


@pytest.mark.parametrize("page", ["looking", "checking", "changing", "how-it-asks", "vantages"])
def test_every_command_of_a_page_runs_on_the_demos_world(page: str, tmp_path: Path) -> None:
    failed = []
    elsewhere = {typed for typed in shown_in_help_and_jobs() if not LEAVES.search(typed)}
    with ExitStack() as stack:
        estate, servers = stack.enter_context(gullmarsh(tmp_path / "world"))
        furnish(estate.parent)
        if page == "vantages":
            stack.enter_context(stationed(estate, servers))
        for typed in commands_in(DOCS / f"{page}.md"):
            if BEYOND.search(typed) or typed in elsewhere:  # the others are run with the help's examples
                continue
            words = as_run(typed, estate.parent)
            done = subprocess.run(
                [str(PROGRAM), *shlex.split(words)], cwd=estate.parent, text=True, encoding="utf-8", capture_output=True,
                input=(estate.parent / "names.txt").read_text(encoding="utf-8"),
                env=os.environ | {"SALT_MIRROR_RESOLVERS": "", "NO_COLOR": "1"}, check=False, timeout=PATIENCE_S,
            )  # fmt: skip
            if done.returncode not in JUDGED or not done.stdout:
                failed.append((words, done.returncode, done.stderr[-300:]))
    assert failed == []
