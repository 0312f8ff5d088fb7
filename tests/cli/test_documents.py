"""Every command of the pages that tell of the product runs, in a page's order, on the demo's world."""

from __future__ import annotations

import json
import re
import shlex
import shutil
from contextlib import ExitStack
from pathlib import Path

import pytest

from salt_mirror.demo.vantages import stationed
from salt_mirror.demo.world import gullmarsh
from salt_mirror.report.json import DOCUMENTS, schema_file, schema_of
from support.documents import CHECKING, DOCS, JUDGED, commands_in, shown_in_help_and_jobs
from support.program import Run

BEYOND = re.compile(r"^(draft|demo|from-here( --self.*)?$)|tls://")
"""What asks servers that the demo does not have, or this computer's own."""
SLOW = re.compile(r"(audit|mend|rollcall|authority|resolvers|stale|services|views|mail)\b")
"""What asks every server."""
LEAVES = re.compile(r"--write|--history|--journal|--apply|^snapshot")
"""What leaves something that a later command takes up."""


def furnish(folder: Path) -> None:
    """The files that the pages speak of."""
    tables = {
        "names.txt": "kiln-02.pans.gullmarsh.internal A\n10.77.20.12\n",
        "migration.csv": "name,type,value\nshop.gullmarsh.example,A,192.0.2.12\n",
        "changes.csv": "name,type,value\nshop.gullmarsh.example,A,192.0.2.12\n",
        "plan.csv": "name,type,value\nvpn.gullmarsh.example,A,198.51.100.20\n",
        "zones.txt": "gullmarsh.example  # the public one\n",
    }
    for name, text in tables.items():
        (folder / name).write_text(text, encoding="utf-8")
    shutil.copy(folder / "exports" / "leases.csv", folder / "build-list.csv")
    shutil.copy(folder / "exports" / "pans.zone", folder / "controller.dns")
    shutil.copytree(folder / "computer", folder / "captured")
    shutil.copytree(folder / "proposed", folder / "zones")
    shutil.copytree(folder / "proposed", folder / "before" / "zones")


def as_run(typed: str, folder: Path) -> str:
    """A command as it is run here: nobody answers a question, waits for a change or for the demo's silent server, or knows an
    undo file's moment beforehand."""
    if typed.startswith("mend") and typed.endswith("--apply"):
        typed += " --yes"
    typed = re.sub(r'"\$\w+"', "before", typed)
    if typed.startswith("settle") and "--within" not in typed:
        typed += " --within 1s"
    if SLOW.match(typed) and "--timeout" not in typed:
        typed += " --timeout 0.3"
    undo = next(folder.glob("*.undo"), None)
    if undo is not None:
        typed = re.sub(r"mend-\S+\.undo", f"{undo.name} --yes", typed)
    return re.sub(r"--within \S+", "--within 1s", typed)


@pytest.mark.parametrize("page", ["help and jobs", "looking", "checking", "changing", "how-it-asks", "vantages"])
def test_every_command_of_the_documents_runs_on_the_demos_world(run: Run, page: str, tmp_path: Path) -> None:
    failed = []
    shown = shown_in_help_and_jobs()
    with ExitStack() as stack:
        estate, servers = stack.enter_context(gullmarsh(tmp_path / "world"))
        furnish(estate.parent)
        if page == "vantages":
            stack.enter_context(stationed(estate, servers))
        if page == "changing":  # a plan is rehearsed there before one is made
            assert run("mend", "--write", "plan", folder=estate.parent).status in JUDGED
        if page == "help and jobs":
            typed = sorted(
                shown, key=lambda one: (one.startswith(("compare", "history")), one.startswith("mend --apply"))
            )
        else:  # what the help and the jobs show too is run there
            elsewhere = {one for one in shown if not LEAVES.search(one)}
            pages = CHECKING if page == "checking" else (DOCS / f"{page}.md",)
            lines = [line for one in pages for line in commands_in(one)]
            typed = [one for one in lines if not BEYOND.search(one) and one not in elsewhere]
        for one in typed:
            words = as_run(one, estate.parent)
            with (estate.parent / "names.txt").open("rb") as names:
                done = run(*shlex.split(words), folder=estate.parent, stdin=names)
            if done.status not in JUDGED or (not done.out and "--quiet" not in words):
                failed.append((words, done.status, done.err[-300:]))
    assert failed == []


def test_every_json_document_is_as_its_schema_has_it(run: Run, tmp_path: Path) -> None:
    assert [name for name in DOCUMENTS if json.loads(schema_file(name).read_text("utf-8")) != schema_of(name)] == [], (
        "run tools/schema.py"
    )
    with gullmarsh(tmp_path / "world") as (estate, _):
        folder = estate.parent
        run("audit", "--quiet", "--history", "audits.db", folder=folder)
        printed = {
            run(*typed.split(), "--json", folder=folder).document["schema"].split("/")[1]
            for typed in (
                "ask kiln-02 no-such", "budget vpn.gullmarsh.example A --to 192.0.2.77", "explain", "explain pair.no-pointer",
                "draft 10.77.10.0/24 --view internal", "expect records/leases.csv records/services.csv", "history audits.db",
                "history audits.db pair.*", "snapshot now.jsonl", "pairs", "descend web.gullmarsh.example", "stale", "mend",
                "notify --preview duty", "authority gullmarsh.example", "services",
                "settle kiln-02.pans.gullmarsh.internal A --within 1s",
            )
        }  # fmt: skip
    assert printed == set(DOCUMENTS) - {"vantages"}  # that needs a broker, and is tested with the vantages
