"""Master files that are kept by hand, edited line by line, against what dnspython reads before and after."""

from __future__ import annotations

import os
from pathlib import Path

import dns.name
import dns.rdatatype
import dns.zone
import pytest
from hypothesis import given
from hypothesis import strategies as st

from salt_mirror.checks.plan.sets import PlannedSet, SetKey
from salt_mirror.dns.names import from_text
from salt_mirror.dns.records import rdata_from_text, type_from_text
from salt_mirror.estate.errors import BadInput
from salt_mirror.keeping.masterfiles import rewritten
from support.examples import examples

APEX = "pans.example"
SETS = dict[tuple[str, str], tuple[int, frozenset[str]]]


def read(folder: Path) -> SETS:
    """The sets of the zone as dnspython reads them: TTL and values by owner and type, the serial left out."""
    here = Path.cwd()
    os.chdir(folder)
    try:
        zone = dns.zone.from_file("pans.zone", origin=APEX, relativize=False, allow_include=True)
    finally:
        os.chdir(here)
    found = {}
    for name, rdataset in zone.iterate_rdatasets():
        values = {rdata.to_text() for rdata in rdataset}
        if rdataset.rdtype == dns.rdatatype.SOA:
            values = {" ".join(word for at, word in enumerate(text.split()) if at != 2) for text in values}
        found[name.to_text(), dns.rdatatype.to_text(rdataset.rdtype)] = rdataset.ttl, frozenset(values)
    return found


def planned(sets: SETS, name: str, rdtype: str, after: set[str], ttl: int | None) -> PlannedSet:
    """A set as it is, and as it is to be."""
    kind = type_from_text(rdtype)
    before_ttl, before = sets.get((name, rdtype), (None, frozenset()))
    values = [frozenset(rdata_from_text(kind, text) for text in texts) for texts in (before, after)]
    own = ttl if ttl is not None else before_ttl if before_ttl is not None else 600
    return PlannedSet(
        SetKey("", from_text(APEX), from_text(name), kind), values[0], values[1], before_ttl if before else None,
        own if after else None, bool(before), None,
    )  # fmt: skip


VALUES = {
    "A": [f"10.77.20.{number}" for number in range(1, 7)],
    "TXT": ['"one"', '"two; no comment"', '"(" "three"'],
    "MX": ["10 h0.pans.example.", "20 h1.pans.example."],
}


@st.composite
def files(draw: st.DrawFn) -> dict[str, str]:
    """A master file as people write it, perhaps with another that it includes."""
    head = draw(st.sampled_from((
        "$TTL 600\n@ IN SOA ns h 2026112301 3600 600 1209600 300\n",
        "; kept by hand\n$TTL 10m\n@\tSOA ns.pans.example. h ( ; who\n\t\t2026112301 ; serial\n\t\t3600 600 1209600 300 )\n",
    )))  # fmt: skip
    lines = [head, "\tNS ns\n", "ns A 192.0.2.53\n"]
    origin = APEX
    for label in ("h0", "h1", "h2", "h3"):
        if draw(st.integers(0, 4)) == 0:
            origin = draw(st.sampled_from((APEX, f"stores.{APEX}")))
            lines.append(f"$ORIGIN {origin}.\n")
        first = True
        for rdtype in draw(st.lists(st.sampled_from(sorted(VALUES)), max_size=2, unique=True)):
            ttl = draw(st.sampled_from(("", "", "300 ", "1h ")))
            for value in draw(st.lists(st.sampled_from(VALUES[rdtype]), min_size=1, max_size=3, unique=True)):
                owner = f"{label}" if first or draw(st.booleans()) else ""
                first = False
                form = draw(st.sampled_from(("{o:<8} {t}IN {y} {v}", "{o}\t{t}{y}  {v}\t; {c}", "{o} {t}{y} ( {v} ) ; {c}",
                                             "{o} {t}IN {y} ( ; {c}\n   {v} )")))  # fmt: skip
                lines.append(form.format(o=owner, t=ttl, y=rdtype, v=value, c=f"remark (on {label}") + "\n")
            if draw(st.integers(0, 4)) == 0:
                lines.append(draw(st.sampled_from(("; by itself ( \n", "\n", "   ; indented\n"))))
    found = {}
    if draw(st.booleans()):
        found["more.inc"] = 'i0 A 10.77.20.1 ; included\n\tA 10.77.20.2\ni1 TXT "x"\n'
        lines.append(f"$INCLUDE more.inc {APEX}.\n")
    if draw(st.booleans()):
        lines.append("$GENERATE 1-3 g$ A 10.77.21.$\n")
    found["pans.zone"] = "".join(lines) if draw(st.booleans()) else "".join(lines).rstrip("\n")
    return found


