"""Many findings: told in few lines, on a page that opens at once, and none of them lost."""

from __future__ import annotations

import io
import string
from itertools import chain
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from salt_mirror.findings import Finding
from salt_mirror.report.cleaning import clean
from salt_mirror.report.document import Report
from salt_mirror.report.files import FORMS
from salt_mirror.report.files.rows import Compact, compact, texts
from salt_mirror.report.folding import Folding, folded, kind_of
from salt_mirror.report.terminal.audit import print_audit
from salt_mirror.report.terminal.console import Printed
from salt_mirror.report.terminal.sheets import print_table, table_of
from support.browser import browser
from support.examples import examples
from support.large import ZONES, findings, large_report
from support.waiting import until

WORDS = st.one_of(
    st.from_regex(r"[a-z]{1,4}-?[0-9]{0,3}(\.[a-z0-9]{1,3}){0,3}\.?", fullmatch=True),
    st.from_regex(r"(10|192)(\.[0-9]{1,3}){3}(:53)?", fullmatch=True),
    st.text(string.printable.replace("\x0b", "") + "ä\x1e\x1f", max_size=6),
)


def printed(report: Report, *, everything: bool = False, faults_alone: bool = False) -> str:
    file = io.StringIO()
    print_audit(report, file, faults_alone=faults_alone, everything=everything, accepted=False)
    return file.getvalue()


@given(st.lists(st.lists(WORDS, max_size=6).map(" ".join), max_size=12))
@examples(80)
def test_texts_come_back_from_compact_data_as_they_were(given_texts: list[str]) -> None:
    assert texts(compact(given_texts)) == given_texts
    assert texts(compact(given_texts * 3)) == given_texts * 3


@given(st.data())
@examples(40)
def test_every_finding_is_in_one_fold_and_one_cause_is_one_thing(data: st.DataObject) -> None:
    picked = data.draw(st.lists(st.sampled_from(SOME), unique_by=id, max_size=60))
    causes = data.draw(
        st.lists(st.sampled_from(["", "", "one", "two", "three"]), min_size=len(picked), max_size=len(picked))
    )
    found = [replaced(one, cause) for one, cause in zip(picked, causes, strict=True)]
    folds = folded(found, [("internal", zone) for zone in ZONES])
    told = list(chain.from_iterable(fold.findings for fold in folds))
    assert sorted(map(id, told)) == sorted(map(id, found))
    for fold in folds:
        assert {kind_of(one) for one in fold.findings} == {fold.kind}
        assert len({one.view for one in fold.findings}) == 1
        assert fold.things == len({one.cause or id(one) for one in fold.findings})
        if fold.cause:
            assert {one.cause for one in fold.findings} == {fold.cause}
    for cause in {one.cause for one in found} - {""}:
        for kind in {kind_of(one) for one in found if one.cause == cause}:
            holders = [fold for fold in folds if fold.kind == kind and any(one.cause == cause for one in fold.findings)]
            assert len(holders) == 1


def replaced(finding: Finding, cause: str) -> Finding:
    from msgspec.structs import replace

    return replace(finding, cause=cause)


SOME = list(findings(90))


def test_many_findings_are_a_screenful_and_all_of_them_are_told_on_demand() -> None:
    report = large_report(3000)
    lines = printed(report).splitlines()
    assert lines[0] == "0 of 40 zones are sound; 3,000 faults, 80 cautions."
    told = lines[lines.index("FAULTS: 3,000") :]
    assert len(told) < 60 and len(lines) < 100
    assert any(
        "1,000 addresses in 10.0.0.0/16 named rake-* have no PTR record (pair.no-pointer); the first: 10.0.0.0 (" in one
        for one in told
    )
    assert any("1,000 expected names in 40 zones named rake-* do not exist" in one for one in told)
    assert any(one.startswith("caution 40 zones can be transferred by anyone (dc-north. and dc-kiln.)") for one in told)
    assert any("16 more that are not (--all lists every zone)" in one for one in lines)
    whole = printed(report, everything=True)
    assert all(one.text in whole for one in report.findings)


