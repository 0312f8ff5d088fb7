"""The one function of ours that a vantage runs: it takes an errand, and its station tells what comes of it.

Strategy: the answers leave over the stream by which the worker has come to the scheduler, as events on the topic of whoever
waits for them. So a vantage needs no way in, and no answer waits for the last one of its batch.
"""

from __future__ import annotations

from typing import Any

from distributed import get_worker


def deliver(payload: bytes) -> None:
    """Hands an errand to the station of this worker."""
    worker: Any = get_worker()
    worker.station.take(payload)