@examples(150)
@given(files(), st.data())
def test_only_the_lines_of_what_changes_are_changed(
    tmp_path_factory: pytest.TempPathFactory, texts: dict[str, str], data: st.DataObject
) -> None:
    folder, after = tmp_path_factory.mktemp("before"), tmp_path_factory.mktemp("after")
    for name, text in texts.items():
        (folder / name).write_text(text, encoding="utf-8", newline="")
        (after / name).write_text(text, encoding="utf-8", newline="")
    sets = read(folder)
    names = sorted({name for name, rdtype in sets if name.split(".")[0] in ("h0", "h1", "h2", "h3", "i0", "i1")})
    wanted: dict[tuple[str, str], PlannedSet] = {}
    for _ in range(data.draw(st.integers(1, 4))):
        name = data.draw(st.sampled_from([*names, "new.pans.example."]))
        rdtype = data.draw(st.sampled_from(sorted(VALUES)))
        values = data.draw(st.sets(st.sampled_from(VALUES[rdtype]), max_size=3))
        one = planned(sets, name, rdtype, values, data.draw(st.sampled_from((None, None, 900))))
        if one.differs:
            wanted[name, rdtype] = one
    done = rewritten(folder / "pans.zone", from_text(APEX), wanted.values(), 1_800_000_000.0)
    assert not done.others
    for path, text in done.texts.items():
        (after / path.name).write_text(text, encoding="utf-8", newline="")
    expected = dict(sets)
    for key, one in wanted.items():
        expected.pop(key, None)
        if one.after:
            texts_of = {
                dns.rdata.from_wire("IN", dns.rdatatype.RdataType.make(one.key.rdtype), value, 0, len(value)).to_text()
                for value in one.after
            }
            assert one.ttl_after is not None
            expected[key] = one.ttl_after, frozenset(texts_of)
    assert read(after) == expected
    # What is no record of these names, and every comment by itself, stands as it stood.
    touched = {name.split(".")[0] for name, _ in wanted}
    hosts = {"h0", "h1", "h2", "h3", "ns"} - touched
    kept = [
        line
        for line in texts["pans.zone"].splitlines()
        if line[:1] in ("$", ";") or (line[:2] in hosts and "(" not in line)
    ]
    there = iter((after / "pans.zone").read_text(encoding="utf-8").splitlines())
    assert all(line in there for line in kept), kept


def test_what_a_directive_makes_or_the_file_has_otherwise_is_left_with_the_reason(tmp_path: Path) -> None:
    (tmp_path / "pans.zone").write_text(
        "$TTL 600\r\n@ SOA ns h 7 1 1 1 1\r\n@ NS ns\r\nns A 192.0.2.1 ; ours\r\n$GENERATE 1-3 g$ A 10.77.21.$\r\n",
        encoding="utf-8",
        newline="",
    )
    sets = read(tmp_path)
    wanted = [
        planned(sets, "g2.pans.example.", "A", {"10.77.20.1"}, None),
        planned({("ns.pans.example.", "A"): (600, frozenset({"192.0.2.9"}))}, "ns.pans.example.", "A", set(), None),
        planned(sets, "h0.pans.example.", "A", {"10.77.20.1"}, None),
    ]  # fmt: skip
    done = rewritten(tmp_path / "pans.zone", from_text(APEX), wanted)
    said = {one.key.name.split(b"\x04")[0]: why for one, why in done.others}
    assert "$GENERATE makes it in" in said[b"\x02g2"] and "line 5" in said[b"\x02g2"]
    assert said[b"\x02ns"] == "the file has other records there"
    text = done.texts[tmp_path / "pans.zone"]
    assert (
        text.endswith("$GENERATE 1-3 g$ A 10.77.21.$\r\nh0.pans.example. 600 IN A 10.77.20.1\r\n")
        and "ns A 192.0.2.1 ; ours\r\n" in text
    )
    assert done.remarks == ["serial 7 -> 8 (one by one)"]


def test_an_included_file_may_lose_all_that_it_has(tmp_path: Path) -> None:
    (tmp_path / "pans.zone").write_text(
        "$TTL 600\n@ SOA ns h 7 1 1 1 1\n@ NS ns\nns A 192.0.2.1\n$INCLUDE more.inc\n", encoding="utf-8"
    )
    (tmp_path / "more.inc").write_text("i0 A 10.77.20.1\n", encoding="utf-8")
    done = rewritten(
        tmp_path / "pans.zone", from_text(APEX), [planned(read(tmp_path), "i0.pans.example.", "A", set(), None)]
    )
    assert done.texts[tmp_path / "more.inc"] == "" and not done.others


def test_a_file_in_which_a_line_means_something_to_the_next_is_refused_whole(tmp_path: Path) -> None:
    """Without $TTL a line has the TTL of the line before."""
    (tmp_path / "pans.zone").write_text(
        "@ 600 SOA ns h 7 1 1 1 1\n@ NS ns\nns 300 A 192.0.2.1\nh0 A 10.77.20.1\n", encoding="utf-8"
    )
    one = planned(read(tmp_path), "ns.pans.example.", "A", set(), None)
    with pytest.raises(BadInput, match=r"cannot be edited line by line: h0\.pans\.example\. A would not be"):
        rewritten(tmp_path / "pans.zone", from_text(APEX), [one])
