"""Certificates for desks, vantages and their broker: a small authority of our own (RFC 5280), and what it has issued.

Strategy: a certificate has one name and one role, and the extended key usage of that role, so that a vantage's serves neither
as a desk's nor as a broker's. What was issued is in a list, from which the broker's rules and the list of revoked certificates
are made anew each time. Keys and certificates are never written over; every other file is written whole or not at all.
"""

from __future__ import annotations

import csv
import datetime
import io
import os
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

from salt_mirror.estate.errors import BadInput, hint
from salt_mirror.vantages.broker import CONFIGURATION, RULES, Listener, configuration, rules
from salt_mirror.vantages.identity import Role, read_revoked
from salt_mirror.vantages.protocol import is_plain
from salt_mirror.vantages.tls import AUTHORITY, REVOKED

AUTHORITY_KEY = "ca.key"
ISSUED = "issued.csv"
BROKER, DESK = "broker", "desk"
_RESERVED = ("ca", "revoked", "issued", "mosquitto")
_COLUMNS = ("name", "role", "serial", "expires", "revoked")
_DAY = datetime.timedelta(days=1)
_EXPIRES_SOON = 30 * _DAY


@dataclass(slots=True)
class Issued:
    """A certificate that was issued: whose, its serial number, when it expires, and when it was revoked (empty where it was
    not), both as ISO 8601."""

    name: str
    role: str
    serial: int
    expires: str
    revoked: str = ""


@dataclass(frozen=True, slots=True)
class KeysMade:
    """The names for which a certificate was made or revoked, and those whose certificate expires within 30 days."""

    made: list[str]
    revoked: list[str]
    expiring: list[str]


