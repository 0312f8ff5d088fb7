"""Workbooks and tables as offices have them: titles, merged cells, dates, filters, and files that are made to do harm."""

from __future__ import annotations

import csv
import io
import zipfile
from collections.abc import Sequence
from datetime import date, datetime
from pathlib import Path
from typing import Any

import openpyxl
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from salt_mirror.dns.errors import Unusable
from salt_mirror.dns.names import from_text, to_text
from salt_mirror.dns.records import rdata_text, type_text
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.expectations import Expectation
from salt_mirror.estate.lists import workbook
from salt_mirror.estate.lists.spec import PLAIN, ListSpec
from salt_mirror.estate.sources import read_given
from salt_mirror.estate.table import TableLayout
from support.program import Run

ZONE = from_text("pans.example")
HOSTS = TableLayout({"name": "Host Name", "value": "IP Address"})


def book(rows: Sequence[Sequence[object]], merged: Sequence[str] = (), sheets: Sequence[str] = ("Hosts",)) -> bytes:
    """Return a workbook whose last sheet has the rows."""
    made = openpyxl.Workbook()
    made.remove(made.active)  # type: ignore[arg-type]  # there is one
    for title in sheets:
        table = made.create_sheet(title)
    for row in rows:
        table.append(list(row))
    for area in merged:
        table.merge_cells(area)
    out = io.BytesIO()
    made.save(out)
    return out.getvalue()


def said(found: list[Expectation]) -> list[str]:
    return [
        f"{to_text(one.name)} {type_text(one.rdtype)} {rdata_text(one.rdtype, one.rdata)} {one.line}" for one in found
    ]


def read(content: bytes | str, spec: ListSpec = PLAIN, problems: list[Unusable] | None = None) -> list[Expectation]:
    return read_given(content, ZONE, problems, spec, path=Path("hosts.xlsx"))


def test_a_spreadsheet_with_the_usual_mistakes_is_read_for_what_is_right_in_it() -> None:
    rows: list[list[object]] = [
        ["Kiln House hosts, as of May", None, None],
        [None, None, None],
        ["Host Name", "IP\nAddress", "Owner"],
        ["kiln-01 ", "\xa010.77.20.11", "Ada"],
        ["Kiln-02", "dhcp", "Ada"],
        ["kiln-03", "10.77.20.13/24", None],
        ["kiln-04", "10.77.20.14, 2001:db8::14", date(2026, 5, 1)],
        ["kiln-05", "10.77.20.15", 7.0],
        [None, "10.77.20.16", datetime(2026, 5, 1, 9, 30)],
        ["Harbour Office", None, None],
        ["kiln 07", "10.77.20.17", None],
        ["kiln-08", "10.77.20.0/24", None],
        ["kiln-09", None, "to be installed"],
    ]
    problems: list[Unusable] = []
    found = read(book(rows, ["A8:A9", "A10:C10"]), ListSpec(layout=HOSTS), problems)
    assert said(found) == [
        "kiln-01.pans.example. A 10.77.20.11 4", "kiln-03.pans.example. A 10.77.20.13 6",
        "kiln-04.pans.example. A 10.77.20.14 7", "kiln-04.pans.example. AAAA 2001:db8::14 7",
        "kiln-05.pans.example. A 10.77.20.15 8", "kiln-05.pans.example. A 10.77.20.16 9",
    ]  # fmt: skip
    notes = ["Owner: Ada", None, *["Owner: 2026-05-01"] * 2, "Owner: 7", "Owner: 2026-05-01 09:30:00"]
    assert [one.note for one in found] == notes
    assert [str(one).partition(":")[0] for one in problems] == [f"hosts.xlsx, line {line}" for line in (5, 11, 12)]
    assert [getattr(one, "subject", None) for one in problems] == [
        (from_text("kiln-02.pans.example"), 1), None, (from_text("kiln-08.pans.example"), 1),
    ]  # fmt: skip
    with pytest.raises(BadInput, match=r'line 3: .*--columns "name=Host Name,value=IP Address"'):
        read(book(rows))


