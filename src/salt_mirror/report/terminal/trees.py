"""Trees of tests on a terminal: pass or fail for each, with the tests inside it.

Strategy: a test that passed is one line, and what is inside it is shown on demand; one that did not is opened, and says why it
matters. Marks are words, so that nothing hangs on colour.
"""

from __future__ import annotations

from collections.abc import Callable

from rich.text import Text

from salt_mirror.checks.tests import Test
from salt_mirror.report.cleaning import clean

_FEW_TREES, _FEW_PASSED = 2, 4
_STYLES = {"ok": "green", "note": "cyan", "caution": "yellow", "unverified": "bold yellow", "fault": "bold red"}
_WORDS = {"ok": "ok", "note": "note", "caution": "caution", "unverified": "unknown", "fault": "FAIL"}


def print_tests(tests: list[Test], line: Callable[..., None], *, everything: bool) -> None:
    """Prints trees of tests; with `everything` those inside tests that passed as well."""
    few = len(tests) <= _FEW_TREES
    for test in tests:
        if few or everything or test.mark != "ok":
            line()
        line(Text.assemble(("TESTS ", "dim"), (clean(test.title), "bold"), f"  {clean(test.says)}"))
        for inner in test.tests if few or everything or test.mark != "ok" else ():
            _print(inner, line, 8, everything)


def _print(test: Test, line: Callable[..., None], indent: int, everything: bool) -> None:
    opened = everything or test.mark != "ok"
    says = f": {clean(test.says)}" if test.says else ""
    why = f"  ({clean(test.why)})" if test.why and opened else ""
    line(
        Text.assemble(
            (f"{_WORDS[test.mark]:<8}", _STYLES[test.mark]),
            (clean(test.title), "bold" if opened else ""),
            says,
            (why, "dim"),
        ),
        indent,
    )
    if not opened:
        return
    passed = sum(inner.mark == "ok" for inner in test.tests)
    folded = passed > _FEW_PASSED and not everything
    for inner in test.tests:
        if inner.mark != "ok" or not folded:
            _print(inner, line, indent + 8, everything)
    if folded:
        line(Text(f"{'ok':<8}{passed} others (--all shows them)", style="dim"), indent + 8)
