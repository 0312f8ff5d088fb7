"""How changes of a directory's partitions come to one controller, as it tells itself: no other one knows.

Strategy: the state stands in two attributes of the partition's head: as bytes in `repsFrom` (MS-DRSR section 5.170), and as XML
in `msDS-NCReplInboundNeighbors` (MS-ADTS section 3.1.1.4.5.35), of which a server has one or both. What does not fit is passed
over: a state that is not told is none.
"""

from __future__ import annotations

import re
import struct
import uuid
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime
from typing import NamedTuple

from salt_mirror.estate.directory.found import FoundDirectory, FoundInbound
from salt_mirror.estate.directory.objects import Entry, Session, rdns

_SINCE_1601 = 11_644_473_600
"""Seconds from 1601 to 1970."""
_NEIGHBOUR = struct.Struct("<IIIIqqI")
_GUID_AT = 160
_FIELD = r"<{0}>([^<]{{0,400}})</{0}>"
_MOST = 500


class InboundWay(NamedTuple):
    """One way by which changes come: the GUID of the controller or its settings object, and how it stands."""

    guid: str
    settings_dn: str
    succeeded: float | None
    failures: int
    error: int


def partition_dn(partition: str, directory: FoundDirectory) -> str:
    """Return the distinguished name of the head of a partition that holds zones."""
    domain = {
        "DomainDnsZones": f"DomainDnsZones.{directory.domain}",
        "ForestDnsZones": f"ForestDnsZones.{directory.forest}",
    }
    return ",".join(f"DC={label}" for label in domain.get(partition, directory.domain).split("."))


def inbound_of(session: Session, host: str, directory: FoundDirectory) -> list[FoundInbound]:
    """Return how the changes of every partition with zones come to the controller of a session. Raises DirectoryFailed."""
    by_guid = {one.guid: one.host for one in directory.controllers}
    by_label = {one.host.partition(".")[0]: one.host for one in directory.controllers}
    told = []
    for partition in dict.fromkeys(zone.partition for zone in directory.zones):
        head = session.at(partition_dn(partition, directory), ["repsFrom", "msDS-NCReplInboundNeighbors"])
        for way in ways_of(head) if head is not None else ():
            settings = rdns(way.settings_dn) if way.settings_dn else []
            label = settings[1][1].lower() if len(settings) > 1 else ""
            source = by_guid.get(way.guid, "") or by_label.get(label, label)
            told.append(
                FoundInbound(
                    host=host, partition=partition, source=source, succeeded=way.succeeded, failures=way.failures,
                    error=way.error,
                )
            )  # fmt: skip
    return told


def ways_of(head: Entry) -> Iterator[InboundWay]:
    """Return the ways that a partition's head tells of."""
    raw = [way for one in head.raw("repsfrom")[:_MOST] if (way := _of_bytes(one)) is not None]
    yield from raw or (
        way for one in head.texts("msds-ncreplinboundneighbors")[:_MOST] if (way := _of_xml(one)) is not None
    )


def _of_bytes(raw: bytes) -> InboundWay | None:
    if len(raw) < _GUID_AT + 16:
        return None
    version, _, size, failures, succeeded, _, error = _NEIGHBOUR.unpack_from(raw)
    if version not in (1, 2) or size > len(raw):
        return None
    guid = str(uuid.UUID(bytes_le=raw[_GUID_AT : _GUID_AT + 16]))
    return InboundWay(guid, "", float(succeeded - _SINCE_1601) if succeeded > _SINCE_1601 else None, failures, error)


def _of_xml(text: str) -> InboundWay | None:
    fields: Mapping[str, str] = {
        name: match[1]
        for name in (
            "pszSourceDsaDN",
            "uuidSourceDsaObjGuid",
            "ftimeLastSyncSuccess",
            "cNumConsecutiveSyncFailures",
            "dwLastSyncResult",
        )
        if (match := re.search(_FIELD.format(name), text)) is not None
    }
    if "pszSourceDsaDN" not in fields:
        return None
    return InboundWay(
        fields.get("uuidSourceDsaObjGuid", "").strip("{}").lower(), fields["pszSourceDsaDN"],
        _moment(fields.get("ftimeLastSyncSuccess", "")), _number(fields.get("cNumConsecutiveSyncFailures", "")),
        _number(fields.get("dwLastSyncResult", "")),
    )  # fmt: skip


def _moment(text: str) -> float | None:
    try:
        moment = datetime.fromisoformat(text.strip().replace("Z", "+00:00"))
    except ValueError:
        return None
    moment = moment if moment.tzinfo is not None else moment.replace(tzinfo=UTC)
    return moment.timestamp() if moment.year > 1601 else None


def _number(text: str) -> int:
    return int(text) if text.isascii() and text.isdigit() and len(text) < 11 else 0
