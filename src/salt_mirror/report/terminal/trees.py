"""Trees of tests on a terminal: pass or fail for each, with the tests inside it.

Strategy: a test that passed is one line, and what is inside it is shown on demand; one that did not is opened, and says why it
matters. Marks are words, so that nothing hangs on colour.
"""

from __future__ import annotations

from collections.abc import Callable

from rich.text import Text

from salt_mirror.checks.common.test_tree import Test
from salt_mirror.report.cleaning import clean

_FEW_TREES, _FEW_PASSED, _WIDTH = 2, 4, 11
_STYLES = {"ok": "green", "note": "cyan", "caution": "yellow", "unverified": "bold yellow", "fault": "bold red"}


def print_tests(tests: list[Test], line: Callable[..., None], *, everything: bool) -> None:
    """Print trees of tests; with `everything` those inside tests that passed as well."""
    few = len(tests) <= _FEW_TREES
    for number, test in enumerate(tests):
        if not number or few or everything or test.mark != "ok":
            line()
        mark = (f"{test.mark:<{_WIDTH}}", _STYLES[test.mark])
        line(Text.assemble(("TESTS ", "dim"), mark, (clean(test.title), "bold"), f"  {clean(test.says)}"))
        for inner in test.tests if few or everything or test.mark != "ok" else ():
            _print(inner, line, 8, everything)


def _entry(test: Test) -> bool:
    """Return whether it is an entry of a list: nothing but its title."""
    return not (test.says or test.why or test.tests)


def _print(test: Test, line: Callable[..., None], indent: int, everything: bool) -> None:
    opened = everything or test.mark != "ok"
    says = f": {clean(test.says)}" if test.says else ""
    why = f"  ({clean(test.why)})" if test.why and opened else ""
    line(
        Text.assemble(
            (f"{test.mark:<{_WIDTH}}", _STYLES[test.mark]),
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
        if _entry(inner) and not everything:
            continue  # the test that it stands in counts it
        if inner.mark != "ok" or not folded:
            _print(inner, line, indent + _WIDTH, everything)
    if folded:
        line(Text(f"{'ok':<{_WIDTH}}{passed} others (--all shows them)", style="dim"), indent + _WIDTH)
