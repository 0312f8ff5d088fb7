"""Writes docs/checks.md from the catalogue: python tools/checks.py"""

from __future__ import annotations

from pathlib import Path

from salt_mirror.explaining import as_markdown

TARGET = Path(__file__).parents[1] / "docs" / "checks.md"

if __name__ == "__main__":
    TARGET.write_text(as_markdown(), encoding="utf-8", newline="\n")
    print(f"wrote {TARGET}")
