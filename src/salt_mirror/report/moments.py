"""Moments as people read them: in the time of this computer, with its offset from UTC beside each."""

from __future__ import annotations

from datetime import datetime


def local(moment: datetime, form: str = "%Y-%m-%d %H:%M") -> str:
    """Return an aware moment in local time, such as `2026-11-28 14:30 +01:00`; UTC is called that."""
    here = moment.astimezone()
    offset = f"{here:%z}"
    return f"{here:{form}} " + ("UTC" if offset == "+0000" else f"{offset[:3]}:{offset[3:5]}")
