"""The way to the broker: its address, our certificate, and whose certificate it has to show.

Strategy: TLS 1.2 or newer (RFC 9325 section 3.1.1), and both sides show a certificate; there is no other way. A certificate of
our own authority serves a broker only if it was made for one (extended key usage), so the broker may be anywhere; one of
another authority has to name the host that is spoken to (RFC 9525).
"""

from __future__ import annotations

import contextlib
import ssl
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import urlsplit

from salt_mirror.estate.errors import BadInput

PORT = 8883
"""secure-mqtt, as IANA has it."""
AUTHORITY, REVOKED = "ca.pem", "revoked.pem"
_SCHEMES = ("mqtts", "tls")


@dataclass(frozen=True, slots=True)
class Papers:
    """A certificate, its key, the authority of all desks and vantages, and the broker's where that is another one."""

    certificate: Path
    key: Path
    authority: Path
    broker_authority: Path | None = None

    @property
    def revoked(self) -> Path:
        """The list of revoked certificates, beside the authority; it need not be there."""
        return self.authority.parent / REVOKED

    def check(self) -> None:
        """Raise BadInput for files that are not there."""
        ours = (self.certificate, self.key, self.authority)
        for path in (*ours, *filter(None, (self.broker_authority,))):
            if not path.is_file():
                raise BadInput(f"there is no {path}; `salt-mirror vantage keys FOLDER` makes certificates")

    def context(self) -> ssl.SSLContext:
        """Return what a connection to the broker is made with. Raises BadInput for files that cannot be read, or do not fit."""
        self.check()
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
        context.minimum_version = ssl.TLSVersion.TLSv1_2
        # Our authority certifies one broker and names no host; a house's authority certifies many servers.
        context.check_hostname = self.broker_authority is not None
        try:
            context.load_cert_chain(self.certificate, self.key)
            context.load_verify_locations(self.broker_authority or self.authority)
            if self.broker_authority is None and self.revoked.is_file():
                context.load_verify_locations(self.revoked)
                context.verify_flags |= ssl.VerifyFlags.VERIFY_CRL_CHECK_LEAF
        except (OSError, ssl.SSLError) as error:
            raise BadInput(f"{self.certificate} and {self.key} cannot be used: {plainly(error)}") from None
        return context


def papers_in(folder: Path, name: str, broker_authority: Path | None = None) -> Papers:
    """Return the papers of a name in a folder that `vantage keys` has filled."""
    return Papers(folder / f"{name}.pem", folder / f"{name}.key", folder / AUTHORITY, broker_authority)


def host_and_port(address: str) -> tuple[str, int]:
    """Read a broker's address, such as `192.0.2.60`, `broker.example:8883` or `[2001:db8::60]:8883`. Raises BadInput."""
    scheme, _, rest = address.rpartition("://")
    host, port = "", 0
    with contextlib.suppress(ValueError):
        parts = urlsplit(f"//{rest}")
        host, port = parts.hostname or "", parts.port or PORT
        if parts.path or parts.query or parts.username:
            host = ""
    if not host or (scheme and scheme not in _SCHEMES):
        raise BadInput(
            f"{address} is no address of a broker; expected one such as 192.0.2.60:{PORT} (TLS is always used)"
        )
    return host, port


def shown(host: str, port: int) -> str:
    """Return an address as it is shown."""
    return f"[{host}]:{port}" if ":" in host else f"{host}:{port}"


def plainly(error: BaseException) -> str:
    """Return what went wrong in a line, without what a library wraps around it."""
    if isinstance(error, ssl.SSLError) and error.reason:
        said = getattr(error, "verify_message", "") or error.reason.lower().replace("_", " ")
        return f"TLS: {said}"
    return (str(error) or type(error).__name__).splitlines()[0][:200]
