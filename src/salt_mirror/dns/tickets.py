"""What keeps a Kerberos ticket from being taken, in words: the libraries and systems behind it each say it in their own.

Strategy: the causes that an administrator can do something about are told apart by what the texts of MIT Kerberos, Heimdal and
Windows have in common (RFC 4120 section 7.5.9 has the numbers behind them); anything else keeps the library's own text.
"""

from __future__ import annotations

import re

_CAUSES = (
    ("none", r"no (?:kerberos )?credentials|credentials cache|no credential cache|0x8009030e|no such file.*krb5cc"),
    ("expired", r"ticket (?:has )?expired|credentials? (?:have|has) expired|context_expired|0x80090317"),
    ("skew", r"clock skew|time skew|0x80090324"),
    (
        "service",
        r"server not found in kerberos database|s_principal_unknown|target principal name|0x80090322|0x80090303",
    ),
    ("realm", r"cannot contact any kdc|cannot find kdc|unable to reach any kdc|no logon servers|0x80090311"),
    ("key", r"decrypt integrity check failed|wrong principal in request|ap_err_modified"),
)
_PATTERNS = tuple((cause, re.compile(pattern, re.IGNORECASE)) for cause, pattern in _CAUSES)
SKEW_S = 300
"""So far apart clocks may be (RFC 4120 section 5.2.3)."""


def cause_of(text: str) -> str:
    """Return which of the known causes a library's text is about: `none`, `expired`, `skew`, `service`, `realm`, `key`; else
    empty."""
    found = next((cause for cause, pattern in _PATTERNS if pattern.search(text)), "")
    return "expired" if found == "none" and "expired" in text.lower() else found


def ticket_trouble(text: str, service: str, apart_s: float | None = None) -> str:
    """Return what a library's text about a ticket means, and what to do; empty for one that means nothing known. `service` is
    who the ticket is for, such as `ldap/dc.example`; `apart_s` how far the server's clock is ahead of this computer's, if
    known."""
    host = service.partition("/")[2]
    if apart_s is None:
        skew = f"the clocks of this computer and of {host} differ by more than {SKEW_S // 60} minutes"
    else:
        way = "behind" if apart_s > 0 else "ahead of"
        skew = (
            f"this computer's clock is {abs(apart_s):.0f} s {way} that of {host}, and Kerberos takes {SKEW_S} s at most"
        )
    return {
        "none": "there is no Kerberos ticket: kinit USER@REALM gives one",
        "expired": "the Kerberos ticket has expired: kinit USER@REALM gives a new one",
        "skew": skew,
        "service": f"there is no service {service}: name the domain controller by its full name, not by an address or an alias",
        "realm": "no Kerberos server of the realm could be reached",
        "key": f"{host} does not take tickets for {service}: its name may lead to another computer",
    }.get(cause_of(text), "")
