"""A list of 100,000 rows and a report of 100,000 findings, each as a workbook and as CSV: python bench/workbook.py

Each turn is a process of its own, so that its peak memory is its own; both forms in turns, medians.
"""

from __future__ import annotations

import csv
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

ROWS = 100_000
ROUNDS = 3


def make(folder: Path) -> None:
    """Write the list in both forms; the workbook with shared strings, as office programs write it."""
    from xlsxwriter import Workbook

    book = Workbook(str(folder / "list.xlsx"))
    sheet = book.add_worksheet("Hosts")
    with (folder / "list.csv").open("w", encoding="utf-8", newline="") as file:
        writer = csv.writer(file)
        for number in range(-1, ROWS):
            address = f"10.{number >> 16}.{number >> 8 & 255}.{number & 255}"
            row = [f"rake-{number:06d}", address, "in use" if number % 10 else "free", "Ada"]
            row = row if number >= 0 else ["Host Name", "IP Address", "Status", "Owner"]
            writer.writerow(row)
            sheet.write_row(number + 1, 0, row)
    book.close()


def turn(what: str, form: str, folder: Path) -> None:
    """Read or write once, and print the seconds and the peak memory in MiB that it took above what was there before."""
    if sys.platform == "win32":
        raise SystemExit("the peak memory of a process is measured on POSIX only")
    import resource

    from salt_mirror.dns.names import from_text
    from salt_mirror.estate.lists.spec import ListSpec
    from salt_mirror.estate.sources import read_expectations
    from salt_mirror.estate.table import TableLayout

    if what == "read":
        layout = TableLayout({"name": "Host Name", "value": "IP Address"}, {"Status": ("in use",)}, note="Owner")
        spec = ListSpec(layout=layout)
        held = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        before = time.perf_counter()
        found = read_expectations(folder / f"list.{form}", from_text("pans.example"), None, spec)
        assert len(found) == ROWS - ROWS // 10
    else:
        from salt_mirror.report.files import FORMS
        from support.large import large_report

        report = large_report(ROWS)
        held = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        before = time.perf_counter()
        written = FORMS[form].written(report)
        assert len(written) > ROWS
        (folder / f"report.{form}").write_bytes(written)
    took = time.perf_counter() - before
    print(took, (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - held) / 1024)


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        # In a process of its own: what is started afterwards begins with the peak of this one.
        subprocess.run([sys.executable, __file__, "make", "", name], check=True)
        for what in ("read", "write"):
            seconds: dict[str, list[float]] = {"csv": [], "xlsx": []}
            memory: dict[str, list[float]] = {"csv": [], "xlsx": []}
            for _ in range(ROUNDS):
                for form in seconds:
                    command = [sys.executable, __file__, what, form, name]
                    done = subprocess.run(command, capture_output=True, text=True, check=True)
                    took, held = map(float, done.stdout.split())
                    seconds[form].append(took)
                    memory[form].append(held)
            ratios = [xlsx / text for xlsx, text in zip(seconds["xlsx"], seconds["csv"], strict=True)]
            subject = f"list of {ROWS:,} rows" if what == "read" else f"report of {ROWS:,} findings"
            cost = {
                form: f"{statistics.median(seconds[form]):.1f} s, {statistics.median(memory[form]):.0f} MiB"
                for form in seconds
            }
            print(
                f"{subject}, {what}: xlsx {cost['xlsx']}; csv {cost['csv']};"
                f" ratio {statistics.median(ratios):.1f} ({min(ratios):.1f} to {max(ratios):.1f})"
            )


if __name__ == "__main__":
    if sys.argv[1:2] == ["make"]:
        make(Path(sys.argv[3]))
    elif len(sys.argv) > 1:
        turn(sys.argv[1], sys.argv[2], Path(sys.argv[3]))
    else:
        main()