@pytest.mark.parametrize("kind", ["xlsx", "csv"])
def test_filters_take_the_rows_that_count_and_expect_the_gone_ones_to_be_gone(kind: str) -> None:
    rows = [
        ["Name", "Address", "Status", "Owner"],
        ["gw", "10.77.20.1", "Gateway", "net"],
        ["kiln-01", "10.77.20.11", "in use", "Ada"],
        ["kiln-02", "10.77.20.12", "free", "Ada"],
        ["kiln-03", "10.77.20.13", "in use", "RETIRED 2025"],
        ["kiln-04", "", "free", "retired"],
    ]
    out = io.StringIO(newline="")
    csv.writer(out).writerows(rows)
    content = book(rows) if kind == "xlsx" else out.getvalue()
    layout = TableLayout(
        {"name": "name", "value": "address"}, {"status": ("In Use", "gate*")}, {"Owner": ("RETIRED*",)}, "Owner"
    )
    found = read(content, ListSpec("csv" if kind == "csv" else "", layout))
    assert [(to_text(one.name).partition(".")[0], one.rdtype, one.presence, one.note) for one in found] == [
        ("gw", 1, "present", "net"), ("kiln-01", 1, "present", "Ada"), ("kiln-03", 1, "absent", "RETIRED 2025"),
        ("kiln-04", 1, "absent", "retired"), ("kiln-04", 28, "absent", "retired"),
    ]  # fmt: skip
    assert found[2].rdata and not found[3].rdata
    pointers = read(content, ListSpec("csv" if kind == "csv" else "", layout, pointers=True))[len(found) :]
    owners = {("1.20.77.10", "present"), ("11.20.77.10", "present"), ("13.20.77.10", "absent")}
    assert {(to_text(one.name).removesuffix(".in-addr.arpa."), one.presence) for one in pointers} == owners
    problems: list[Unusable] = []
    nothing = layout._replace(where={"Status": ("used",)})
    assert len(read(content, ListSpec("csv" if kind == "csv" else "", nothing), problems)) == 3
    assert 'no row fits where Status is "used"; in the column "Status" there is "Gateway", "in use", "free"' in str(
        problems[0]
    )
    with pytest.raises(BadInput, match='no one column called "State"; did you mean "Status"'):
        read(content, ListSpec("csv" if kind == "csv" else "", layout._replace(where={"State": ("used",)})))


def test_a_sheet_is_chosen_by_its_name() -> None:
    content = book([["name", "type", "value"], ["h", "A", "192.0.2.1"]], sheets=["Read me", "Hosts "])
    assert said(read(content, ListSpec(sheet="hosts"))) == ["h.pans.example. A 192.0.2.1 2"]
    with pytest.raises(BadInput, match='there is no sheet "Host"; did you mean "Hosts "'):
        read(content, ListSpec(sheet="Host"))
    with pytest.raises(BadInput, match=r"hosts.xlsx: is empty"):
        read(content)


def test_a_hidden_sheet_is_only_read_by_its_name() -> None:
    made = openpyxl.load_workbook(
        io.BytesIO(book([["name", "type", "value"], ["h", "A", "192.0.2.1"]], sheets=["Lists", "Hosts"]))
    )
    made["Lists"].sheet_state = "hidden"
    out = io.BytesIO()
    made.save(out)
    assert said(read(out.getvalue())) == ["h.pans.example. A 192.0.2.1 2"]
    with pytest.raises(BadInput, match="is empty"):
        read(out.getvalue(), ListSpec(sheet="Lists"))


def test_a_service_in_a_list_is_relative_to_its_zone() -> None:
    text = "name,type,value\n_ldap._tcp,SRV,0 100 389 dc-north\n_ldap._tcp.dc._msdcs,SRV,0 100 389 dc-north.other.example\n"
    assert said(read(text)) == [
        "_ldap._tcp.pans.example. SRV 0 100 389 dc-north.pans.example. 2",
        "_ldap._tcp.dc._msdcs.pans.example. SRV 0 100 389 dc-north.other.example. 3",
    ]


CELLS = st.one_of(
    st.none(), st.booleans(), st.integers(-(10**12), 10**12),
    st.text(st.characters(codec="utf-8", exclude_categories=["Cc", "Cs"]), min_size=1, max_size=12).filter(
        lambda text: text == text.strip() and not text.startswith("=")
    ),
    st.sampled_from(["kiln-01", "10.77.20.11", "2001:db8::1", "A", "in use"]),
)  # fmt: skip


