"""Writes the JSON Schema of the report beside its types: python tools/schema.py"""

from __future__ import annotations

import json

from salt_mirror.report.document import SCHEMA_FILE, json_schema

if __name__ == "__main__":
    SCHEMA_FILE.write_text(json.dumps(json_schema(), indent=1, sort_keys=True) + "\n", encoding="utf-8", newline="\n")
    print(f"wrote {SCHEMA_FILE}")
