"""What the program says on standard error: the one way there, whatever the text was made of."""

from __future__ import annotations

import sys
from typing import TextIO

from salt_mirror.report.cleaning import clean_lines


def tell(text: object, *, begin: str = "salt-mirror: ", file: TextIO | None = None) -> None:
    """Writes a message as whole lines, safe for a terminal; on standard error, or on a file where that is not free."""
    out = file if file is not None else sys.stderr
    out.write(f"{begin}{clean_lines(str(text))}\n")
    out.flush()