@settings(max_examples=60, deadline=None)
@given(st.lists(st.lists(CELLS, min_size=3, max_size=3), max_size=8))
def test_a_workbook_says_what_the_same_table_as_text_says(cells: list[list[Any]]) -> None:
    rows: list[list[Any]] = [["Host Name", "IP Address", "Status"], *cells]
    words = {None: "", True: "TRUE", False: "FALSE"}
    texts = [[words[cell] if cell is None or isinstance(cell, bool) else str(cell) for cell in row] for row in rows]
    out = io.StringIO(newline="")
    csv.writer(out).writerows(texts)
    of_text: list[Unusable] = []
    of_book: list[Unusable] = []
    wanted = read(out.getvalue(), ListSpec("csv", HOSTS), of_text)
    assert said(read(book(rows), ListSpec(layout=HOSTS), of_book)) == said(wanted)
    assert [str(one) for one in of_book] == [str(one) for one in of_text]


def with_part(name: str, change: bytes, at: bytes, content: bytes = b"") -> bytes:
    """Return a workbook in whose part something is put in the place of something else."""
    old = zipfile.ZipFile(io.BytesIO(content or book([["name", "type", "value"], ["h", "A", "192.0.2.1"]])))
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as new:
        for entry in old.namelist():
            part = old.read(entry)
            assert entry != name or at in part
            new.writestr(entry, part.replace(at, change, 1) if entry == name else part)
    return out.getvalue()


LAUGHS = b'<!DOCTYPE x [<!ENTITY a "' + b"ha" * 1000 + b'">' + b"".join(
    b'<!ENTITY %c "%s">' % (98 + n, b"&%c;" % (97 + n) * 50) for n in range(8)
) + b"]>"  # fmt: skip
SHEET = "xl/worksheets/sheet1.xml"
HOSTILE = {
    "entities": with_part(SHEET, LAUGHS + b"<worksheet ", b"<worksheet ", with_part(SHEET, b"<t>&i;", b"<t>")),
    "no archive": b"PK\3\4" + bytes(200),
    "cut off": book([["name", "type", "value"]])[:-100],
    "another archive": with_part("[Content_Types].xml", b"", b"").replace(b"workbook.xml", b"workbook.txt"),
    "a line": b"PK\3\4\n",
}


@pytest.mark.parametrize("content", HOSTILE.values(), ids=HOSTILE.keys())
def test_what_is_no_workbook_is_refused_with_what_would_be_right(content: bytes) -> None:
    with pytest.raises(BadInput, match=r"hosts\.xlsx: is (no workbook|empty)"):
        read(content)


def test_what_a_workbook_claims_of_its_size_costs_nothing(monkeypatch: pytest.MonkeyPatch) -> None:
    far = with_part(SHEET, b'<row r="999999999"><c r="XFD1"><v>1</v></c>', b'<row r="2">')
    monkeypatch.setattr(workbook, "MOST_ROWS", 1000)
    assert not read(far, problems=[])
    monkeypatch.setattr(workbook, "MOST_UNPACKED", 2000)
    with pytest.raises(BadInput, match=r"unpacks to 0 MiB in \d+ parts; at most"):
        read(book([["name", "type", "value"]]))


def test_a_formula_without_its_value_is_a_damaged_row_and_one_with_it_counts() -> None:
    rows = [["name", "type", "value"], ["h", "A", "=A9"], ["i", "A", "192.0.2.2"]]
    problems: list[Unusable] = []
    assert said(read(book(rows), problems=problems)) == ["i.pans.example. A 192.0.2.2 3"]
    assert "the cell C2 is a formula whose value was not stored; open and save the file once" in str(problems[0])
    stored = with_part(
        SHEET, b'<c r="C2" t="str"><f>A9</f><v>192.0.2.9</v></c>', b'<c r="C2"><f>A9</f><v /></c>', book(rows)
    )
    assert said(read(stored)) == ["h.pans.example. A 192.0.2.9 2", "i.pans.example. A 192.0.2.2 3"]
    empty = with_part(SHEET, b'<c r="C2" t="str"><f>A9</f><v></v></c>', b'<c r="C2"><f>A9</f><v /></c>', book(rows))
    problems = []
    assert said(read(empty, problems=problems)) == ["i.pans.example. A 192.0.2.2 3"]
    assert 'nothing in the column "value"' in str(problems[0])


