"""Keys with their secrets, and identifiers, as an estate file writes them."""

from __future__ import annotations

import base64
import os
import uuid
from pathlib import Path

from salt_mirror.dns.errors import about
from salt_mirror.dns.names import from_text, shown
from salt_mirror.dns.questions import ALGORITHMS, Key
from salt_mirror.estate.errors import BadInput
from salt_mirror.estate.file import KeyEntry
from salt_mirror.estate.reading import read_text

A_GUID = "5a17e000-0a00-4000-8000-00000000d0d0"


def guid_of(text: str) -> str | None:
    """Return an identifier as it stands in names (RFC 9562 section 4), from any way of writing it; None for what is none."""
    try:
        return str(uuid.UUID(text))
    except ValueError:
        return None


def key_of(label: str, entry: KeyEntry, path: Path) -> Key:
    """Return a key with its secret; neither message nor log ever shows that. `path` is the file that names it, and what the
    secret's file is relative to. Raises BadInput."""
    place = f"keys, {label}"

    def fail(what: str) -> BadInput:
        return BadInput.at(path, None, what)

    if entry.algorithm not in ALGORITHMS:
        raise fail(f"{place}, algorithm: {shown(entry.algorithm)} is not one of {', '.join(ALGORITHMS)}")
    if (entry.secret_file is None) == (entry.secret_env is None):
        raise fail(f"{place}: wants either secret_file or secret_env")
    if entry.secret_file is not None:
        with about(f"{path}: {place}, secret_file"):
            secret = read_text(path.parent / entry.secret_file)
    else:
        assert entry.secret_env is not None
        secret = os.environ.get(entry.secret_env, "")
        if not secret:
            # What stands there may be the secret itself, put in the wrong place: it is not repeated.
            raise fail(f"{place}, secret_env: there is no such variable, or it is empty")
    with about(f"{path}: {place}, name"):
        name = from_text(entry.name or label)
    try:
        decoded = base64.b64decode(secret.strip(), validate=True)
    except ValueError:
        raise fail(f"{place}: the secret is no base64") from None
    if not decoded:
        raise fail(f"{place}: the secret is empty")
    return Key(name, entry.algorithm, decoded)
