"""The process that reads a directory: an Access comes in on standard input; a line goes out for every page, the result last.

Strategy: whoever started it ends it when no line comes, so nothing that a peer does can hold up a command, or take it down.
"""

from __future__ import annotations

import sys

import msgspec

from salt_mirror.estate.directory.found import Access, DirectoryFailed, FoundDirectory

STILL = b"."


class Ended(msgspec.Struct, frozen=True):
    """What came of it: the directory, or why not."""

    found: FoundDirectory | None = None
    failed: str = ""


def main() -> None:
    """Reads one directory."""
    from salt_mirror.estate.directory.connection import Connection
    from salt_mirror.estate.directory.learning import learn

    access = msgspec.json.decode(sys.stdin.buffer.read(), type=Access)

    def beat() -> None:
        _say(STILL)

    beat()
    try:
        ended = Ended(found=learn(Connection(access, 10.0, beat)))
    except DirectoryFailed as error:
        ended = Ended(failed=str(error))
    except ImportError:
        ended = Ended(failed="the library for it is not installed: pip install 'salt-mirror[directory]'")
    _say(msgspec.json.encode(ended))


def _say(line: bytes) -> None:
    sys.stdout.buffer.write(line + b"\n")
    sys.stdout.buffer.flush()


if __name__ == "__main__":
    main()
