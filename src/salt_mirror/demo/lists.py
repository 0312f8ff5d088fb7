"""Lists as offices have them, in the demo's world: a spreadsheet that people keep, and what a domain controller's logon service
writes down of its own records."""

from __future__ import annotations

import datetime
from pathlib import Path

import dns.name
import dns.rdatatype
import dns.zone

ADDRESS = "10.77.20.5"
"""Of the domain controller dc-kiln."""
_LOCATORS = (dns.rdatatype.SRV, dns.rdatatype.CNAME)
_HOSTS: list[tuple[str, str, str, str]] = [
    ("kiln-01", "10.77.20.11", "in use", "Ada"),
    ("kiln-02", "10.77.20.12", "in use", ""),
    ("kiln-03", "10.77.20.13/24", "in use", ""),
    ("kiln-04", "dhcp", "in use", "Bo"),
    ("kiln-06 ", "10.77.20.16", "In use", "Bo"),
    ("kiln-07", "10.77.20.17", "in use", "Bo"),
    ("kiln-08", "10.77.20.18", "free", ""),
    ("packing", "10.77.20.20", "in use", "Cy"),
    ("press hall", "10.77.20.21", "in use", "Cy"),
    ("tally", "10.77.20.15", "in use", "Cy"),
    ("oven", "10.77.20.70", "retired", "Cy"),
]


def write_lists(folder: Path, zone: dns.zone.Zone) -> None:
    """Write both into a folder; `zone` is that of the domain."""
    _write_hosts(folder / "kiln-house.xlsx")
    origin = zone.origin
    assert origin is not None
    lines = [f"{origin} 600 IN A {ADDRESS}", f"gc._msdcs.{origin} 600 IN A {ADDRESS}"]
    host = dns.name.from_text("dc-kiln", origin)
    for name, ttl, rdata in zone.iterate_rdatas():
        if rdata.rdtype in _LOCATORS and getattr(rdata, "target", None) in (host, host.relativize(origin)):
            text = rdata.to_text(origin=origin, relativize=False)
            lines.append(f"{name.derelativize(origin)} {ttl} IN {dns.rdatatype.to_text(rdata.rdtype)} {text}")
    (folder / "dc-kiln.dns").write_text("\n".join(lines) + "\n", encoding="utf-8")


def _write_hosts(path: Path) -> None:
    from xlsxwriter import Workbook

    with Workbook(str(path)) as book:
        sheet = book.add_worksheet("Hosts")
        bold, day = book.add_format({"bold": True}), book.add_format({"num_format": "yyyy-mm-dd"})
        sheet.write_row(0, 0, ["Kiln House, all hosts"], bold)
        sheet.write_row(2, 0, ["Host Name", "IP Address", "Status", "Owner", "Since"], bold)
        for row, host in enumerate(_HOSTS, 3):
            sheet.write_row(row, 0, host)
            sheet.write_datetime(row, 4, datetime.datetime(2025, 1 + row % 12, 1), day)
        sheet.merge_range(3, 3, 5, 3, _HOSTS[0][3])
        sheet.set_column(0, 4, 16)
