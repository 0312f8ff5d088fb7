"""Every JSON document that the tool writes, each with its JSON Schema beside it.

Strategy: a document is a struct whose `schema` names it. The schemas are generated from them by `python tools/schema.py`,
and a test validates what the program prints. A command loads the one document that it writes.
"""

from __future__ import annotations

import inspect
from importlib import import_module
from pathlib import Path
from typing import Any

DOCUMENTS = {
    "report": "salt_mirror.report.document:Report",
    "answers": "salt_mirror.report.json.answers:Answers",
    "budget": "salt_mirror.report.json.budget:BudgetDocument",
    "codes": "salt_mirror.report.json.codes:CodesDocument",
    "draft": "salt_mirror.report.json.draft:DraftDocument",
    "expectations": "salt_mirror.report.json.expectations:ExpectationsDocument",
    "history": "salt_mirror.checks.audit.chronicle:Chronicle",
    "notice": "salt_mirror.report.json.notice:Notice",
    "snapshot-taken": "salt_mirror.report.json.snapshot:SnapshotTaken",
    "vantages": "salt_mirror.report.json.vantages:VantagesDocument",
}
"""Every document by the name in its `schema`, with the struct that it is made of."""


def schema_file(name: str) -> Path:
    """Return where the schema of a document is."""
    return Path(__file__).with_name(f"{name}-1.schema.json")


def schema_of(name: str) -> dict[str, Any]:
    """Return the JSON Schema of a document, generated from its struct."""
    import msgspec

    module, _, struct = DOCUMENTS[name].partition(":")
    home = import_module(module)
    if hasattr(home, "bring_in_sheets"):
        home.bring_in_sheets()
    found: dict[str, Any] = _undented(msgspec.json.schema(getattr(home, struct)))
    return found


def _undented(part: Any) -> Any:
    """Return a part of a schema without the indentation of docstrings: msgspec keeps that up to 0.22, and then not."""
    if isinstance(part, dict):
        return {key: _undented(value) for key, value in part.items()}
    if isinstance(part, list):
        return [_undented(value) for value in part]
    return inspect.cleandoc(part) if isinstance(part, str) else part