def test_an_estate_takes_a_workbook_and_says_of_each_row_what_counts(run: Run, tmp_path: Path) -> None:
    rows = [
        ["Host Name", "IP Address", "Status"], ["h1", "10.77.20.1", "in use"], ["h2", "dhcp", "in use"],
        ["h3", "10.77.20.3", "free"],
    ]  # fmt: skip
    (tmp_path / "hosts.xlsx").write_bytes(book(rows, sheets=["Cover", "Hosts"]))
    given = '{ file = "hosts.xlsx", sheet = "Hosts", columns = { name = "Host Name", value = "IP Address" }, '
    (tmp_path / "estate.toml").write_text(
        f'[[zones]]\nname = "pans.example"\nservers = ["a"]\nexpect = [{given}where = {{ Status = "in use" }} }}]\n'
        '[servers.a]\naddress = "127.0.0.1"\nport = 9\n',
        encoding="utf-8",
    )
    done = run("rollcall", "--json", "--timeout", "0.1", "--tries", "1")
    assert {one["name"] for one in done.report["subjects"]} >= {"h1.pans.example.", "h2.pans.example."}
    assert "hosts.xlsx, line 3" in done.out and "h3" not in done.out
    listed = ("rollcall", "hosts.xlsx", "--columns", "name=Host Name,value=IP Address", "--sheet", "hosts")
    more = ("--where", "Status=in *", "--where", "Status=reserved", "--absent-where", "Status=free", "--note", "Status")
    done = run(*listed, *more, "--zone", "pans.example", "--json", "--timeout", "0.1", "--tries", "1")
    assert {one["name"] for one in done.report["subjects"]} == {f"h{number}.pans.example." for number in (1, 2, 3)}
    csv_text = "name,type,value\n" + "".join(f"h{number},A,dhcp\n" for number in range(30))
    (tmp_path / "bad.csv").write_text(csv_text, encoding="utf-8")
    done = run("rollcall", "bad.csv", "--zone", "pans.example", "--json", "--timeout", "0.1", "--tries", "1")
    remarks = [one for one in done.report["remarks"] if "bad.csv" in one or "more rows" in one]
    assert len(remarks) == 11 and remarks[-1].startswith("left out: 20 more rows")
    assert done.status == 3 and done.report["counts"]["unverified"] == 30
    done = run("rollcall", "bad.csv", "--zone", "pans.example", "--strict", "--estate", "estate.toml")
    assert done.status == 2 and "--strict refuses a list with a row that cannot be used" in done.err
    done = run(*listed, "--where", "Status", "--zone", "pans.example")
    assert done.status == 2 and '--where: "Status" names no column; expected one such as "Status=in use"' in done.err


ESTATE = """# our own zones
[[zones]]
name = "pans.example"   # the directory's
view = "internal"
servers = ["dc"]

[[zones]]
name = "kiln.example"
view = "internal"
servers = ["dc"]
expect = [
  "a.zone", # by hand
]

[servers.dc]
address = "127.0.0.1"
port = 9
"""


