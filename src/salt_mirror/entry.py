"""Where the program begins: small, so that it can be interrupted and ended properly while the rest is still being loaded."""

from __future__ import annotations

import signal
import sys
from typing import NoReturn

_ENDING = ("SIGTERM", "SIGHUP", "SIGBREAK")


def run() -> NoReturn:
    """Runs the program. Whoever ends it by a signal gets what an interrupt gets: what was found, and nothing left behind."""
    try:
        for name in _ENDING:
            number = getattr(signal, name, None)
            if number is not None and signal.getsignal(number) is not signal.SIG_IGN:  # as under nohup
                signal.signal(number, signal.default_int_handler)
        from salt_mirror.cli.main import main

        main()
    except KeyboardInterrupt:
        sys.stderr.write("Interrupted.\n")
        sys.exit(130)
    sys.exit(0)
