"""Where a system's settings are read from: this computer itself, or what was captured from another one.

Strategy: files by their path, registry keys by their path, and what one program of the system prints. A source returns None for
what is not there; whoever reads says what that means. Nothing here knows what any of it is for.
"""

from __future__ import annotations

import re
import subprocess
import sys
from pathlib import Path, PureWindowsPath
from typing import Any, Protocol

Values = dict[str, "str | int | bytes | list[str]"]
"""The values of a registry key by their lower-case names."""
_MOST_BYTES = 4 << 20
PROGRAM_S = 20.0


class Source(Protocol):
    """What the readers need of a system."""

    def text(self, path: str) -> str | None:
        """Return a text file; None where it is not there or cannot be read."""

    def entries(self, folder: str) -> list[str]:
        """Return the names in a folder, sorted; none where there is no such folder."""

    def key(self, path: str) -> Values | None:
        """Return the values of a registry key below HKEY_LOCAL_MACHINE; None where it is not there or cannot be read."""

    def subkeys(self, path: str) -> list[str]:
        """Return the names of the keys below one, in their order."""

    def output(self, *command: str) -> str | None:
        """Return what a program of the system prints; None where there is none, or it fails or takes too long."""


class Live:
    """This computer itself."""

    def text(self, path: str) -> str | None:
        try:
            with Path(path).open("rb") as file:
                return file.read(_MOST_BYTES).decode("utf-8", "replace")
        except OSError:
            return None

    def entries(self, folder: str) -> list[str]:
        try:
            return sorted(one.name for one in Path(folder).iterdir())
        except OSError:
            return []

    def key(self, path: str) -> Values | None:
        if sys.platform != "win32":
            return None
        import winreg

        try:
            with winreg.OpenKey(winreg.HKEY_LOCAL_MACHINE, path) as key:
                number = winreg.QueryInfoKey(key)[1]
                return {name.lower(): data for name, data, _ in (winreg.EnumValue(key, at) for at in range(number))}
        except OSError:
            return None

    def subkeys(self, path: str) -> list[str]:
        if sys.platform != "win32":
            return []
        import winreg

        try:
            with winreg.OpenKey(winreg.HKEY_LOCAL_MACHINE, path) as key:
                return [winreg.EnumKey(key, at) for at in range(winreg.QueryInfoKey(key)[0])]
        except OSError:
            return []

    def output(self, *command: str) -> str | None:
        try:
            done = subprocess.run(
                command, capture_output=True, timeout=PROGRAM_S, stdin=subprocess.DEVNULL, check=False
            )
        except (OSError, subprocess.TimeoutExpired):
            return None
        return done.stdout[:_MOST_BYTES].decode("utf-8", "replace") if done.returncode == 0 else None


class Recording:
    """A source that keeps what it was asked and what it told, so that the same can be told elsewhere."""

    def __init__(self, behind: Source) -> None:
        self._behind = behind
        self.told: dict[str, Any] = {}

    def _keep(self, what: str, given: str, found: Any) -> Any:
        self.told[f"{what} {given}"] = found
        return found

    def text(self, path: str) -> str | None:
        return self._keep("text", path, self._behind.text(path))  # type: ignore[no-any-return]

    def entries(self, folder: str) -> list[str]:
        return self._keep("entries", folder, self._behind.entries(folder))  # type: ignore[no-any-return]

    def key(self, path: str) -> Values | None:
        return self._keep("key", path, self._behind.key(path))  # type: ignore[no-any-return]

    def subkeys(self, path: str) -> list[str]:
        return self._keep("subkeys", path, self._behind.subkeys(path))  # type: ignore[no-any-return]

    def output(self, *command: str) -> str | None:
        return self._keep("output", " ".join(command), self._behind.output(*command))  # type: ignore[no-any-return]


