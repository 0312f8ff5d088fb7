"""Expected records as one JSON document."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, Literal

import msgspec

from salt_mirror.estate.expectations import Expectation
from salt_mirror.estate.sources import write_expectations


class ExpectationsDocument(msgspec.Struct, frozen=True, kw_only=True):
    """Expected records with the columns that they have in a list, the lines that cannot be read (`damaged`), contradictions and
    duplicates."""

    schema: Literal["salt-mirror/expectations/1"] = "salt-mirror/expectations/1"
    expectations: list[dict[str, Any]]
    damaged: list[str]
    contradictions: list[str]


def expectations_json(found: Iterable[Expectation], damaged: Iterable[object], contradictions: list[str]) -> bytes:
    """Return the document about some expected records."""
    lines = [msgspec.json.decode(line) for line in write_expectations(list(found), "jsonl").splitlines() if line]
    document = ExpectationsDocument(expectations=lines, damaged=list(map(str, damaged)), contradictions=contradictions)
    return msgspec.json.encode(document) + b"\n"
