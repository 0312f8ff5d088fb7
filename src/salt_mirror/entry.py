"""Where the program begins: small, so that it can be interrupted and ended properly while the rest is still being loaded."""

from __future__ import annotations

import signal
import sys
from typing import NoReturn

UNEXPECTED = 70
"""The status of an error that nobody expected (EX_SOFTWARE of sysexits.h): never 1, which says that a fault was found."""

_ENDING = ("SIGTERM", "SIGHUP", "SIGBREAK")


def run() -> NoReturn:
    """Run the program. Whoever ends it by a signal gets what an interrupt gets: what was found, and nothing left behind."""
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
    except Exception:
        _report()
        sys.exit(UNEXPECTED)
    sys.exit(0)


def _report() -> None:
    """Say on standard error that something went wrong inside, and what to report. No byte of it acts on a terminal."""
    import platform
    import traceback

    from salt_mirror import __version__

    told = traceback.format_exc(limit=-12).splitlines()
    lines = ["".join(c if c.isprintable() else "?" for c in line)[:300] for line in told]
    about = f"{__version__}, Python {platform.python_version()}, {platform.system()}"
    sys.stderr.write(f"salt-mirror: an internal error; the result is not complete. Please report it ({about}):\n")
    sys.stderr.write("\n".join(lines) + "\n")
