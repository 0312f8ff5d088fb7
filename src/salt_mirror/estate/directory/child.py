"""The process that reads a directory: an Access comes in on standard input; a line goes out for every page, the result last.

Strategy: whoever started it ends it when no line comes, so nothing that a peer does can hold up a command, or take it down.
"""

from __future__ import annotations

import sys
from concurrent.futures import ThreadPoolExecutor

import msgspec
from msgspec import structs

from salt_mirror.estate.directory.found import Access, DirectoryFailed, FoundDirectory, FoundInbound
from salt_mirror.estate.directory.objects import Session

STILL = b"."
OTHERS_S = 3.0
"""So long each other controller has, to tell how changes come to it."""
AT_ONCE = 8
"""So many controllers are asked at once."""


class Ended(msgspec.Struct, frozen=True):
    """What came of it: the directory, or why not."""

    found: FoundDirectory | None = None
    failed: str = ""
    detail: str = ""
    ours: bool = False


def main() -> None:
    """Read one directory."""
    access = msgspec.json.decode(sys.stdin.buffer.read(), type=Access)
    _beat()
    try:
        ended = Ended(found=_read(access))
    except DirectoryFailed as error:
        ended = Ended(failed=str(error), detail=error.detail, ours=error.ours)
    except ImportError:
        ended = Ended(failed="the library for it is not installed: pip install 'salt-mirror[directory]'")
    _say(msgspec.json.encode(ended))


def _read(access: Access) -> FoundDirectory:
    from salt_mirror.estate.directory.connection import Connection
    from salt_mirror.estate.directory.learning import learn

    session = Connection(access, 10.0, _beat)
    directory = learn(session, records=access.records)
    return _with_replication(session, access, directory) if access.replication else directory


def _with_replication(session: Session, access: Access, directory: FoundDirectory) -> FoundDirectory:
    """Return the directory with how changes come to each controller that holds zones: every one is asked, several at once."""
    from salt_mirror.estate.directory.connection import Connection
    from salt_mirror.estate.directory.inbound import inbound_of

    here = session.root().text("dnshostname").lower().rstrip(".")
    hosts = list(dict.fromkeys(host for zone in directory.zones for host in zone.hosts))
    scheme = access.url.partition("://")[0]

    def ask(host: str) -> list[FoundInbound] | str:
        try:
            other = structs.replace(access, url=f"{scheme}://{host}")
            return inbound_of(session if host == here else Connection(other, OTHERS_S, _beat), host, directory)
        except DirectoryFailed as error:
            return str(error)
        finally:
            _beat()  # many silent ones, one after the other, are no silence of the directory that is read

    with ThreadPoolExecutor(AT_ONCE) as pool:
        told = dict(zip(hosts, pool.map(ask, hosts), strict=True))
    inbound = [one for ways in told.values() if not isinstance(ways, str) for one in ways]
    untold = {host: why for host, why in told.items() if isinstance(why, str)}
    return structs.replace(directory, inbound=inbound, untold=untold)


def _beat() -> None:
    _say(STILL)


def _say(line: bytes) -> None:
    sys.stdout.buffer.write(line + b"\n")
    sys.stdout.buffer.flush()


if __name__ == "__main__":
    main()
