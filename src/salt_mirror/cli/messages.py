"""What the program says to whoever called it: on standard error, whatever the text was made of, and by its exit status."""

from __future__ import annotations

import sys
from typing import TextIO

FAULT = 1
USAGE = 2
UNVERIFIED = 3
UNWRITTEN = 4
"""The result is printed, and was not written everywhere."""
UNDELIVERED = 5
"""All else is well, and a message of `--notify` could not be delivered."""
INTERRUPTED = 130
_LONGEST = 1_000
NOBODY_READS = 141
"""What shells give for a program that wrote to a pipe without a reader: 128 and the number of SIGPIPE."""


def show(text: str) -> None:
    """Write a text of our own on standard output as it is: nothing that came from outside is in it."""
    sys.stdout.write(text)
    sys.stdout.flush()


def tell(text: object, *, begin: str = "salt-mirror: ", file: TextIO | None = None) -> None:
    """Write a message as whole lines, safe for a terminal; on standard error, or on a file where that is not free."""
    from salt_mirror.report.cleaning import clean_lines

    out = file if file is not None else sys.stderr
    said = clean_lines(str(text))
    if len(said) > _LONGEST:
        said = f"{said[:_LONGEST]}… ({len(said) - _LONGEST:,} more characters)"
    out.write(f"{begin}{said}\n")
    out.flush()
