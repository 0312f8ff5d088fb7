"""Who may speak to whom: certificates on both sides, or loopback alone.

Strategy: whoever reaches the scheduler can run code on every vantage, so without a certificate on both sides nothing leaves
this computer. TLS 1.2 or newer (RFC 9325 section 3.1.1), and both sides are asked for a certificate of the same authority.
"""

from __future__ import annotations

import ipaddress
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from salt_mirror.estate.errors import BadInput

PORT = 8786
_SILENCED = ("distributed", "tornado", "asyncio", "bokeh")


@dataclass(frozen=True, slots=True)
class Papers:
    """A certificate, its key, and the authority that the other side's certificate has to be of."""

    certificate: Path
    key: Path
    authority: Path

    def check(self) -> None:
        """Raises BadInput for files that cannot be read, or that do not belong together."""
        import ssl

        for path in (self.certificate, self.key, self.authority):
            if not path.is_file():
                raise BadInput(f"there is no {path}; `salt-mirror vantage keys FOLDER` makes certificates")
        try:
            context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
            context.load_cert_chain(self.certificate, self.key)
            context.load_verify_locations(self.authority)
        except (OSError, ssl.SSLError) as error:
            raise BadInput(f"{self.certificate} and {self.key} cannot be used: {error}") from None


def papers_in(folder: Path, name: str) -> Papers:
    """The papers of a name in a folder that `vantage keys` has filled."""
    return Papers(folder / f"{name}.pem", folder / f"{name}.key", folder / "ca.pem")


def check_address(address: str, papers: Papers | None) -> str:
    """An address as `tls://host:port` or `tcp://host:port`. Raises BadInput for one that would be open to others."""
    scheme, _, rest = address.partition("://") if "://" in address else ("tls" if papers else "tcp", "", address)
    try:
        parts = urlsplit(f"//{rest}")
        host, port = parts.hostname or "", parts.port or PORT
    except ValueError:
        host, port = "", 0
    if scheme not in ("tls", "tcp") or not host:
        raise BadInput(f"{address} is no address of a scheduler; expected one such as tls://192.0.2.53:{PORT}")
    if scheme == "tcp" and papers is not None:
        raise BadInput(f"{address} is without TLS, and there are certificates: write tls://")
    if scheme == "tls" and papers is None:
        raise BadInput(
            f"{address} needs a certificate, its key and the authority: --keys FOLDER (`vantage keys` makes them)"
        )
    if papers is None and not _loopback(host):
        raise BadInput(
            f"{address} is no loopback address, and there are no certificates: whoever reaches a scheduler can run code on "
            "every vantage, so without certificates on both sides it stays on this computer; --keys FOLDER names them"
        )
    if papers is not None:
        papers.check()
    shown = f"[{host}]" if ":" in host else host
    return f"{scheme}://{shown}:{port}"


def _loopback(host: str) -> bool:
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return host == "localhost"


def security_of(papers: Papers | None) -> Any:
    """What the engine of the vantages has to know about certificates; None without any."""
    if papers is None:
        return None
    import ssl

    import distributed.security

    both = {"key": str(papers.key), "cert": str(papers.certificate)}
    make: Any = distributed.security.Security
    return make(
        require_encryption=True, tls_ca_file=str(papers.authority), tls_min_version=ssl.TLSVersion.TLSv1_2,
        tls_scheduler_key=both["key"], tls_scheduler_cert=both["cert"], tls_worker_key=both["key"],
        tls_worker_cert=both["cert"], tls_client_key=both["key"], tls_client_cert=both["cert"],
    )  # fmt: skip


def plainly(error: BaseException) -> str:
    """What went wrong in a line, without what a library wraps around it."""
    while error.__cause__ is not None:
        error = error.__cause__
    return (str(error) or type(error).__name__).splitlines()[0][:200]


def set_up() -> None:
    """Sets the engine up as we need it: no pages of its own, quick to see who has gone, its log to nobody."""
    import gc
    import logging
    import warnings

    import dask
    import distributed  # noqa: F401  (it sets its log up when it is imported)

    for name in _SILENCED:
        logging.getLogger(name).setLevel(logging.CRITICAL + 1)
    warnings.filterwarnings("ignore", module="distributed")  # versions of ours are compared by the desk
    gc.freeze()
    gc.set_threshold(100_000, 50, 100)  # thousands of small objects are under way, and no cycles among them
    dask.config.set(
        {
            "distributed.scheduler.http.routes": [], "distributed.worker.http.routes": [],
            "distributed.scheduler.worker-ttl": "15s", "distributed.scheduler.allowed-failures": 0,
            "distributed.admin.low-level-log-length": 100, "distributed.scheduler.work-stealing": False,
            "distributed.scheduler.events-cleanup-delay": "10s",
            "distributed.comm.timeouts.connect": "5s", "distributed.comm.timeouts.tcp": "15s",
            "distributed.worker.profile.enabled": False, "distributed.scheduler.active-memory-manager.start": False,
            "distributed.diagnostics.nvml": False, "distributed.worker.memory.terminate": False,
            "distributed.worker.memory.pause": False, "distributed.worker.memory.spill": False,
            "distributed.worker.memory.target": False, "distributed.admin.large-graph-warning-threshold": "1GiB",
            "distributed.admin.tick.interval": "1s", "distributed.admin.tick.limit": "1h",
        }
    )  # fmt: skip
