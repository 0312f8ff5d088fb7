"""At home in a shell: what the help shows runs, what a shell completes, how a pipeline is told, what nothing is printed of."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
from pathlib import Path

import pytest

from salt_mirror.cli.arguments import keep_pace, pace_for_a_sweep
from salt_mirror.demo.world import gullmarsh
from salt_mirror.dns.questions import Server
from salt_mirror.estate.model import Estate
from salt_mirror.standin.server import Fault
from support.documents import DOCS
from support.program import PROGRAM, Run


@pytest.fixture
def estate(tmp_path: Path) -> Path:
    """An estate on nothing, with names to be completed."""
    path = tmp_path / "estate.toml"
    path.write_text(
        '[[zones]]\nname = "pans.salt.invalid"\nview = "internal"\nservers = ["dc-north"]\n'
        '[servers.dc-north]\naddress = "127.0.0.1"\nport = 9\n[resolvers.kiln-office]\naddress = "127.0.0.1"\nport = 9\n'
        'group = "offices"\nview = "internal"\n[vantages.quay]\n',
        encoding="utf-8",
    )
    return path


def completed(words: str, folder: Path) -> list[str]:
    """What a shell is given for a line that is being typed."""
    typed = words.split(" ")
    more = {"_SALT_MIRROR_COMPLETE": "complete_bash", "COMP_WORDS": words, "COMP_CWORD": str(len(typed) - 1)}
    done = subprocess.run([str(PROGRAM)], cwd=folder, text=True, capture_output=True, env=os.environ | more, check=True)
    return done.stdout.split()


@pytest.mark.parametrize(
    ("words", "wanted"),
    [
        ("salt-mirror autho", "authority"), ("salt-mirror authority pa", "pans.salt.invalid"),
        ("salt-mirror pairs --at dc", "dc-north"), ("salt-mirror pairs --view in", "internal"),
        ("salt-mirror ask x --at off", "offices"), ("salt-mirror explain pair.no-p", "pair.no-pointer"),
        ("salt-mirror audit --only serv", "services"), ("salt-mirror audit --fail-on ne", "new"),
        ("salt-mirror pairs --qu", "--quiet"), ("salt-mirror vantage keys keys qu", "quay"),
    ],
)  # fmt: skip
def test_a_shell_completes_what_the_estate_and_the_catalogue_name(estate: Path, words: str, wanted: str) -> None:
    assert wanted in completed(words, estate.parent)
    (estate.parent / "estate.toml").write_text("[[zones", encoding="utf-8")
    assert completed(words.rpartition(" ")[0] + " no-such-word", estate.parent) == []


def test_completion_imports_no_check_and_no_engine(estate: Path) -> None:
    more = {
        "_SALT_MIRROR_COMPLETE": "complete_bash",
        "COMP_WORDS": "salt-mirror pairs pa",
        "COMP_CWORD": "2",
        "PYTHONPROFILEIMPORTTIME": "1",
    }
    done = subprocess.run(
        [str(PROGRAM)], cwd=estate.parent, text=True, capture_output=True, env=os.environ | more, check=True
    )
    assert done.stdout.split() == ["pans.salt.invalid"]
    assert not re.search(r"salt_mirror\.(checks|dns\.traffic)|msgspec|jinja2|rich\.", done.stderr)


@pytest.mark.parametrize("shell", ["bash", "zsh", "fish", "pwsh"])
def test_completion_is_installed_for_each_shell(
    run: Run, tmp_path: Path, shell: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    if shell == "pwsh":
        assert "_SALT_MIRROR_COMPLETE" in run("--show-completion", shell).out
        return
    monkeypatch.setenv("HOME", str(tmp_path))
    done = run("--install-completion", shell)
    assert done.status == 0 and done.out.startswith(f"{shell} completes salt-mirror now, by ")
    written = Path(done.out.partition(", by ")[2].partition(";")[0])
    assert written.is_relative_to(tmp_path) and "_SALT_MIRROR_COMPLETE" in written.read_text(encoding="utf-8")
    assert run("--show-completion", shell).out.strip() in written.read_text(encoding="utf-8")
    if shell == "bash":
        script = f"source {written}; complete -p salt-mirror"
        assert (
            "_salt_mirror" in subprocess.run(["bash", "-c", script], text=True, capture_output=True, check=True).stdout
        )


def test_every_check_writes_reports_keeps_a_history_and_fails_as_a_pipeline_wishes(run: Run, tmp_path: Path) -> None:
    with gullmarsh(tmp_path / "world") as (estate, servers):
        os.chdir(tmp_path)
        (tmp_path / "zones.txt").write_text(
            "# ours\ngullmarsh.example\n\n10.77.20.0/24  # the kiln's\n", encoding="utf-8"
        )
        call = ("authority", "--estate", str(estate), "--zones", "zones.txt", "--history", "runs.db")
        first = run(*call, "--fail-on", "new", "--quiet", "--report", "csv:out.csv", "--remedies", "mend.zone")
        assert (first.status, first.out) == (1, "") and (tmp_path / "out.csv").is_file()
        assert "; auth.glue-wrong (not ours): " in (tmp_path / "mend.zone").read_text(encoding="utf-8")
        again = run(*call, "--fail-on", "new")
        assert again.status == 0 and "UTC: 0 new, 0 gone" in again.out.splitlines()[2]
        assert run(*call, "--fail-on", "never").status == 0 and run(*call).status == 1
        servers["ns2"].fault = Fault.FAILING
        newer = run(*call, "--fail-on", "new", "--json")
        assert newer.status == 1 and {one["code"] for one in newer.report["history"]["new"]} == {"auth.lame"}
        servers["ns2"].fault = Fault.SILENT
        quick = (*call, "--fail-on", "new", "--timeout", "0.3", "--tries", "1")
        silent = run(*quick)
        assert silent.status == 3 and re.search(
            r"UTC: 0 new, \d gone, [1-9] newly unverified", silent.out.splitlines()[2]
        )
        assert run(*quick).status == 0, "it refuses for ever, and that is known"
        servers["ns2"].fault = Fault.NONE
        both = run("authority", "gullmarsh.example", "--estate", str(estate), "--names", "zones.txt", "--json").report
        assert {one["zone"] for one in both["sheets"]} == {"gullmarsh.example.", "20.77.10.in-addr.arpa."}
        assert run("pairs", "rake-01", "--estate", str(estate), "--report", "json:-").report["command"] == "pairs"


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("--fail-on", "new"), "what is new is only known from a history"),
        (("--json", "--quiet"), "--report json:FILE writes the document"),
        (("--names", "empty.txt"), "has no name in it; write one a line"),
        (("--names", "two.txt"), 'line 2: "b c" is more than one name'),
        (("--report", "jsn:out"), 'did you mean "json:…"?'), (("--history", "."), "cannot be written: is a folder"),
    ],
)  # fmt: skip
def test_wishes_that_cannot_be_met_are_refused_before_anything_is_asked(
    run: Run, estate: Path, words: tuple[str, ...], said: str
) -> None:
    (estate.parent / "empty.txt").write_text("# nothing\n", encoding="utf-8")
    (estate.parent / "two.txt").write_text("a\nb c\n", encoding="utf-8")
    done = run("pairs", "--estate", str(estate), *words)
    assert done.status == 2 and said in done.err and not done.out


def test_the_other_commands_tell_a_program_too(run: Run, tmp_path: Path) -> None:
    (tmp_path / "list.csv").write_text(
        "name,type,value\na.salt.invalid,A,192.0.2.1\na.salt.invalid,A,192.0.2.1\n", encoding="utf-8"
    )
    said = run("expect", "list.csv", "--json")
    assert said.status == 1 and len(said.report["expectations"]) == 2 and len(said.report["contradictions"]) == 1
    codes = run("explain", "pair.no-pointer", "--json").report["codes"]
    assert codes["pair.no-pointer"]["several"] == ["addresses", "have no PTR record"]
    with gullmarsh(tmp_path / "world") as (estate, _):
        taken = json.loads(run("snapshot", "now.jsonl", "kiln-02", "--estate", str(estate), "--json").out)
        assert taken["file"] == "now.jsonl" and taken["servers"] == ["dc-kiln", "dc-north"] and taken["unseen"] == 0


def test_generated_pages_are_as_the_program_is_and_the_readme_is_short() -> None:
    sys.path.insert(0, str(DOCS.parent / "tools"))
    import reference

    for path, made in reference.PAGES.items():
        assert path.read_text(encoding="utf-8") == made(), f"{path.name} is old: make reference renews it"
    assert len((DOCS.parent / "README.md").read_text(encoding="utf-8").splitlines()) <= 150


def test_every_link_of_the_documents_leads_somewhere() -> None:
    pages = [*DOCS.rglob("*.md"), *DOCS.parent.glob("*.md")]
    lost = []
    for page in pages:
        for target in re.findall(r"\]\(([^)\s]+)\)", page.read_text(encoding="utf-8")):
            path, _, anchor = target.partition("#")
            there = (page.parent / path).resolve() if path else page
            if target.startswith("http"):
                continue
            if not there.exists():
                lost.append((page.name, target))
            elif anchor and there.suffix == ".md":
                heads = re.findall(r"^#+ (.*)", there.read_text(encoding="utf-8"), re.MULTILINE)
                if anchor not in {re.sub(r"[^\w -]", "", head.lower()).replace(" ", "-") for head in heads}:
                    lost.append((page.name, target))
    assert lost == []


def test_a_sweep_keeps_the_estates_servers_from_a_flood_unless_a_pace_is_given() -> None:
    def paces(pace: float | None) -> list[float | None]:
        servers = [
            Server("far", bytes((192, 0, 2, 53))),
            Server("slow", bytes((192, 0, 2, 54)), pace=50),
            Server("here", bytes((127, 0, 0, 1))),
        ]
        estate = Estate(servers={server.label: server for server in servers})
        pace_for_a_sweep(estate, pace)
        keep_pace(servers, pace)
        return [server.pace for server in servers]

    assert paces(None) == [2000, 50, None]
    assert paces(0) == [None, 50, None]
    assert paces(7) == [7, 7, 7]
