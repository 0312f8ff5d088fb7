"""Python's garbage collector, which a run that makes many objects and no cycles has little use for."""

from __future__ import annotations

import gc


def quiet_collector() -> None:
    """Let Python look for garbage less often: an audit, or a history of years, makes hundreds of thousands of small objects,
    and no cycles."""
    gc.freeze()
    gc.set_threshold(100_000, 50, 100)
