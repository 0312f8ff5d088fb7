"""Completion in real shells, with estates whose names are somebody else's code: nothing runs, nothing is put on the line."""

from __future__ import annotations

import json
import os
import re
import select
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from salt_mirror.cli.shells import SCRIPTS
from support.program import PROGRAM, Run
from support.waiting import PATIENCE_S

CODE = (
    '"${functions[ls]={touch,touched}}"', "pans$(touch touched)", "pans`touch touched`", "pans;touch touched", "--touch",
    "pans\x1b]0;x\x07", "pans\ttouch", "pans' touch touched '", "pans|touch touched", "shop.example;touch touched",
)  # fmt: skip
START = {"bash": ["bash", "-i"], "zsh": ["zsh", "-i"], "fish": ["fish", "-i"]}


def hostile(folder: Path) -> None:
    """An estate in which everything that a shell may ask for has such names, and a sound one beside them."""
    lines = []
    for name in (*CODE, "pans.salt.invalid"):
        quoted = json.dumps(name)
        lines.append(f"[[zones]]\nname = {quoted}\nview = {quoted}\nservers = [{quoted}]\n")
        lines += [
            f'[{table}.{quoted}]\naddress = "127.0.0.1"\ngroup = {quoted}\n' for table in ("resolvers", "vantages")
        ]
        lines.append(f'[servers.{quoted}]\naddress = "127.0.0.1"\n')
    (folder / "estate.toml").write_text("".join(lines), encoding="utf-8")


class Terminal:
    """A shell at a terminal of its own: what is typed, and what has been shown so far."""

    def __init__(self, handle: int) -> None:
        self._handle = handle
        self.shown = ""

    def type(self, keys: str) -> None:
        os.write(self._handle, keys.encode())

    def command(self, words: str, says: str) -> None:
        """Clears the line that is being typed, and waits for what a command says."""
        self.type(f"\x15{words}\r")
        assert self.shows(lambda shown: says in shown), self.shown

    def shows(self, said: Callable[[str], object]) -> bool:
        """Reads until something is shown."""
        over_at = time.monotonic() + PATIENCE_S
        while time.monotonic() < over_at and not said(self.shown):
            if select.select([self._handle], [], [], 0.1)[0]:
                self.shown += os.read(self._handle, 65536).decode("utf-8", "replace")
        return bool(said(self.shown))


@contextmanager
def terminal(shell: str, folder: Path) -> Iterator[Terminal]:
    import pty

    if sys.platform == "win32":
        raise NotImplementedError
    pid, handle = pty.fork()
    if pid == 0:
        os.chdir(folder)
        path = f"{PROGRAM.parent}{os.pathsep}{os.environ['PATH']}"
        own = {"HOME": str(folder / "home"), "PATH": path, "TERM": "xterm", "PS1": "> ", "XDG_CONFIG_HOME": ""}
        os.execvpe(shell, START[shell], os.environ | own)
    try:
        yield Terminal(handle)
    finally:
        os.kill(pid, signal.SIGKILL)
        os.waitpid(pid, 0)
        os.close(handle)


@pytest.mark.skipif(sys.platform == "win32", reason="there are no such terminals")
@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_a_name_in_an_estate_runs_nothing_and_is_put_on_no_line(
    run: Run, tmp_path: Path, shell: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    if shutil.which(shell) is None:
        (pytest.fail if os.environ.get("CI") else pytest.skip)(f"{shell} is not installed (make test does it as root)")
    (tmp_path / "home").mkdir()
    monkeypatch.setenv("HOME", str(tmp_path / "home"))
    monkeypatch.delenv("XDG_CONFIG_HOME", raising=False)
    assert run("--install-completion", shell).status == 0
    hostile(tmp_path)
    with terminal(shell, tmp_path) as typed:
        typed.command("echo rea''dy", "ready")
        for words in ("authority pa", "authority --view pa", "pairs --at pa", "resolvers pa", "ask x --from pa"):
            typed.shown = ""
            typed.type(f"salt-mirror {words}\t")
            assert typed.shows(lambda shown: "ns.salt.invalid" in shown), (words, typed.shown)
            typed.command("echo do''ne", "done")
        for words in ("authority ", "authority shop.ex", 'authority "'):
            typed.type(f"salt-mirror {words}\t\t")
            typed.command("ls; echo do''ne", "done")
            assert "touch" not in typed.shown, words
    assert not (tmp_path / "touched").exists() and not (tmp_path / "home" / "touched").exists()


def test_no_script_evaluates_what_it_got_and_each_takes_plain_words_alone() -> None:
    for shell, script in SCRIPTS.items():
        assert not re.search(r"\beval\b|Invoke-Expression|\biex\b", script), shell
        assert "A-Za-z0-9._:/@-" in script, shell
    powershell = SCRIPTS["powershell"]
    assert re.search(r"if \(\$word -cmatch '\\A\[A-Za-z0-9\._:/@-\]\+\\z'\) \{", powershell)
    assert powershell.index("-cmatch") < powershell.index("CompletionResult")


def test_the_program_itself_offers_plain_words_alone(tmp_path: Path) -> None:
    hostile(tmp_path)
    for words in ("authority ", "authority --view ", "pairs --at ", "resolvers ", "ask x --from "):
        for form in ("complete_bash", "complete_zsh", "complete_fish"):  # also to a script of an older version
            more = {
                "_SALT_MIRROR_COMPLETE": form, "COMP_WORDS": f"salt-mirror {words}", "COMP_CWORD": str(words.count(" ") + 1),
                "_TYPER_COMPLETE_ARGS": f"salt-mirror {words}", "_TYPER_COMPLETE_FISH_ACTION": "get-args",
            }  # fmt: skip
            said = subprocess.check_output([str(PROGRAM)], cwd=tmp_path, text=True, env=os.environ | more)
            assert "pans.salt.invalid" in said and "touch" not in said, (words, form)