class KeyFolder:
    """A folder with an authority and what it has issued. Nothing is written before `write`, but keys and certificates."""

    def __init__(self, folder: Path, *, days: int) -> None:
        """Opens the folder, and makes it and its authority where they are not there. Raises BadInput."""
        self.folder = folder
        self.days = days
        self.made: list[str] = []
        with _naming(folder):
            folder.mkdir(parents=True, exist_ok=True)
            if not (folder / AUTHORITY_KEY).exists():
                if (folder / AUTHORITY).exists():
                    raise BadInput(f"{folder} has {AUTHORITY} and not its key: certificates are made where that is")
                self._make_authority()
                self.made.append("ca")
            key = serialization.load_pem_private_key((folder / AUTHORITY_KEY).read_bytes(), None)
            self._authority = x509.load_pem_x509_certificate((folder / AUTHORITY).read_bytes())
            if not isinstance(key, Ed25519PrivateKey):
                raise BadInput(f"{folder / AUTHORITY_KEY} is no Ed25519 key, as ours are; use an empty folder")
            self._key = key
            self.issued = self._read_issued()

    def valid(self, name: str) -> Issued | None:
        """Return the certificate of a name that is not revoked."""
        return next((one for one in self.issued if one.name == name and not one.revoked), None)

    def ensure(self, name: str, role: Role) -> None:
        """Make a certificate for a name that has none. Raises BadInput."""
        if not is_plain(name) or name in _RESERVED:
            raise BadInput(f"{name!r} is no name for a {role}; expected letters, digits, - and _, and none of ours")
        there = self.valid(name)
        if there is not None and there.role != role:
            raise BadInput(f"{name} has a certificate as a {there.role} already; use another name for the {role}")
        if there is None:
            with _naming(self.folder):
                self._make(name, role)
            self.made.append(name)

    def revoke(self, name: str) -> None:
        """Marks the certificates of a name as revoked and removes its files here. Raises BadInput."""
        found = [one for one in self.issued if one.name == name and not one.revoked]
        if not found:
            known = dict.fromkeys(one.name for one in self.issued if not one.revoked)
            raise BadInput(f"there is no valid certificate for {name!r}; {hint(name, known)}")
        for issued in found:
            issued.revoked = _moment(datetime.datetime.now(datetime.UTC))
        for kind in ("key", "pem"):
            (self.folder / f"{name}.{kind}").unlink(missing_ok=True)

    def write(self, listener: Listener, installed_at: Path | None) -> None:
        """Write what follows from what was issued: the list of it, the revoked ones, the broker's rules and its configuration,
        whose files will be in the folder `installed_at` (without it here)."""
        with _naming(self.folder):
            text = io.StringIO()
            writer = csv.writer(text, lineterminator="\n")
            writer.writerow(_COLUMNS)
            writer.writerows((one.name, one.role, f"{one.serial:x}", one.expires, one.revoked) for one in self.issued)
            _replace(self.folder / ISSUED, text.getvalue().encode("utf-8"))
            _replace(self.folder / REVOKED, self._revocation_list())
            valid = [one for one in self.issued if not one.revoked]
            desks = [one.name for one in valid if one.role == Role.DESK]
            vantages = [one.name for one in valid if one.role == Role.VANTAGE]
            _replace(self.folder / RULES, rules(desks, vantages).encode("utf-8"))
            _replace(
                self.folder / CONFIGURATION,
                configuration(installed_at or self.folder.absolute(), listener).encode("utf-8"),
            )

    def expiring(self) -> list[str]:
        """Return the names whose valid certificates expire within 30 days, and the authority."""
        until = _moment(datetime.datetime.now(datetime.UTC) + _EXPIRES_SOON)
        found = [one.name for one in self.issued if not one.revoked and one.expires < until]
        return found + (["ca"] if _moment(self._authority.not_valid_after_utc) < until else [])

    def _read_issued(self) -> list[Issued]:
        path = self.folder / ISSUED
        if not path.exists():
            return []
        with path.open(encoding="utf-8", newline="") as file:
            rows = list(csv.DictReader(file))
        try:
            found = [
                Issued(row["name"], row["role"], int(row["serial"], 16), row["expires"], row["revoked"]) for row in rows
            ]
        except (KeyError, TypeError, ValueError):
            raise BadInput(f"{path} is not as `vantage keys` writes it: columns {', '.join(_COLUMNS)}") from None
        if (self.folder / REVOKED).exists():
            # The list is evidence of its own: what is on it stays revoked, whatever was done to the other file.
            gone = {
                certificate.serial_number: certificate.revocation_date_utc
                for certificate in read_revoked(self.folder / REVOKED, self._authority)
            }
            for issued in found:
                if issued.serial in gone and not issued.revoked:
                    issued.revoked = _moment(gone[issued.serial])
        return found

    def _revocation_list(self) -> bytes:
        now = datetime.datetime.now(datetime.UTC)
        # Valid as long as the authority: a list that expired would lock everybody out at once.
        builder = (
            x509.CertificateRevocationListBuilder()
            .issuer_name(self._authority.subject)
            .last_update(now - _DAY)
            .next_update(self._authority.not_valid_after_utc)
        )
        for issued in self.issued:
            if issued.revoked:
                revoked = x509.RevokedCertificateBuilder().serial_number(issued.serial)
                builder = builder.add_revoked_certificate(
                    revoked.revocation_date(datetime.datetime.fromisoformat(issued.revoked)).build()
                )
        return builder.sign(self._key, None).public_bytes(serialization.Encoding.PEM)

    def _builder(self, subject: x509.Name, key: Ed25519PrivateKey) -> x509.CertificateBuilder:
        now = datetime.datetime.now(datetime.UTC)
        return (
            x509.CertificateBuilder()
            .subject_name(subject)
            .public_key(key.public_key())
            .serial_number(x509.random_serial_number())
            .not_valid_before(now - _DAY)
            .not_valid_after(now + self.days * _DAY)
        )

    def _make_authority(self) -> None:
        key = Ed25519PrivateKey.generate()
        name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "Salt Mirror vantages")])
        certificate = (
            self._builder(name, key)
            .issuer_name(name)
            .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
            .add_extension(_usage(signs_certificates=True), critical=True)
            .add_extension(x509.SubjectKeyIdentifier.from_public_key(key.public_key()), critical=False)
            .sign(key, None)
        )
        _write(self.folder, "ca", key, certificate)

    def _make(self, name: str, role: Role) -> None:
        key = Ed25519PrivateKey.generate()
        subject = x509.Name(
            [x509.NameAttribute(NameOID.ORGANIZATIONAL_UNIT_NAME, role), x509.NameAttribute(NameOID.COMMON_NAME, name)]
        )
        serves = ExtendedKeyUsageOID.SERVER_AUTH if role is Role.BROKER else ExtendedKeyUsageOID.CLIENT_AUTH
        certificate = (
            self._builder(subject, key)
            .issuer_name(self._authority.subject)
            .add_extension(x509.BasicConstraints(ca=False, path_length=None), critical=True)
            .add_extension(_usage(), critical=True)
            .add_extension(x509.ExtendedKeyUsage([serves]), critical=True)
            .add_extension(x509.SubjectAlternativeName([x509.DNSName(f"{name}.{role}.invalid")]), critical=False)
            .add_extension(x509.AuthorityKeyIdentifier.from_issuer_public_key(self._key.public_key()), critical=False)
            .sign(self._key, None)
        )
        self.issued.append(Issued(name, role, certificate.serial_number, _moment(certificate.not_valid_after_utc)))
        _write(self.folder, name, key, certificate)


