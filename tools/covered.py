"""Which lines the tests run, also in the installed program, as a share of each folder: python tools/covered.py"""

from __future__ import annotations

import argparse
import json
import os
import subprocess
import sys
import tempfile
from collections import defaultdict
from pathlib import Path

ROOT = Path(__file__).parents[1]
SETTINGS = """[run]
branch = false
parallel = true
patch = subprocess
sigterm = true
source_pkgs = salt_mirror
data_file = {folder}/data
"""


def main() -> int:
    """Runs the tests and prints a line a folder."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--workers", default="2", help="as pytest-xdist takes them")
    given, words = parser.parse_known_args()
    with tempfile.TemporaryDirectory() as folder:
        settings = Path(folder) / "settings"
        settings.write_text(SETTINGS.format(folder=folder), encoding="utf-8")
        call = [sys.executable, "-m", "coverage"]
        named = ["--rcfile", str(settings)]
        tests = ["pytest", "-q", "-n", given.workers, "--dist", "loadfile", "--no-loadscope-reorder", *words]
        environment = os.environ | {"COVERAGE_PROCESS_START": str(settings)}
        status = subprocess.run([*call, "run", *named, "-m", *tests], check=False, cwd=ROOT, env=environment).returncode
        subprocess.run([*call, "combine", "--quiet", *named], check=True, cwd=ROOT)
        report = Path(folder) / "report.json"
        subprocess.run([*call, "json", "--quiet", *named, "-o", str(report)], check=True, cwd=ROOT)
        files = json.loads(report.read_text(encoding="utf-8"))["files"]
    counted: dict[str, list[int]] = defaultdict(lambda: [0, 0])
    for path, measured in files.items():
        inside = Path(path).parts[Path(path).parts.index("salt_mirror") + 1 :]
        for name in ("all", inside[0] if len(inside) > 1 else "salt_mirror"):
            counted[name][0] += measured["summary"]["covered_lines"]
            counted[name][1] += measured["summary"]["num_statements"]
    for name, (covered, lines) in sorted(counted.items(), key=lambda item: item[1][0] / max(1, item[1][1])):
        print(f"{name:12} {covered / max(1, lines):6.1%}  {covered} of {lines} lines")
    return status


if __name__ == "__main__":
    sys.exit(main())
