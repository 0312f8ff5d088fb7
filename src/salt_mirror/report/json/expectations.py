"""Expected records as one JSON document."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, Literal

import msgspec

from salt_mirror.dns.names import to_text
from salt_mirror.estate.expectations import Expectation
from salt_mirror.estate.model import Estate
from salt_mirror.estate.sources import write_expectations


class ExpectationsDocument(msgspec.Struct, frozen=True, kw_only=True):
    """Expected records with the columns that they have in a list, the lines that cannot be read (`damaged`), contradictions and
    duplicates. With an estate each record has its `zone` and `view` there, both empty where none holds it."""

    schema: Literal["salt-mirror/expectations/1"] = "salt-mirror/expectations/1"
    expectations: list[dict[str, Any]]
    damaged: list[str]
    contradictions: list[str]


def expectations_json(
    found: Iterable[Expectation], damaged: Iterable[object], contradictions: list[str], estate: Estate | None = None,
    view: str | None = None,
) -> bytes:  # fmt: skip
    """Return the document about some expected records; with an estate, also in which of its zones each falls."""
    expectations = list(found)
    lines = [msgspec.json.decode(line) for line in write_expectations(expectations, "jsonl").splitlines() if line]
    if estate is not None:
        for line, expectation in zip(lines, expectations, strict=True):
            zone = estate.nearest_zone(expectation.name, view)
            line |= {
                "zone": to_text(zone.apex) if zone is not None else "",
                "view": zone.view if zone is not None else "",
            }
    document = ExpectationsDocument(expectations=lines, damaged=list(map(str, damaged)), contradictions=contradictions)
    return msgspec.json.encode(document) + b"\n"