def make_keys(
    folder: Path,
    vantages: Sequence[str],
    *,
    days: int,
    desks: Sequence[str] = (DESK,),
    revoke: Sequence[str] = (),
    rotate: Sequence[str] = (),
    listener: Listener | None = None,
    installed_at: Path | None = None,
) -> KeysMade:
    """Make what is not there yet: the authority, and certificates for the broker, the desks and the vantages; `revoke` ends
    the certificates of a name, `rotate` ends them and make new ones. Raises BadInput."""
    keys = KeyFolder(folder, days=days)
    roles = {name: one.role for name in rotate if (one := keys.valid(name)) is not None}
    for name in (*revoke, *rotate):
        keys.revoke(name)
    wanted: Iterable[tuple[str, Role]] = [
        *((name, Role(role)) for name, role in roles.items()),
        (BROKER, Role.BROKER),
        *((name, Role.DESK) for name in desks),
        *((name, Role.VANTAGE) for name in vantages),
    ]
    for name, role in wanted:
        if name not in revoke:
            keys.ensure(name, role)
    keys.write(listener or Listener(), installed_at)
    return KeysMade(keys.made, [*revoke, *rotate], keys.expiring())


@contextmanager
def _naming(folder: Path) -> Iterator[None]:
    """Say of a failure in the folder what could not be done."""
    try:
        yield
    except BadInput:
        raise
    except (OSError, ValueError) as error:
        raise BadInput(f"{folder}: the certificates cannot be made: {error}") from None


def _usage(*, signs_certificates: bool = False) -> x509.KeyUsage:
    return x509.KeyUsage(
        digital_signature=not signs_certificates, content_commitment=False, key_encipherment=False,
        data_encipherment=False, key_agreement=False, key_cert_sign=signs_certificates, crl_sign=signs_certificates,
        encipher_only=False, decipher_only=False,
    )  # fmt: skip


def _moment(when: datetime.datetime) -> str:
    return when.astimezone(datetime.UTC).isoformat(timespec="seconds")


def _replace(path: Path, content: bytes) -> None:
    part = path.with_name(f"{path.name}.part")
    part.write_bytes(content)
    part.replace(path)


def _write(folder: Path, name: str, key: Ed25519PrivateKey, certificate: x509.Certificate) -> None:
    """The key first, and nobody else may read it; the certificate says that both are there."""
    secret = key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
    path = folder / f"{name}.key"
    path.unlink(missing_ok=True)  # one without a certificate is left over from a run that was broken off
    with os.fdopen(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as file:
        file.write(secret)
    _replace(folder / f"{name}.pem", certificate.public_bytes(serialization.Encoding.PEM))
