"""The estate and its expectations: read as administrators write them, refused with file, line or key."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from salt_mirror.dns.errors import Unusable
from salt_mirror.dns.names import from_text, to_text
from salt_mirror.dns.records import rdata_text, type_text
from salt_mirror.estate import plainlines
from salt_mirror.estate.building import load_estate
from salt_mirror.estate.expectations import Expectation
from salt_mirror.estate.masterfile import read_master_file, read_master_text
from salt_mirror.estate.sources import read_expectations
from support.examples import examples

PANS = from_text("pans.gullmarsh.internal")
GOOD = """
title = "Gullmarsh Saltworks"
[[zones]]
name = "pans.gullmarsh.internal"
view = "internal"
servers = ["dc-north"]
[[zones]]
name = "10.77.20.0/24"
view = "internal"
[servers.dc-north]
address = "198.51.100.11"
[resolvers.harbour-office]
address = "127.0.0.1"
port = 5401
group = "offices"
[reach]
"198.51.100.11" = "127.0.0.1:5311"
[[directories]]
domain = "pans.gullmarsh.internal"
view = "internal"
[[directories.controllers]]
host = "dc"
roles = ["global-catalog"]
"""


def lines(found: list[Expectation]) -> list[str]:
    return [f"{to_text(e.name)} {e.ttl} {type_text(e.rdtype)} {rdata_text(e.rdtype, e.rdata)} @{e.line}" for e in found]


def test_an_estate_knows_its_zones_by_the_longest_apex_and_where_addresses_are_reached(tmp_path: Path) -> None:
    path = tmp_path / "estate.toml"
    path.write_text(GOOD, encoding="utf-8")
    estate = load_estate(path)
    zone = estate.zone_of(from_text("a.b.pans.gullmarsh.internal"), "internal")
    assert zone is not None and zone.servers is not None
    assert (to_text(zone.apex), zone.servers[0].endpoint) == ("pans.gullmarsh.internal.", "127.0.0.1:5311")
    reverse = estate.zone_for(from_text("9.20.77.10.in-addr.arpa"), "elsewhere")
    assert reverse is not None and reverse.servers is None and str(reverse.network) == "10.77.20.0/24"
    assert estate.groups["offices"][0].port == 5401


@pytest.mark.parametrize(
    ("change", "message"),
    [
        (("view =", "vieuw ="), r'line 5: unknown key "vieuw" in zones, entry 1; did you mean "view"\?'),
        (("[reach]", "[reech]"), r'unknown key "reech" in the top of the file; did you mean "reach"'),
        (("port = 5401", 'port = "x"'), r"line 14: resolvers, port: wants a whole number, not text"),
        (('name = "pans', 'nome = "pans'), r'unknown key "nome" in zones, entry 1; did you mean "name"'),
        (
            ('["dc-north"]', '["dc-nord"]'),
            r'entry 1, servers: there is no \[servers.dc-nord\]; did you mean "dc-north"',
        ),
        (('"198.51.100.11"\n[res', '"198.51.100"\n[res'), r'servers, dc-north, address: "198.51.100" is no IP address'),
        (("10.77.20.0/24", "10.77.20.5/24"), r"has host bits set; the network is 10.77.20.0/24"),
        (("10.77.20.0/24", "10.77.20.0/26"), r"RFC 2317"),
        (("10.77.20.0/24", "PANS.gullmarsh.internal."), r'is in the view "internal" already'),
        (("10.77.20.0/24", "x" * 64 + ".example"), r"entry 2, name: .* 64 bytes long"),
        (('title = "', "title = "), r"is no TOML: .*line 2"),
        (("5311", "99999"), r"reach: "),
        (('servers = ["dc-north"]', 'expect = ["gone.zone"]'), r"expect: there is no file .*gone.zone"),
        (('host = "dc"', 'host = "dc"\nguid = "abc"'), 'controllers, dc, guid: "abc" is no GUID; expected one such as'),
        (('"global-catalog"', '"primary"'), '"primary" is not allowed; allowed: pdc-emulator, global-catalog, rodc'),
        (('"global-catalog"', '"global-catalogue"'), r'did you mean "global-catalog"\?'),
    ],
)
def test_what_is_wrong_in_an_estate_is_named_with_its_place(
    tmp_path: Path, change: tuple[str, str], message: str
) -> None:
    path = tmp_path / "estate.toml"
    assert change[0] in GOOD
    path.write_text(GOOD.replace(*change, 1), encoding="utf-8")
    with pytest.raises(Unusable, match=message) as caught:
        load_estate(path)
    assert str(path) in str(caught.value)
    assert "\n" not in str(caught.value)


def test_master_files_keep_origin_ttl_and_line_numbers_through_includes(tmp_path: Path) -> None:
    (tmp_path / "below").mkdir()
    (tmp_path / "below/inner.zone").write_text("x A 10.77.10.3\n$INCLUDE last.zone\n", encoding="utf-8")
    (tmp_path / "below/last.zone").write_text("\n\ny.z 7 A 10.77.10.4\n", encoding="utf-8")
    main = tmp_path / "main.zone"
    main.write_text(
        "$TTL 300\n@ SOA ns1 hostmaster (\n 1 ; serial\n 2 3 4 5 )\n"
        "www 60 IN A 10.77.10.1\n     AAAA 2001:db8::1\n$INCLUDE below/inner.zone sub\nhost A 10.77.10.2\n"
        "$ORIGIN gullmarsh.example.\nkiln PTR Kiln-02.Pans.Gullmarsh.Internal.\nother.zone. A 192.0.2.1\n",
        encoding="utf-8",
    )
    found = read_master_file(main, PANS)
    assert lines(found)[1:] == [
        "www.pans.gullmarsh.internal. 60 A 10.77.10.1 @5",
        "www.pans.gullmarsh.internal. 300 AAAA 2001:db8::1 @6",
        "x.sub.pans.gullmarsh.internal. 300 A 10.77.10.3 @1",
        "y.z.sub.pans.gullmarsh.internal. 7 A 10.77.10.4 @3",
        "host.pans.gullmarsh.internal. 300 A 10.77.10.2 @8",
        "kiln.gullmarsh.example. 300 PTR kiln-02.pans.gullmarsh.internal. @10",
        "other.zone. 300 A 192.0.2.1 @11",
    ]
    assert found[3].source == tmp_path / "below/inner.zone"


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("a A 10.77.10.1\nb A 10.77.10\n", "line 2: "),
        ("a A 10.77.10.1\n\nb NONSENSE x\n", "line 3: .*NONSENSE"),
        ("x" * 64 + " A 10.77.10.1\n", "line 1: "),
        ("$INCLUDE gone.zone\n", r"line 1: \$INCLUDE of .*gone.zone, and there is no such file"),
        ("a A 10.77.10.1\n$INCLUDE bad.zone\n", "line 2: .* being read already"),
    ],
)
def test_a_bad_line_in_a_master_file_is_named(tmp_path: Path, text: str, message: str) -> None:
    path = tmp_path / "bad.zone"
    path.write_text(text, encoding="utf-8")
    with pytest.raises(Unusable, match=message):
        read_master_file(path, PANS)


def test_records_without_any_ttl_are_expectations_too(tmp_path: Path) -> None:
    path = tmp_path / "short.zone"
    path.write_text("kiln-02 A 10.77.20.2\n", encoding="utf-8")
    assert lines(read_master_file(path, PANS)) == ["kiln-02.pans.gullmarsh.internal. None A 10.77.20.2 @1"]


def test_csv_takes_columns_in_any_order_quotes_and_a_spreadsheets_semicolons(tmp_path: Path) -> None:
    path = tmp_path / "leases.csv"
    path.write_bytes(
        b'\xef\xbb\xbfType;Name;Value;Note;ttl\r\nA;kiln-02;10.77.20.2;"two;\r\nlines";60\r\n\r\nCNAME;oven.example;kiln-02;;\r\n'
    )
    found = read_expectations(path, PANS)
    assert lines(found) == [
        "kiln-02.pans.gullmarsh.internal. 60 A 10.77.20.2 @2",
        "oven.example. None CNAME kiln-02.pans.gullmarsh.internal. @5",
    ]
    assert found[0].note == "two;\r\nlines"


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("", "is empty; the first line must be the header"),
        ("name,value,typ\n", 'line 1: unknown column "typ"; did you mean "type"'),
        ("name,type\n", 'wants one column "value"'),
        ("name,type,value\nkiln,A,10.77\n", "line 2: .*expected an IPv4 address"),
        ("name,type,value\n\nkiln,A,\n", 'line 3: there is nothing in the column "value"'),
        ("name,type,value,ttl\nkiln,A,10.77.20.2,soon\n", 'line 2: "soon" is no TTL'),
        ("name,type,value\nkiln,A,10.77.20.2,9\n", "line 2: 4 cells under a header of 3"),
        ("name,type,value\nkiln,WHAT,1\n", 'line 2: "WHAT" is no record type'),
        ("name,type,value\na..b,A,10.77.20.2\n", "line 2: .*empty label"),
    ],
)
def test_a_bad_line_in_csv_is_named(tmp_path: Path, text: str, message: str) -> None:
    path = tmp_path / "leases.csv"
    path.write_text(text, encoding="utf-8")
    with pytest.raises(Unusable, match=message):
        read_expectations(path, PANS)


OWNERS = st.sampled_from(["", "a", "b.c", "*.w", "kiln-02", "x.example.", "0/26", "1", "@", "\\065b"])
TTLS = st.sampled_from(["", "60", "0", "1h"])
CLASSES = st.sampled_from(["", "IN", "in"])
VALUES = st.sampled_from(
    ["A 192.0.2.1", "A 192.0.2.1 ; note", "AAAA 2001:db8::7", "PTR host", "CNAME x.example.", "NS a.b", "MX 10 mail",
     'TXT "a;b" "(c"', "SOA ns h (1\n 2 3\n4 5)", "A 192.0.2", "a 192.0.2.1", "TXT plain", "CNAME @"]
)  # fmt: skip
DIRECTIVES = st.sampled_from(
    ["$TTL 300", "$ORIGIN sub", "$ORIGIN other.example.", "; a comment", "", "   ", "$TTL 1d ; a day"]
)
LINES = st.one_of(
    DIRECTIVES,
    st.builds(lambda owner, ttl, rdclass, value: f"{owner} {ttl} {rdclass} {value}", OWNERS, TTLS, CLASSES, VALUES),
)


@examples(300)
@given(st.lists(LINES, max_size=12))
def test_plain_lines_are_read_as_the_grammar_reads_them(texts: list[str]) -> None:
    def read(plain: bool) -> tuple[list[str], list[str]]:
        problems: list[Unusable] = []
        with pytest.MonkeyPatch.context() as patch:
            if not plain:
                patch.setattr(plainlines, "_RECORD", re.compile(r"(?!)"))
            found = read_master_text("\n".join(texts) + "\n", Path("x.zone"), PANS, problems)
        return lines(found), [str(problem) for problem in problems]

    assert read(plain=True) == read(plain=False)
