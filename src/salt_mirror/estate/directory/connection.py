"""A session over LDAP, by the library `bonsai` (the extra `directory`): the system's own LDAP on Windows, with the user's
ticket; elsewhere a ticket with every message sealed, or a password over TLS.

Strategy: this runs in a process of its own (`child`), since the library can be held up for ever by a peer that says nothing.
"""

from __future__ import annotations

import os
import re
import socket
import sys
from collections.abc import Callable, Iterator, Sequence
from datetime import UTC, datetime
from typing import Any
from urllib.parse import urlsplit

from salt_mirror.dns.tickets import cause_of, ticket_trouble
from salt_mirror.estate.directory.found import Access, DirectoryFailed
from salt_mirror.estate.directory.objects import Entry, ahead_s

MOST_ENTRIES = 5_000_000
_PAGE = 500
_RAW = ["objectGUID", "dnsRecord", "dNSProperty", "repsFrom"]
_TLS_ONLY = "over TLS a ticket cannot seal: use ldap:// for a ticket, or --user for a password"


class Connection:
    """A bound connection; `beat` is called with every page that comes."""

    def __init__(self, access: Access, timeout_s: float, beat: Callable[[], None]) -> None:
        os.environ.setdefault("LDAPSASL_NOCANON", "on")  # the host is what the URL says, whatever its pointer says
        import bonsai

        self._bonsai = bonsai
        self._access = access
        self._address = urlsplit(access.url)
        self._host = self._address.hostname or ""
        self._timeout_s = timeout_s
        self._beat = beat
        client = bonsai.LDAPClient(access.url)
        client.set_raw_attributes(_RAW)
        client.set_server_chase_referrals(False)
        if access.ca_file:
            client.set_ca_cert(access.ca_file)
        if access.user:
            client.set_credentials("SIMPLE", user=access.user, password=access.password)
        elif access.url.startswith("ldaps://") and sys.platform != "win32":
            raise DirectoryFailed(_TLS_ONLY)
        else:
            client.set_credentials("GSS-SPNEGO" if sys.platform == "win32" else "GSSAPI")
        self._connection: Any = self._tried(lambda: client.connect(timeout=timeout_s))
        beat()

    def root(self) -> Entry:
        """Return the server's own object."""
        found = self._tried(lambda: self._connection.search("", 0, "(objectClass=*)", timeout=self._timeout_s))
        return _entry(found[0]) if found else Entry("", {})

    def search(self, base: str, wanted: str, attributes: Sequence[str], *, below: bool = False) -> Iterator[Entry]:
        """Return the objects that fit, page by page (RFC 2696)."""
        scope = self._bonsai.LDAPSearchScope.ONELEVEL if below else self._bonsai.LDAPSearchScope.SUBTREE
        try:
            pages = self._tried(
                lambda: self._connection.paged_search(
                    base, scope, wanted, list(attributes), timeout=self._timeout_s, page_size=_PAGE
                )
            )
            for number, entry in enumerate(self._each(pages)):
                if number >= MOST_ENTRIES:
                    raise DirectoryFailed(f"more than {MOST_ENTRIES:,} objects below {base[:100]}")
                if not number % _PAGE:
                    self._beat()
                yield _entry(entry)
        except self._bonsai.NoSuchObjectError:
            return

    def at(self, dn: str, attributes: Sequence[str]) -> Entry | None:
        """Return one object by its distinguished name; None where there is none."""
        try:
            found = self._tried(
                lambda: self._connection.search(dn, 0, "(objectClass=*)", list(attributes), timeout=self._timeout_s)
            )
        except self._bonsai.NoSuchObjectError:
            return None
        return _entry(found[0]) if found else None

    def _each(self, pages: Any) -> Iterator[Any]:
        each = iter(pages)
        while True:
            try:
                entry = self._tried(lambda: next(each, None))
            except self._bonsai.NoSuchObjectError:
                return
            if entry is None:
                return
            yield entry

    def _tried(self, step: Callable[[], Any]) -> Any:
        """Return what a step gives. Raises DirectoryFailed, with what an administrator can do; NoSuchObjectError stays what it
        is."""
        errors = self._bonsai.errors
        try:
            return step()
        except errors.NoSuchObjectError:
            raise
        except errors.TimeoutError:
            raise DirectoryFailed(f"it did not answer within {self._timeout_s:g} s") from None
        except errors.LDAPError as error:
            text = _said(error)
            ours = isinstance(error, errors.AuthenticationError) or cause_of(text) in ("none", "expired", "skew")
            raise DirectoryFailed(self._in_words(error, text), text, ours=ours) from None

    def _in_words(self, error: Exception, text: str) -> str:
        """Return what an error means, and what to do about it."""
        errors, access = self._bonsai.errors, self._access
        if not access.user:
            apart_s = self._apart_s() if cause_of(text) == "skew" else None
            if words := ticket_trouble(text, f"ldap/{self._host}", apart_s):
                return words
        if isinstance(error, errors.AuthenticationError):
            return f"it refused the user {access.user} with this password" if access.user else "it refused the ticket"
        if isinstance(error, errors.ConnectionError):
            return self._unreached()
        if isinstance(error, errors.InsufficientAccess):
            return "the user has no right to read it"
        if "authentication required" in text:
            return "it wants a connection that is sealed: use ldaps://, or ldap:// with a Kerberos ticket"
        return f"it answered: {text}"

    def _unreached(self) -> str:
        """Return why no connection came about: its address, its port, or its certificate."""
        port = self._address.port or (636 if self._address.scheme == "ldaps" else 389)
        try:
            socket.create_connection((self._host, port), 3.0).close()
        except socket.gaierror:
            return f"{self._host} has no address"
        except OSError:
            return f"nothing answers on port {port} of {self._host}"
        if self._address.scheme == "ldaps":
            return "its certificate is not trusted (--ca-file FILE, or ca_file in the estate)"
        return f"what answers on port {port} of {self._host} is no directory"

    def _apart_s(self) -> float | None:
        """Return how many seconds the directory's clock is ahead of ours, as it tells anybody."""
        try:
            client = self._bonsai.LDAPClient(self._access.url)
            entry = client.connect(timeout=3.0).search("", 0, "(objectClass=*)", ["currentTime"], timeout=3.0)[0]
        except Exception:  # whatever the library raises: then it is not known
            return None
        return ahead_s(_entry(entry).text("currenttime"), datetime.now(UTC))


_CODES = re.compile(r"\s*\((?:unknown error code|0x[^)]*)\)")


def _said(error: Exception) -> str:
    """Return what the library or the server says, without numbers that help nobody."""
    return _CODES.sub("", str(error)).strip().rstrip(".")[:200]


def _entry(entry: Any) -> Entry:
    values = {}
    for attribute in entry:
        if attribute != "dn":
            values[attribute.lower()] = [one if isinstance(one, bytes) else _text(one) for one in entry[attribute]]
    return Entry(str(entry.dn), values)


def _text(value: object) -> str:
    return str(value).upper() if isinstance(value, bool) else str(value)