def test_a_large_fold_comes_apart_where_that_makes_few_parts() -> None:
    near = list(findings(600))[80:]  # three /24 networks
    says = [fold.says for fold in Folding(near, [("internal", zone) for zone in ZONES]).of_kind("fault")]
    assert "86 addresses in 10.0.0.0/24 named rake-* have no PTR record" in says
    assert "29 addresses in 10.0.2.0/24 named rake-* have no PTR record" in says and len(says) == 7


def test_few_findings_are_told_each_whole() -> None:
    report = large_report(0)
    few = Report(
        **{key: getattr(report, key) for key in report.__struct_fields__} | {"findings": list(findings(6))[80:]}
    )
    out = printed(few, faults_alone=True)
    assert "In short" not in out
    assert all(f"        {one.text}\n" in out and f"mend      {one.remedy}\n" in out for one in few.findings)


@pytest.fixture(scope="module")
def large(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("large") / "page.html"
    path.write_bytes(FORMS["html"].written(large_report(50_000)))
    return path


def test_the_page_of_many_findings_is_small_and_holds_all_of_them(large: Path) -> None:
    import msgspec

    page = large.read_text(encoding="utf-8")
    assert len(page.encode()) < 6_000_000 and page.count("<article>") == 100
    data = page.partition('id="data">')[2].partition("</script>")[0]
    read = msgspec.json.decode(data.encode())
    held = texts(Compact(read["templates"], read["words"], read["rows"]))
    wanted = {(one.code, one.place, one.text, one.remedy) for one in large_report(50_000).findings}
    assert {(row[1], row[2], row[5], row[7]) for row in (text.split("\x1e") for text in held)} == wanted


def test_a_browser_makes_rows_when_a_fold_is_opened_and_searches_them_all(large: Path, tmp_path: Path) -> None:
    with browser(tmp_path) as chromium:
        chromium.open(large.as_uri())
        box = "document.querySelectorAll('details.fold')[1]"
        role = f"(n => n)({box}.querySelectorAll('article').length)"
        assert chromium.value(role) == 0
        chromium.value(f"{box}.querySelector('summary').focus()")
        chromium.call(
            "Input.dispatchKeyEvent", type="keyDown", key="Enter", code="Enter", windowsVirtualKeyCode=13, text="\r"
        )
        until(lambda: chromium.value(role) == 100)
        chromium.value(f"{box}.querySelector('.rows > button').click()")
        assert chromium.value(role) == 200
        assert chromium.value("document.activeElement.textContent").startswith("name does not exist (NXDOMAIN) ")
        chromium.value("document.querySelector('[name=text]').focus()")
        chromium.call("Input.insertText", text="rake-49999")
        count = "document.getElementById('count').textContent"
        until(lambda: chromium.value(count).startswith("1 of 50,080"))
        shown = chromium.value(
            "[...document.querySelectorAll('details.fold:not([hidden])')].map(o => o.textContent).join()"
        )
        assert "49999" in shown
        assert (
            chromium.value(
                "document.getElementById('count').role || document.getElementById('count').getAttribute('role')"
            )
            == "status"
        )
        names = [
            one["name"]["value"]
            for one in chromium.call("Accessibility.getFullAXTree")["nodes"]
            if one.get("role", {}).get("value") == "searchbox"
        ]
        assert names == ["Contains"]


@given(
    st.lists(
        st.lists(st.lists(WORDS, min_size=1, max_size=3).map(" ".join), min_size=3, max_size=3), min_size=1, max_size=4
    ),
    st.integers(40, 120),
)
@examples(40)
def test_no_name_is_broken_on_a_narrow_terminal(rows: list[list[str]], width: int) -> None:
    table = table_of("zone", "servers", "parent says")
    for row in rows:
        table.add_row(*(clean(cell) for cell in row))
    file = io.StringIO()
    console = Printed(file=file, width=width, force_terminal=True, color_system=None, highlight=False, markup=False)
    print_table(console, table)
    told = file.getvalue().split()
    assert all(word in told for row in rows for cell in row for word in clean(cell).split() if word.isascii())
