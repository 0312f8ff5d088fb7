"""A lock on a file that is being written: two programs that go on with one journal would make nonsense of it.

Strategy: the operating system's own lock, which ends with the program, however that ends. On Windows, where a lock keeps
readers out, one byte far behind the end is locked.
"""

from __future__ import annotations

import sys
from typing import IO

if sys.platform == "win32":
    import msvcrt

    _FAR = 1 << 40

    def lock(file: IO[bytes]) -> bool:
        """Lock a file until it is closed; False when somebody else has it locked."""
        file.seek(_FAR)
        try:
            msvcrt.locking(file.fileno(), msvcrt.LK_NBLCK, 1)
        except OSError:
            return False
        return True
else:
    import fcntl

    def lock(file: IO[bytes]) -> bool:
        """Lock a file until it is closed; False when somebody else has it locked."""
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            return False
        except OSError:
            return True  # a file system without locks, or a pipe
        return True
