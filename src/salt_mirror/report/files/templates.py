"""The page templates, and the hash of a script for the policy that lets it run."""

from __future__ import annotations

import base64
import hashlib
from importlib.resources import files

import jinja2

from salt_mirror.report.cleaning import clean, clean_lines

_FOLDER = files("salt_mirror.report") / "files" / "page"


def template(name: str) -> jinja2.Template:
    """Return a page's template, in which everything is escaped and what is missing is an error."""
    environment = jinja2.Environment(
        autoescape=True, trim_blocks=True, lstrip_blocks=True, undefined=jinja2.StrictUndefined
    )
    environment.filters |= {"clean": clean, "clean_lines": clean_lines}
    return environment.from_string((_FOLDER / name).read_text(encoding="utf-8"))


def hash_of(text: str) -> str:
    """Return how a content security policy names a text (CSP level 3, section 2.3.1)."""
    return "sha256-" + base64.b64encode(hashlib.sha256(text.encode("utf-8")).digest()).decode("ascii")
