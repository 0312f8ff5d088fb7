"""The prompt of `ask`, driven as by hand on a terminal."""

from __future__ import annotations

from pathlib import Path

from salt_mirror.standin.server import StandIn
from support.program import PROGRAM
from support.terminal import Terminal

World = tuple[Path, dict[str, StandIn]]


def answered(terminal: Terminal, typed: str, *, says: str) -> None:
    terminal.type(f"{typed}\r")
    terminal.until(says)


def test_lines_are_answered_and_options_alone_are_kept_for_those_that_follow(world: World, tmp_path: Path) -> None:
    command = [str(PROGRAM), "ask"]
    with Terminal(command, cwd=world[0].parent, XDG_STATE_HOME=str(tmp_path / "state")) as terminal:
        terminal.until("ask>")
        answered(terminal, "press A --at dc-north", says="10.77.20.21")
        answered(terminal, "--at dc-kiln --brief", says="ask --at dc-kiln --brief>")
        answered(terminal, "kiln-02 A", says="10.77.20.12")
        answered(terminal, "10.77.20.14", says="kiln-04.pans.gullmarsh.internal.")
        answered(terminal, "press --nonsense", says="No such option")
        answered(terminal, "press AAA", says="did you mean AAAA?")
        answered(terminal, "10.77.20.0/24", says="salt-mirror pairs 10.77.20.0/24")
        answered(terminal, "'press", says="a quotation mark is open")
        answered(terminal, "?", says="options alone are kept")
        terminal.type("--\r")
        # The third: a Ctrl-D between two prompts, when the terminal is in nobody's hands, would be lost.
        terminal.until("ask>", times=3)
        terminal.type("\x04")
        assert terminal.end() == 0


def test_names_servers_and_types_are_completed_and_lines_are_found_again(world: World, tmp_path: Path) -> None:
    folder, state = world[0].parent, str(tmp_path / "state")
    with Terminal([str(PROGRAM), "ask"], cwd=folder, XDG_STATE_HOME=state) as terminal:
        terminal.until("ask>")
        terminal.type("weighb\t")
        terminal.until("weighbridge.pans.gullmarsh.internal")
        terminal.type(" --a\t")
        terminal.until("internal --at")
        terminal.type(" dc-nor\t")
        terminal.until("--at dc-north")
        terminal.type("\r")
        terminal.until("dc-north (")
        terminal.type("quit\r")
        assert terminal.end() == 0
    kept = tmp_path / "state" / "salt-mirror" / "ask-history"
    assert "weighbridge" in kept.read_text(encoding="utf-8") and kept.stat().st_mode & 0o077 == 0
    with Terminal([str(PROGRAM), "ask"], cwd=folder, columns=40, XDG_STATE_HOME=state) as terminal:
        terminal.until("ask>")
        terminal.type("\x12weighb")  # Ctrl-R
        terminal.until("weighb': weighbridge.")
        terminal.type("\r")
        terminal.until("--at dc-north")
        terminal.type("\r")
        terminal.until("10.77.10.20; no AAAA")
        assert all(len(line) <= 40 for line in terminal.shown)
        terminal.until("ask>", times=2)
        terminal.type("\x03\x04")  # Ctrl-C gives a line up, and not the prompt
        assert terminal.end() == 0