def test_a_list_is_written_into_the_estate_with_all_that_it_takes_to_read_it(run: Run, tmp_path: Path) -> None:
    rows = [
        ["Kiln House"], ["Host Name", "IP Address", "Status"], ["kiln-01.kiln.example", "10.77.20.11", "in use"],
        ["kiln-02", "10.77.20.12", "in use"], ["kiln-03", "10.77.20.13", "free"], ["x.invalid", "10.77.20.14", "In use"],
    ]  # fmt: skip
    (tmp_path / "hosts.xlsx").write_bytes(book(rows))
    (tmp_path / "a.zone").touch()
    assert run("draft", "--list", "hosts.xlsx").status == 2, "there is no estate"
    path = tmp_path / "estate.toml"
    path.write_text(ESTATE, encoding="utf-8")
    done = run("draft", "--list", "hosts.xlsx", "--where", "Status=in use")
    assert done.status == 0 and done.out.splitlines()[0].startswith("kiln.example. expects 3 more records.")
    assert "1 record in no zone of the estate: x.invalid." in done.out
    line = '{file = "hosts.xlsx", columns = {name = "Host Name", value = "IP Address"}, where = {Status = "in use"}}'
    added = f'  "a.zone", # by hand\n  {line},\n'
    assert path.read_text(encoding="utf-8") == ESTATE.replace('  "a.zone", # by hand\n', added)
    called = run("rollcall", "--json", "--timeout", "0.1", "--tries", "1").report["subjects"]
    names = {"kiln-01.kiln.example.", "kiln-02.kiln.example.", "x.invalid."}
    assert {one["name"] for one in called} == names
    again = run("draft", "--list", "hosts.xlsx")
    assert again.status == 2 and 'the zone "kiln.example" expects "hosts.xlsx" already' in again.err
    assert added in path.read_text(encoding="utf-8")
    for wrong in (["draft", "--list", "hosts.xlsx", "pans.example"], ["draft", "--list", "none.csv"]):
        assert run(*wrong).status == 2 and added in path.read_text(encoding="utf-8")


def test_the_home_of_a_list_is_the_zone_of_its_hosts_and_never_that_of_their_pointers(run: Run, tmp_path: Path) -> None:
    (tmp_path / "a.zone").touch()
    reverse = '[[zones]]\nname = "10.77.20.0/24"\nview = "internal"\nservers = ["dc"]\n'
    (tmp_path / "hosts.csv").write_text("Host,IP\nkiln-01,10.77.20.11\nkiln-02,10.77.20.12\n", encoding="utf-8")
    (tmp_path / "ptr.csv").write_text("name,type,value\n11.20.77.10.in-addr.arpa,PTR,kiln-01.pans.example.\n", "utf-8")
    for text in (reverse + ESTATE, ESTATE + reverse):
        (tmp_path / "estate.toml").write_text(text, encoding="utf-8")
        done = run("draft", "--list", "hosts.csv", "--pointers")
        assert done.status == 0 and done.out.startswith("pans.example. expects 4 more records.")
        names = {
            one["name"] for one in run("rollcall", "--json", "--timeout", "0.1", "--tries", "1").report["subjects"]
        }
        assert names == {f"kiln-0{n}.pans.example." for n in (1, 2)} | {f"1{n}.20.77.10.in-addr.arpa." for n in (1, 2)}
        assert run("draft", "--list", "ptr.csv").out.startswith("20.77.10.in-addr.arpa. expects 1 more record.")
    wrong = run(
        "rollcall", "hosts.csv", "--columns", "name=Host,value=IP", "--zone", "10.77.20.0/24", "--estate", "none.toml"
    )
    assert wrong.status == 2
    wrong = run("expect", "hosts.csv", "--columns", "name=Host,value=IP", "--zone", "10.77.20.0/24")
    assert (
        wrong.status == 2
        and 'line 2: "kiln-01" is a host\'s short name, and a reverse zone would complete it' in wrong.err
    )


def test_expect_completes_names_by_the_estate_and_says_where_they_fall(run: Run, tmp_path: Path) -> None:
    networks = '[networks."10.77.20.0/24"]\nzone = "kiln.example"\n'
    (tmp_path / "a.zone").touch()
    (tmp_path / "estate.toml").write_text(ESTATE + networks, encoding="utf-8")
    (tmp_path / "list.csv").write_text(
        "Host,IP\nrake-01,10.77.10.11\nkiln-01,10.77.20.11\nx.invalid,10.77.1.1\n", "utf-8"
    )
    listed = ("expect", "list.csv", "--columns", "name=Host,value=IP")
    done = run(*listed)
    names = ["rake-01.pans.example.", "kiln-01.kiln.example.", "x.invalid."]
    assert [row[0] for row in csv.reader(io.StringIO(done.out))][1:] == names
    for said in ("1 record in pans.example. (view internal)", "1 record in no zone of the estate: x.invalid."):
        assert said in done.err
    found = run(*listed, "--json", "--view", "internal", "--estate", "estate.toml").report["expectations"]
    assert [(one["zone"], one["view"]) for one in found] == [
        ("pans.example.", "internal"), ("kiln.example.", "internal"), ("", ""),
    ]  # fmt: skip
