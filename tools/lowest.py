"""Runs the tests with the lowest versions that the metadata allows, in an environment of their own: python tools/lowest.py

Strategy: each `name>=version` of the dependencies, of the extras and of the test group becomes `name==version` in a constraints
file; what those need in turn stays at its newest, as pip chooses it.
"""

from __future__ import annotations

import argparse
import os
import re
import subprocess
import sys
import tomllib
from pathlib import Path

ROOT = Path(__file__).parents[1]
PLACE = ROOT / ".venv-lowest"
NEWEST = (
    "tests/cli/test_shell.py::test_generated_pages_are_as_the_program_is_and_the_readme_is_short",
    "tests/cli/test_pairs_command.py::test_the_report_keeps_its_contract",
)
"""The pages and the schema under `docs/` are made with the newest Typer and msgspec, which tell more."""
EXTRAS = ("vantages",)  # the others need headers of the system, and are not pinned


def lowest() -> list[str]:
    """The constraints."""
    metadata = tomllib.loads((ROOT / "pyproject.toml").read_text(encoding="utf-8"))
    project = metadata["project"]
    wanted = [*project["dependencies"], *metadata["dependency-groups"]["test"]]
    for extra in EXTRAS:
        wanted += project["optional-dependencies"][extra]
    found = {}
    for line in wanted:
        match = re.fullmatch(r"([\w.-]+)(?:\[[\w,]+\])?>=([\w.]+).*", line)
        if match is None:
            raise SystemExit(f"pyproject.toml: {line!r} names no lowest version; write name>=version")
        found[match[1].lower()] = match[2]
    return [f"{name}=={version}" for name, version in sorted(found.items())]


def main() -> int:
    """Makes the environment and runs the tests in it."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--workers", default="2", help="as pytest-xdist takes them")
    given, words = parser.parse_known_args()
    python = PLACE / ("Scripts/python.exe" if os.name == "nt" else "bin/python")
    constraints = PLACE / "lowest.txt"
    subprocess.run([sys.executable, "-m", "venv", "--clear", str(PLACE)], check=True)
    constraints.write_text("\n".join(lowest()) + "\n", encoding="utf-8")
    print(constraints.read_text(encoding="utf-8"), flush=True)
    pip = [str(python), "-m", "pip", "install", "--quiet"]
    subprocess.run([*pip, "--upgrade", "pip>=25.1"], check=True)
    call = ["--constraint", str(constraints), "--editable", f".[{','.join(EXTRAS)}]", "--group", "test"]
    subprocess.run([*pip, *call], check=True, cwd=ROOT)
    left_out = [f"--deselect={test}" for test in NEWEST]
    call = ["-n", given.workers, "--dist", "loadfile", "--no-loadscope-reorder", *left_out, "-p", "no:cacheprovider"]
    return subprocess.run([str(python), "-m", "pytest", *call, *words], check=False, cwd=ROOT).returncode


if __name__ == "__main__":
    sys.exit(main())
