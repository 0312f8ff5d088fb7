"""How soon a page of many findings is there, against an empty page in the same browser: python bench/page.py [FINDINGS]

50,000 findings in headless Chromium, in rounds that alternate; the time is from the begin of the navigation until the page has
been loaded, filtered and laid out, as the page's own clock has it.
"""

from __future__ import annotations

import statistics
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from salt_mirror.report.files import FORMS
from support.browser import Browser, browser
from support.large import large_report

ROUNDS = 7
EMPTY = '<!DOCTYPE html><html lang="en"><meta charset="utf-8"><title>empty</title><p>empty</p></html>'
TOOK = "document.body.offsetHeight && performance.now()"
SEARCH = """(() => { const begin = performance.now(); document.querySelector('[name=text]').value = 'rake-00042';
document.getElementById('filter').dispatchEvent(new Event('input'));
return new Promise(done => setTimeout(() => done(performance.now() - begin), 121)); })()"""


def opened(chromium: Browser, path: Path) -> float:
    """Seconds until a page is there."""
    chromium.open(path.as_uri())
    return float(chromium.value(TOOK)) / 1000


def main() -> None:
    number = int(next((word for word in sys.argv[1:] if word.isdigit()), 50_000))
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as text:
        folder = Path(text)
        (folder / "empty.html").write_text(EMPTY, encoding="utf-8")
        report = large_report(number)
        before = time.perf_counter()
        page = FORMS["html"].written(report)
        print(
            f"the page of {number:,} findings: {len(page) / 1e6:.1f} MB, made in {time.perf_counter() - before:.1f} s"
        )
        (folder / "page.html").write_bytes(page)
        with browser(folder) as chromium:
            rounds = [
                (opened(chromium, folder / "empty.html"), opened(chromium, folder / "page.html")) for _ in range(ROUNDS)
            ]
            searched = float(chromium.value(SEARCH)) / 1000
        more = [with_findings - empty for empty, with_findings in rounds]
        shown = " ".join(f"{one:.2f}" for one in sorted(more))
        print(f"it opens {statistics.median(more):.2f} s after an empty one, median of {ROUNDS} (rounds {shown})")
        print(f"the first search through all of it takes {searched:.2f} s")


if __name__ == "__main__":
    main()
