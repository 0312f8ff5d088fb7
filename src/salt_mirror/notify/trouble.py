"""What keeps a message from arriving, and how long a peer may take for a step."""

from __future__ import annotations

from salt_mirror.report.cleaning import clean

PATIENCE_S = 15.0
"""So long a peer may take for each step."""
_MOST_SHOWN = 200


class Undelivered(Exception):
    """A message that did not arrive, with why, in words that hold no secret. `partly` says that somebody got it."""

    def __init__(self, why: str, *, partly: bool = False) -> None:
        super().__init__(clean(why)[:_MOST_SHOWN])
        self.partly = partly
