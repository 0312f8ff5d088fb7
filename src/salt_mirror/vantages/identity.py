"""Who wrote a message: Ed25519 signatures, by certificates of one authority (RFC 8032, RFC 8410, RFC 5280).

Strategy: the broker carries messages and is believed in nothing. A message is signed together with its topic, so it cannot be
moved to another vantage, desk or session; the signer's certificate comes with it and has to be of our authority, valid, not
revoked, and for the role and the name that the topic says. Certificates that were checked once are remembered.
"""

from __future__ import annotations

import datetime
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path

from cryptography import x509
from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey
from cryptography.x509.oid import NameOID

from salt_mirror.estate.errors import BadInput
from salt_mirror.vantages.protocol import FORMAT, Envelope, Message, Unreadable, envelope_in, packed
from salt_mirror.vantages.tls import Papers

_MOST_REMEMBERED = 4096


class Role(StrEnum):
    """What a certificate is for; it stands in its subject as the organizational unit."""

    DESK = "desk"
    VANTAGE = "vantage"
    BROKER = "broker"


@dataclass(frozen=True, slots=True)
class _Signer:
    """A certificate that was found to be of our authority."""

    name: str
    role: str
    key: Ed25519PublicKey
    serial: int
    not_before: datetime.datetime
    not_after: datetime.datetime


class Identity:
    """Our own certificate and key. `name` and `role` are the certificate's."""

    def __init__(self, papers: Papers) -> None:
        """Raises BadInput for files that cannot be used."""
        papers.check()
        try:
            certificate = x509.load_pem_x509_certificate(papers.certificate.read_bytes())
            key = serialization.load_pem_private_key(papers.key.read_bytes(), None)
        except (OSError, ValueError, TypeError) as error:
            raise BadInput(f"{papers.certificate} and {papers.key} cannot be used: {error}") from None
        if not isinstance(key, Ed25519PrivateKey) or key.public_key() != certificate.public_key():
            raise BadInput(
                f"{papers.certificate} and {papers.key} are no Ed25519 certificate and its key; "
                "`salt-mirror vantage keys FOLDER` makes them"
            )
        self.name, self.role = name_of(certificate), role_of(certificate)
        self._key = key
        self._der = certificate.public_bytes(serialization.Encoding.DER)

    def sealed(self, topic: str, message: Message) -> bytes:
        """Return a message as it is published on a topic."""
        body = packed(message)
        return packed(Envelope(FORMAT, body, self._key.sign(_signed(topic, body)), self._der))


class Trust:
    """Whose messages are believed: those signed by certificates of one authority."""

    def __init__(self, papers: Papers) -> None:
        """Raises BadInput."""
        try:
            self._authority = x509.load_pem_x509_certificate(papers.authority.read_bytes())
        except (OSError, ValueError) as error:
            raise BadInput(f"{papers.authority} is no certificate of an authority: {error}") from None
        self._revoked = _Revoked(papers.revoked, self._authority)
        self._signers: dict[bytes, _Signer] = {}

    def opened(self, topic: str, payload: bytes, role: Role, name: str) -> bytes:
        """Return the message in what was published on a topic. Raises Unreadable where it is not signed by `name` in `role`."""
        envelope = envelope_in(payload)
        signer = self._signers.get(envelope.certificate)
        if signer is None:
            signer = self._checked(envelope.certificate)
            if len(self._signers) >= _MOST_REMEMBERED:
                self._signers.clear()
            self._signers[envelope.certificate] = signer
        if (signer.name, signer.role) != (name, role):
            raise Unreadable(f"it is signed by the {signer.role} {signer.name}, and not by the {role} {name}")
        if not signer.not_before <= datetime.datetime.now(datetime.UTC) <= signer.not_after:
            raise Unreadable(f"the certificate of the {role} {name} is not valid now")
        if signer.serial in self._revoked.serials():
            raise Unreadable(f"the certificate of the {role} {name} is revoked")
        try:
            signer.key.verify(envelope.signature, _signed(topic, envelope.body))
        except InvalidSignature:
            raise Unreadable("its signature is wrong") from None
        return envelope.body

    def _checked(self, der: bytes) -> _Signer:
        try:
            certificate = x509.load_der_x509_certificate(der)
            certificate.verify_directly_issued_by(self._authority)
            key = certificate.public_key()
            authority = certificate.extensions.get_extension_for_class(x509.BasicConstraints).value.ca
            name, role = name_of(certificate), role_of(certificate)
        except (ValueError, TypeError, InvalidSignature, x509.ExtensionNotFound):
            raise Unreadable("its certificate is not of our authority") from None
        if authority or not isinstance(key, Ed25519PublicKey):
            raise Unreadable("its certificate is not for messages")
        valid = certificate.not_valid_before_utc, certificate.not_valid_after_utc
        return _Signer(name, role, key, certificate.serial_number, *valid)


class _Revoked:
    """The serial numbers on the revocation list, read again whenever the file changes."""

    def __init__(self, path: Path, authority: x509.Certificate) -> None:
        self._path = path
        self._authority = authority
        self._seen: tuple[int, int] | None = None
        self._serials: frozenset[int] = frozenset()
        self.serials()

    def serials(self) -> frozenset[int]:
        """Raise BadInput for a list that is there and is none of our authority."""
        try:
            stat = self._path.stat()
        except OSError:
            return self._serials
        if (stat.st_mtime_ns, stat.st_size) != self._seen:
            self._serials = frozenset(one.serial_number for one in read_revoked(self._path, self._authority))
            self._seen = stat.st_mtime_ns, stat.st_size
        return self._serials


def read_revoked(path: Path, authority: x509.Certificate) -> list[x509.RevokedCertificate]:
    """Read a revocation list (RFC 5280 section 5). Raises BadInput."""
    try:
        revoked = x509.load_pem_x509_crl(path.read_bytes())
    except (OSError, ValueError) as error:
        raise BadInput(f"{path} is no revocation list: {error}") from None
    if not revoked.is_signature_valid(authority.public_key()):  # type: ignore[arg-type]
        raise BadInput(f"{path} is a revocation list of another authority")
    return list(revoked)


def name_of(certificate: x509.Certificate) -> str:
    """Return the name that a certificate is for. Raises ValueError."""
    return _single(certificate, NameOID.COMMON_NAME)


def role_of(certificate: x509.Certificate) -> str:
    """Return the role that a certificate is for. Raises ValueError."""
    return _single(certificate, NameOID.ORGANIZATIONAL_UNIT_NAME)


def _single(certificate: x509.Certificate, oid: x509.ObjectIdentifier) -> str:
    found = certificate.subject.get_attributes_for_oid(oid)
    if len(found) != 1 or not isinstance(found[0].value, str):
        raise ValueError("its subject has no name and role of ours")
    return found[0].value


def _signed(topic: str, body: bytes) -> bytes:
    return b"\n".join((b"salt-mirror vantage message 1", topic.encode("utf-8", "surrogatepass"), body))