class Replayed:
    """What a recording has kept, told again. Whoever sent it may have written anything: what does not fit is not there."""

    def __init__(self, told: dict[str, Any]) -> None:
        self._told = told

    def text(self, path: str) -> str | None:
        found = self._told.get(f"text {path}")
        return found if isinstance(found, str) else None

    def entries(self, folder: str) -> list[str]:
        return self._names(f"entries {folder}")

    def key(self, path: str) -> Values | None:
        found = self._told.get(f"key {path}")
        return {str(name): value for name, value in found.items()} if isinstance(found, dict) else None

    def subkeys(self, path: str) -> list[str]:
        return self._names(f"subkeys {path}")

    def output(self, *command: str) -> str | None:
        found = self._told.get(f"output {' '.join(command)}")
        return found if isinstance(found, str) else None

    def _names(self, what: str) -> list[str]:
        found = self._told.get(what)
        return [one for one in found if isinstance(one, str)] if isinstance(found, list) else []


REGISTRY, SCOPES, CACHE = "registry.reg", "scopes.txt", "cache.json"
"""What is captured beside files: an export of the registry, what macOS prints of its scopes, Windows' cache."""


class Captured:
    """A folder with what was captured from another computer: its files below their paths (`etc/hosts`), and `registry.reg`,
    an export of the registry as Windows writes it; `scopes.txt`, what macOS prints of its resolvers; `cache.json`."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._keys = read_registry(self._decoded(REGISTRY) or "")

    @property
    def system(self) -> str:
        """Which system it was captured from, by what is there."""
        if self._keys:
            return "windows"
        return "macos" if (self._folder / SCOPES).is_file() else "linux"

    def _decoded(self, path: str) -> str | None:
        place = self._folder.joinpath(*PureWindowsPath(path).parts) if path else self._folder
        try:
            raw = place.read_bytes()[:_MOST_BYTES]
        except OSError:
            return None
        return raw.decode("utf-16" if raw[:2] in (b"\xff\xfe", b"\xfe\xff") else "utf-8", "replace")

    def text(self, path: str) -> str | None:
        return self._decoded(re.sub(r"^([A-Za-z]:)?[\\/]+", "", path))

    def entries(self, folder: str) -> list[str]:
        place = self._folder.joinpath(*PureWindowsPath(folder.lstrip("/")).parts)
        return sorted(one.name for one in place.iterdir()) if place.is_dir() else []

    def key(self, path: str) -> Values | None:
        return self._keys.get(path.lower())

    def subkeys(self, path: str) -> list[str]:
        begin = path.lower() + "\\"
        found = {key[len(begin) :].partition("\\")[0]: None for key in self._keys if key.startswith(begin)}
        return list(found)

    def output(self, *command: str) -> str | None:
        return self._decoded(SCOPES if command[0].endswith("scutil") else CACHE)


_SECTION = re.compile(r"\[HKEY_LOCAL_MACHINE\\(.*)\]")
_VALUE = re.compile(r'(?:"((?:[^"\\]|\\.)*)"|@)=(.*)')


def read_registry(text: str) -> dict[str, Values]:
    """Read an export of the registry (version 5.00): the values of each key below HKEY_LOCAL_MACHINE, by its lower-case path.
    What is no value is left out."""
    keys: dict[str, Values] = {}
    values: Values | None = None
    for line in re.sub(r"\\\r?\n\s*", "", text.lstrip("\ufeff")).splitlines():
        line = line.strip()
        if line.startswith("["):
            section = _SECTION.fullmatch(line)
            values = keys.setdefault(section[1].lower(), {}) if section is not None else None
        elif values is not None and (match := _VALUE.fullmatch(line)):
            data = _data(match[2])
            if data is not None:
                values[_unescaped(match[1] or "").lower()] = data
    return keys


def _data(text: str) -> str | int | bytes | list[str] | None:
    if len(text) > 1 and text[0] == text[-1] == '"':
        return _unescaped(text[1:-1])
    kind, _, rest = text.partition(":")
    try:
        if kind == "dword":
            return int(rest, 16)
        raw = bytes(int(part, 16) for part in rest.split(",") if part.strip())
    except ValueError:
        return None
    if kind == "hex(7)":
        return [part for part in raw.decode("utf-16-le", "replace").split("\0") if part]
    if kind in ("hex(2)", "hex(1)"):
        return raw.decode("utf-16-le", "replace").rstrip("\0")
    if kind == "hex(b)":
        return int.from_bytes(raw, "little")
    return raw if kind.startswith("hex") else None


def _unescaped(text: str) -> str:
    return re.sub(r"\\(.)", r"\1", text)
