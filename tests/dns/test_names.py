"""Names survive text and wire, and what is no name is refused with a reason."""

from __future__ import annotations

import ipaddress

import pytest
from hypothesis import given
from hypothesis import strategies as st

from salt_mirror.dns import names
from salt_mirror.dns.names import BadName, from_text, is_within, to_text
from salt_mirror.dns.reverse import address_of, address_text, network_zone, reverse_name, zone_network

LABELS = st.lists(st.binary(min_size=1, max_size=63), max_size=8).filter(lambda parts: sum(map(len, parts)) < 240)


@given(LABELS)
def test_any_name_survives_wire_to_text_to_wire(parts: list[bytes]) -> None:
    name = names.join(tuple(part.lower() for part in parts))
    text = to_text(name)
    assert text.isascii()
    assert text.isprintable()
    assert from_text(text) == name
    assert to_text(from_text(text)) == text


PLAIN = st.text("abAB09-_*/", min_size=1, max_size=70)


@given(st.lists(PLAIN, min_size=1, max_size=6), st.booleans(), st.lists(PLAIN, max_size=3))
def test_plain_text_is_read_label_by_label_and_completed_unless_it_is_absolute(
    parts: list[str], absolute: bool, above: list[str]
) -> None:
    if any(len(part) > names.MAX_LABEL for part in above):
        above = []
    origin = names.join(tuple(part.lower().encode() for part in above))
    text = ".".join(parts) + "." * absolute
    wire = b"".join(bytes((len(part),)) + part.lower().encode() for part in parts) + (b"\0" if absolute else origin)
    if any(len(part) > names.MAX_LABEL for part in parts) or len(wire) > names.MAX_NAME:
        with pytest.raises(BadName, match="at most"):
            from_text(text, origin)
    else:
        assert from_text(text, origin) == wire


@given(LABELS, LABELS)
def test_a_name_is_within_a_zone_exactly_when_its_last_labels_are_the_zones(
    host: list[bytes], zone: list[bytes]
) -> None:
    below, apex = names.join(tuple(host[:3] + zone[:3])), names.join(tuple(zone[:3]))
    assert is_within(below, apex)
    assert is_within(apex, below) == (below == apex)


def test_bytes_that_merely_look_like_a_zone_do_not_count() -> None:
    inner = from_text("x\\003abc.example")
    assert inner.endswith(from_text("abc.example"))
    assert not is_within(inner, from_text("abc.example"))


@pytest.mark.parametrize(
    ("text", "wire"),
    [
        (".", b"\x00"),
        ("WWW.Gullmarsh.Example", b"\x03www\x09gullmarsh\x07example\x00"),
        (r"a\.b.example.", b"\x03a.b\x07example\x00"),
        (r"\000\255.example", b"\x02\x00\xff\x07example\x00"),
        ("Sülze.example", b"\x0cxn--slze-0ra\x07example\x00"),
        ("SÜLZE\u3002example", b"\x0cxn--slze-0ra\x07example\x00"),
    ],
)
def test_text_is_read_as_rfc_1035_and_rfc_5891_say(text: str, wire: bytes) -> None:
    assert from_text(text) == wire


def test_relative_names_are_completed_and_absolute_ones_left() -> None:
    origin = from_text("pans.gullmarsh.internal")
    assert to_text(from_text("kiln-02", origin)) == "kiln-02.pans.gullmarsh.internal."
    assert to_text(from_text("kiln-02.", origin)) == "kiln-02."
    assert from_text("@", origin) == origin


@pytest.mark.parametrize(
    ("text", "reason"),
    [
        ("", "empty name"),
        ("a..b", "empty label"),
        (".a", "empty label"),
        ("x" * 64 + ".example", "64 bytes long; at most 63"),
        (".".join(["x" * 60] * 5), "at most 255"),
        ("a." * 20_000, "at most 255"),
        ("a\\", "backslash"),
        ("a\\25", "backslash"),
        ("a\\256", "over 255"),
        ("a b", "space or control"),
        ("\u2e2e\u202e.example", "internationalised"),
    ],
)
def test_what_is_no_name_is_refused_with_the_reason(text: str, reason: str) -> None:
    with pytest.raises(BadName, match=reason):
        from_text(text)


@given(st.one_of(st.ip_addresses(v=4), st.ip_addresses(v=6)))
def test_reverse_names_are_the_standard_librarys_and_lead_back(
    address: ipaddress.IPv4Address | ipaddress.IPv6Address,
) -> None:
    name = reverse_name(address.packed)
    assert to_text(name) == address.reverse_pointer + "."
    assert address_of(name) == address.packed
    assert ipaddress.ip_address(address_text(address.packed)) == address


@pytest.mark.parametrize(
    ("network", "zone"),
    [
        ("10.77.20.0/24", "20.77.10.in-addr.arpa."),
        ("10.0.0.0/8", "10.in-addr.arpa."),
        ("2001:db8:77::/48", "7.7.0.0.8.b.d.0.1.0.0.2.ip6.arpa."),
    ],
)
def test_a_network_has_its_zone_and_the_zone_its_network(network: str, zone: str) -> None:
    found = network_zone(ipaddress.ip_network(network))
    assert to_text(found) == zone
    assert str(zone_network(found)) == network


def test_a_network_between_octets_has_no_zone_of_its_own() -> None:
    with pytest.raises(ValueError, match="RFC 2317"):
        network_zone(ipaddress.ip_network("192.0.2.0/26"))
    assert zone_network(from_text("0/26.2.0.192.in-addr.arpa")) is None
    assert zone_network(from_text("gullmarsh.example")) is None
