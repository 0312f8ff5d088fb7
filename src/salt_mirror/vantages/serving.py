"""The two sides that stand: the scheduler, to which all come, and a worker that is a vantage.

Strategy: both run in this process until they are told to end, and are kept alive by the system's own means (a service). What
the library still does when they are told is not waited for longer than a moment. A worker listens on this computer's loopback
alone: errands and answers go over the connection by which it has come to the scheduler. When that is lost it comes again, with
a pause that grows to half a minute.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import secrets
import signal
import tempfile
import threading
from collections.abc import Callable, Coroutine
from dataclasses import dataclass
from typing import Any

from salt_mirror import __version__
from salt_mirror.estate.errors import BadInput
from salt_mirror.vantages.papers import Papers, check_address, plainly, security_of, set_up
from salt_mirror.vantages.station import Station, StationRules

VANTAGE, GROUP, VERSION = "vantage ", "group ", "version "
"""What the labels of a worker begin with; they are its resources."""
_PLENTY = 1_000_000
_LONGEST_PAUSE_S = 30.0
ENDS_WITHIN_S = 8.0

Say = Callable[[str], None]


def serve(address: str, papers: Papers | None, say: Say) -> None:
    """Runs a scheduler until it is interrupted. Raises BadInput where it cannot listen."""
    at = check_address(address, papers)
    set_up()
    run_until_told(_serve(at, papers, say))


def run_until_told(work: Coroutine[Any, Any, None]) -> None:
    """Works until it is told to end, and ends."""
    last = threading.Timer(ENDS_WITHIN_S, os._exit, (0,))
    last.daemon = True
    try:
        asyncio.run(_until_told(work, last.start))
    finally:
        last.cancel()


async def _until_told(work: Coroutine[Any, Any, None], ending: Callable[[], None]) -> None:
    """Works until it is told to end: by a signal where the loop takes them, else as everywhere, by KeyboardInterrupt."""
    told = asyncio.Event()
    for name in ("SIGINT", "SIGTERM", "SIGHUP"):
        number = getattr(signal, name, None)
        if number is not None and signal.getsignal(number) is not signal.SIG_IGN:
            with contextlib.suppress(NotImplementedError, RuntimeError, ValueError):
                asyncio.get_running_loop().add_signal_handler(number, told.set)
    running, waiting = asyncio.ensure_future(work), asyncio.ensure_future(told.wait())
    try:
        await asyncio.wait({running, waiting}, return_when=asyncio.FIRST_COMPLETED)
    finally:
        if not running.done():
            ending()
    waiting.cancel()
    if running.done():
        await running
    else:
        running.cancel()
        with contextlib.suppress(asyncio.CancelledError):
            await running


async def _serve(address: str, papers: Papers | None, say: Say) -> None:
    from distributed import Scheduler

    from salt_mirror.vantages.mail import Post

    scheme, _, rest = address.partition("://")
    host, _, port = rest.rpartition(":")
    try:
        scheduler = await Scheduler(
            host=host.strip("[]"), port=int(port), protocol=scheme, security=security_of(papers), dashboard=False,
            dashboard_address="127.0.0.1:0",
        )  # fmt: skip
    except (OSError, RuntimeError, ValueError) as error:
        raise BadInput(f"{address}: nothing can listen there: {error}") from None
    Post(scheduler)
    say(f"vantages and commands are awaited at {scheduler.address}")
    known: dict[str, str] = {}
    try:
        while True:
            await asyncio.sleep(0.5)
            present = {one.address: str(one.name) for one in scheduler.workers.values()}
            for worker in present.keys() - known.keys():
                say(f"{present[worker]} is there")
            for worker in known.keys() - present.keys():
                say(f"{known[worker]} has gone")
            known = present
    finally:
        await scheduler.close()


@dataclass(frozen=True, slots=True)
class Joining:
    """A worker to be: the scheduler's address, its name and group, its papers, and what it lets itself be asked."""

    address: str
    name: str
    group: str
    papers: Papers | None
    rules: StationRules
    settings: Callable[[], dict[str, bytes]]


def join(joining: Joining, say: Say) -> None:
    """Is a vantage until it is interrupted; comes again whenever the connection is lost."""
    at = check_address(joining.address, joining.papers)
    set_up()
    with tempfile.TemporaryDirectory(prefix="salt-mirror-") as folder:
        run_until_told(_join(at, joining, say, folder))


async def _join(address: str, joining: Joining, say: Say, folder: str) -> None:
    pause = 1.0
    while True:
        worker: Any = None
        try:
            worker = await _worker(address, joining, folder)
            say(f"{joining.name} is at {address}; it may ask {', '.join(joining.rules.allowed) or 'nobody'}")
            pause = 1.0
            await worker.finished()
            say(f"the connection to {address} was lost")
        except (OSError, TimeoutError, ValueError, RuntimeError) as error:
            say(f"{address}: {plainly(error)}; tried again in {pause:.0f} s")
        finally:
            if worker is not None:
                worker.station.close()
        await asyncio.sleep(pause)
        pause = min(pause * 2, _LONGEST_PAUSE_S)


async def _worker(address: str, joining: Joining, folder: str) -> Any:
    from distributed import Worker

    from salt_mirror.vantages.mail import deliver_to, replies_of

    scheme = address.partition("://")[0]
    labels = [f"{VANTAGE}{joining.name}", f"{VERSION}{__version__}"]
    labels += [f"{GROUP}{joining.group}"] if joining.group else []
    # Workers are told apart by their addresses, and nobody comes to this one.
    own = f"{scheme}://127.{'.'.join(str(part) for part in secrets.token_bytes(3))}:{1024 + secrets.randbelow(60_000)}"
    worker: Any = Worker(
        address, name=joining.name, nthreads=1, host="127.0.0.1", protocol=scheme, contact_address=own,
        security=security_of(joining.papers), resources=dict.fromkeys(labels, _PLENTY), dashboard=False,
        dashboard_address="127.0.0.1:0", memory_limit=0, local_directory=folder, death_timeout=10,
    )  # fmt: skip
    worker.station = Station(joining.name, joining.rules, replies_of(worker), joining.settings)
    deliver_to(worker, worker.station.take)
    try:
        return await worker
    except BaseException:
        worker.station.close()
        raise
