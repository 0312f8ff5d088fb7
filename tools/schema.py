"""Writes the JSON Schema of every document beside its types: python tools/schema.py"""

from __future__ import annotations

import json

from salt_mirror.report.json import DOCUMENTS, schema_file, schema_of

if __name__ == "__main__":
    for name in DOCUMENTS:
        text = json.dumps(schema_of(name), indent=1, sort_keys=True) + "\n"
        schema_file(name).write_text(text, encoding="utf-8", newline="\n")
        print(f"wrote {schema_file(name)}")
