"""What the main commands report on Gullmarsh's world, byte for byte but for times and ports."""

from __future__ import annotations

from pathlib import Path

import pytest

from salt_mirror.standin.server import StandIn
from support.program import Run
from support.recording import COMMANDS, FOLDER, normalised


@pytest.mark.parametrize("name", COMMANDS)
def test_a_report_is_what_was_recorded(run: Run, world: tuple[Path, dict[str, StandIn]], name: str) -> None:
    done = run(*COMMANDS[name], "--json", "--estate", str(world[0]))
    recorded = (FOLDER / f"{name}.json").read_text(encoding="utf-8")
    assert normalised(done.out) == recorded, (
        "python tests/support/recording.py records a change that is meant to be seen"
    )
