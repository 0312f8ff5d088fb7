"""Certificates for both sides: a small authority of our own, and one certificate for each vantage (RFC 5280).

Strategy: whoever holds a certificate of this authority can run code at the scheduler and its vantages, so the authority is made
for nothing else. Files are never written over; names that are added later are signed by the authority that is there.
"""

from __future__ import annotations

import datetime
import os
from collections.abc import Sequence
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

from salt_mirror.estate.errors import BadInput
from salt_mirror.vantages.parcel import is_plain

AUTHORITY = "ca"
SCHEDULER = "scheduler"
DESK = "desk"
_DAY = datetime.timedelta(days=1)


def make_keys(folder: Path, names: Sequence[str], *, days: int) -> list[str]:
    """Makes what is not there yet: the authority, and certificates for the scheduler, the desk and the named vantages.

    Returns the names for which something was made. Raises BadInput.
    """
    wanted = [SCHEDULER, DESK, *names]
    for name in names:
        if name in (AUTHORITY, SCHEDULER, DESK) or not is_plain(name):
            raise BadInput(f"{name!r} is no name for a vantage; expected letters, digits, - and _, and none of ours")
    try:
        folder.mkdir(parents=True, exist_ok=True)
        made = []
        if not (folder / f"{AUTHORITY}.key").exists():
            if (folder / f"{AUTHORITY}.pem").exists():
                raise BadInput(f"{folder} has {AUTHORITY}.pem and not its key: certificates are made where that is")
            _make_authority(folder, days)
            made.append(AUTHORITY)
        key = serialization.load_pem_private_key((folder / f"{AUTHORITY}.key").read_bytes(), None)
        authority = x509.load_pem_x509_certificate((folder / f"{AUTHORITY}.pem").read_bytes())
        if not isinstance(key, ec.EllipticCurvePrivateKey):
            raise BadInput(f"{folder / AUTHORITY}.key is no elliptic curve key, as ours are")
        for name in dict.fromkeys(wanted):
            if not (folder / f"{name}.pem").exists():
                _make_one(folder, name, authority, key, days)
                made.append(name)
    except (OSError, ValueError) as error:
        if isinstance(error, BadInput):
            raise
        raise BadInput(f"{folder}: the certificates cannot be made: {error}") from None
    return made


def _builder(subject: str, days: int) -> x509.CertificateBuilder:
    now = datetime.datetime.now(datetime.UTC)
    return (
        x509.CertificateBuilder()
        .subject_name(x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, subject)]))
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - _DAY)
        .not_valid_after(now + days * _DAY)
    )


def _make_authority(folder: Path, days: int) -> None:
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "Salt Mirror vantages")])
    usage = x509.KeyUsage(
        digital_signature=False, content_commitment=False, key_encipherment=False, data_encipherment=False,
        key_agreement=False, key_cert_sign=True, crl_sign=True, encipher_only=False, decipher_only=False,
    )  # fmt: skip
    certificate = (
        _builder("Salt Mirror vantages", days)
        .issuer_name(name)
        .public_key(key.public_key())
        .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
        .add_extension(usage, critical=True)
        .add_extension(x509.SubjectKeyIdentifier.from_public_key(key.public_key()), critical=False)
        .sign(key, hashes.SHA256())
    )
    _write(folder, AUTHORITY, key, certificate)


def _make_one(
    folder: Path, name: str, authority: x509.Certificate, signer: ec.EllipticCurvePrivateKey, days: int
) -> None:
    key = ec.generate_private_key(ec.SECP256R1())
    both = x509.ExtendedKeyUsage([ExtendedKeyUsageOID.SERVER_AUTH, ExtendedKeyUsageOID.CLIENT_AUTH])
    certificate = (
        _builder(name, days)
        .issuer_name(authority.subject)
        .public_key(key.public_key())
        .add_extension(x509.BasicConstraints(ca=False, path_length=None), critical=True)
        .add_extension(x509.SubjectAlternativeName([x509.DNSName(f"{name}.vantage.invalid")]), critical=False)
        .add_extension(both, critical=False)
        .add_extension(x509.AuthorityKeyIdentifier.from_issuer_public_key(signer.public_key()), critical=False)
        .sign(signer, hashes.SHA256())
    )
    _write(folder, name, key, certificate)


def _write(folder: Path, name: str, key: ec.EllipticCurvePrivateKey, certificate: x509.Certificate) -> None:
    """The key first, and nobody else may read it; the certificate says that both are there."""
    secret = key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
    path = folder / f"{name}.key"
    path.unlink(missing_ok=True)  # one without a certificate is left over from a run that was broken off
    with os.fdopen(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as file:
        file.write(secret)
    part = folder / f"{name}.pem.part"
    part.write_bytes(certificate.public_bytes(serialization.Encoding.PEM))
    part.replace(folder / f"{name}.pem")
