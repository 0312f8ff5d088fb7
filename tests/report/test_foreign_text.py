"""Text of others: whatever a server, an estate or a file says, it acts on no terminal, page, ticket, figure or zone."""

from __future__ import annotations

import ast
import io
from datetime import UTC, datetime
from pathlib import Path

import pytest
from markdown_it import MarkdownIt

import salt_mirror
from salt_mirror.cli.messages import tell
from salt_mirror.cli.outputs import remedies_one_by_one
from salt_mirror.findings import Finding
from salt_mirror.report.document import Counts, Report
from salt_mirror.report.figures.watch import Bound, Dot, draw
from salt_mirror.report.files.markdown import written
from salt_mirror.report.terminal.console import console_on
from support.estates import estate_of
from support.program import Run

SOURCES = Path(salt_mirror.__file__).parent
HOSTILE = "<script>alert(1)</script> \\. $_$ `x` ``` | a | [l](javascript:1) \x1b[2J\x9b31m\x07 \u202e \r end"


def report_of(*findings: Finding, remarks: tuple[str, ...] = ()) -> Report:
    return Report(
        command="pairs", title=HOSTILE, estate=None, started=datetime(2026, 11, 25, tzinfo=UTC), seconds=1.0,
        outcome="differs", counts=Counts(agrees=0, differs=1, unverified=0, questions=1),
        remarks=list(remarks), findings=list(findings),
    )  # fmt: skip


def hostile_finding(cause: str = "") -> Finding:
    return Finding(
        code="pair.stale-pointer", weight="fault", outcome="differs", name="h1.pans.example.", type="A", view=HOSTILE,
        text=HOSTILE, remedy=f"h1 IN PTR {HOSTILE}\nh2 IN PTR {HOSTILE}", cause=cause, expected=[], evidence=[],
    )  # fmt: skip


def test_nothing_is_printed_but_by_the_console_and_the_teller() -> None:
    """The console and the teller clean; whoever prints in another way goes round them."""
    doors = {"cli/messages.py", "report/terminal/console.py", "entry.py"}  # the last has one word, of its own
    for path in SOURCES.rglob("*.py"):
        place = path.relative_to(SOURCES).as_posix()
        if place in doors:
            continue
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, ast.Call):
                called = ast.unparse(node.func)
                assert called not in (
                    "print",
                    "Console",
                    "sys.stderr.write",
                    "sys.stdout.write",
                    "sys.stderr.writelines",
                ), f"{place}, line {node.lineno}: {called}"


def test_neither_console_nor_teller_lets_a_terminal_be_told_what_to_do() -> None:
    out = io.StringIO()
    console_on(out, width=60).print(HOSTILE + "\nnext")
    tell(HOSTILE + "\nnext", file=out)
    assert out.getvalue().replace("\n", "").isprintable()
    assert out.getvalue().count("\n") >= 4 and out.getvalue().endswith("next\n")


@pytest.mark.parametrize("cause", ["", HOSTILE])
def test_a_ticket_that_lets_html_through_shows_remedies_as_they_are_and_runs_nothing(cause: str) -> None:
    report = report_of(hostile_finding(cause), hostile_finding(cause), remarks=(HOSTILE, "two"))
    markdown = written(report).decode("utf-8")
    page = MarkdownIt("commonmark", {"html": True}).enable("table").render(markdown)
    assert "<script" not in page and 'href="javascript' not in page
    assert page.count("<pre>") == page.count("h1 IN PTR &lt;script&gt;") == (1 if cause else 2)
    assert "<table>" not in page, "a remark makes no table"
    assert page.count("\\.") >= 6, "a backslash stays"
    assert "\x1b" not in markdown and "\u202e" not in markdown


def test_a_figure_takes_no_value_for_mathematics() -> None:
    dots = [Dot(1.0, "$_$", False, 0, "old", False), Dot(2.0, "$_$", False, 0, "new", True)]
    for form, at in (("png", 3.0), ("svg", 2.2)):
        assert draw(form, HOSTILE, dots, {("$_$", False): 1}, 0.0, 2.5, Bound(at, HOSTILE))


def test_a_file_of_remedies_has_no_line_that_a_comment_or_a_value_made() -> None:
    lines = remedies_one_by_one(report_of(hostile_finding())).splitlines()
    assert [line.partition(" ")[0] for line in lines if line] == [";", ";", "h1", "h2"]
    assert all(line.isprintable() for line in lines)


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ('title = "a\\u001b[2J"', "title: a character that cannot be printed"),
        ('[servers."x\\n$INCLUDE y"]\naddress = "127.0.0.1"', "a character that cannot be printed in the key"),
        ('public_views = ["a\\nb"]', "public_views: a line break"),
    ],
)
def test_an_estate_has_no_label_that_would_act_somewhere(run: Run, tmp_path: Path, text: str, said: str) -> None:
    path = estate_of(tmp_path, 2, {"one": 1})
    path.write_text(text + "\n" + path.read_text(encoding="utf-8"), encoding="utf-8")
    done = run("pairs", "--estate", str(path))
    assert done.status == 2 and said in done.err and done.err.replace("\n", "").isprintable()
