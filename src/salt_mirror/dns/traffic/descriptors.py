"""How many sockets may be open at once: what the system allows, raised as far as it lets us, less what the rest needs.

A process begins with a soft limit of 256 (macOS) or 1,024 descriptors (most Linux systems), and may raise it up to the hard one
by itself (POSIX, setrlimit). Windows has no such limit, but its `select` takes 512 sockets.
"""

from __future__ import annotations

import contextlib
import sys
from functools import cache

RESERVED = 100
"""Descriptors for everything but questions: files, transfers, threads' bells, the libraries."""
LEAST = 32
WANTED = 65_536
"""More is of no use: a server has at most three sockets."""
_OF_SELECT = 512


@cache
def most_sockets() -> int:
    """Raise the soft limit, once, and return how many sockets may be open for questions."""
    if sys.platform == "win32":
        return _OF_SELECT - RESERVED
    import resource

    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    unlimited = resource.RLIM_INFINITY
    for wanted in (WANTED, 10_240):  # macOS says that there is no hard limit, and takes no more than OPEN_MAX
        if soft == unlimited or soft >= wanted:
            break
        reach = wanted if hard == unlimited else min(wanted, hard)
        with contextlib.suppress(OSError, ValueError):
            resource.setrlimit(resource.RLIMIT_NOFILE, (max(soft, reach), hard))
            break
    soft, _ = resource.getrlimit(resource.RLIMIT_NOFILE)
    return max(LEAST, (WANTED if soft == unlimited else soft) - RESERVED)
