"""Which records make a service findable: the locator records of directory controllers, and families of other services.

Strategy: data alone. A locator row says who registers it and with what; placeholders stand for the domain, the forest, the
site and the two identifiers. Source of the controllers' rows: the open specification MS-ADTS, section 6.3.2.
"""

from __future__ import annotations

from typing import Literal, NamedTuple

LDAP, KERBEROS, KPASSWD, CATALOGUE_PORT = 389, 88, 464, 3268

Who = Literal["all", "pdc-emulator", "global-catalog", "zones"]
"""Who registers a row: every controller, the one in the primary role, global catalogues, holders of the directory's zones."""


class Locator(NamedTuple):
    """A record that a controller registers. `kind` is `SRV` with a `port`, `HOST` for its addresses, or `CNAME` to it;
    `why` says who needs it.

    `site_form` rows stand in a site, and are the only ones that a read-only controller registers.
    """

    pattern: str
    kind: Literal["SRV", "HOST", "CNAME"]
    who: Who
    port: int
    why: str

    @property
    def forest_wide(self) -> bool:
        """Whether controllers of every domain of the forest register it."""
        return "{forest}" in self.pattern and "guid}" not in self.pattern

    @property
    def site_form(self) -> bool:
        """Whether the row stands in a site."""
        return "{site}" in self.pattern


LOCATORS = (
    Locator(
        "{domain}",
        "HOST",
        "all",
        0,
        "older clients, and users who type the domain as a host, connect to a domain controller",
    ),
    Locator("_ldap._tcp.{domain}", "SRV", "all", LDAP, "any client of the domain finds a directory server"),
    Locator(
        "_ldap._tcp.{site}._sites.{domain}", "SRV", "all", LDAP, "clients in the site find a near directory server"
    ),
    Locator("_ldap._tcp.dc._msdcs.{domain}", "SRV", "all", LDAP, "computers find a domain controller to log on at"),
    Locator(
        "_ldap._tcp.{site}._sites.dc._msdcs.{domain}",
        "SRV",
        "all",
        LDAP,
        "computers in the site find a near domain controller to log on at",
    ),
    Locator(
        "_ldap._tcp.{domain_guid}.domains._msdcs.{forest}",
        "SRV",
        "all",
        LDAP,
        "the domain is found by its GUID after it was renamed",
    ),
    Locator("_kerberos._tcp.{domain}", "SRV", "all", KERBEROS, "clients get tickets over TCP"),
    Locator("_kerberos._udp.{domain}", "SRV", "all", KERBEROS, "clients get tickets over UDP"),
    Locator("_kerberos._tcp.{site}._sites.{domain}", "SRV", "all", KERBEROS, "clients in the site get tickets near by"),
    Locator(
        "_kerberos._tcp.dc._msdcs.{domain}",
        "SRV",
        "all",
        KERBEROS,
        "computers find a domain controller that gives out tickets",
    ),
    Locator(
        "_kerberos._tcp.{site}._sites.dc._msdcs.{domain}",
        "SRV",
        "all",
        KERBEROS,
        "computers in the site find such a domain controller near by",
    ),
    Locator("_kpasswd._tcp.{domain}", "SRV", "all", KPASSWD, "people change their passwords over TCP"),
    Locator("_kpasswd._udp.{domain}", "SRV", "all", KPASSWD, "people change their passwords over UDP"),
    Locator("{guid}._msdcs.{forest}", "CNAME", "all", 0, "other domain controllers find it to replicate with"),
    Locator(
        "_ldap._tcp.pdc._msdcs.{domain}",
        "SRV",
        "pdc-emulator",
        LDAP,
        "password changes and clocks follow the PDC emulator",
    ),
    Locator(
        "_gc._tcp.{forest}", "SRV", "global-catalog", CATALOGUE_PORT, "clients of the forest find a global catalog"
    ),
    Locator(
        "_gc._tcp.{site}._sites.{forest}",
        "SRV",
        "global-catalog",
        CATALOGUE_PORT,
        "clients in the site find a near global catalog",
    ),
    Locator(
        "_ldap._tcp.gc._msdcs.{forest}",
        "SRV",
        "global-catalog",
        CATALOGUE_PORT,
        "log-ons find a global catalog for group memberships",
    ),
    Locator(
        "_ldap._tcp.{site}._sites.gc._msdcs.{forest}",
        "SRV",
        "global-catalog",
        CATALOGUE_PORT,
        "log-ons in the site find one near by",
    ),
    Locator(
        "gc._msdcs.{forest}", "HOST", "global-catalog", 0, "clients that only look up addresses find a global catalog"
    ),
    *(
        locator
        for partition, whose in (("DomainDnsZones.{domain}", "domain"), ("ForestDnsZones.{forest}", "forest"))
        for locator in (
            Locator(
                partition,
                "HOST",
                "zones",
                0,
                f"who writes the {whose}'s zones connects to a domain controller that holds them",
            ),
            Locator(
                f"_ldap._tcp.{partition}",
                "SRV",
                "zones",
                LDAP,
                f"domain controllers that hold the {whose}'s zones find one another",
            ),
            Locator(
                f"_ldap._tcp.{{site}}._sites.{partition}",
                "SRV",
                "zones",
                LDAP,
                f"the same for the {whose}'s zones, near by",
            ),
        )
    ),
)
"""Every record that a controller may have to register, in the order of the specification; those of the partitions with the
directory's zones at the end, as real controllers register them."""

FAMILIES: dict[str, tuple[str, ...]] = {
    "sip": ("_sip._udp", "_sip._tcp", "_sips._tcp"),  # RFC 3263
    "xmpp": ("_xmpp-client._tcp", "_xmpp-server._tcp"),  # RFC 6120
    "kerberos": (
        "_kerberos._udp",
        "_kerberos._tcp",
        "_kpasswd._udp",
        "_kpasswd._tcp",
        "_kerberos-adm._tcp",
    ),  # RFC 4120
    "ldap": ("_ldap._tcp", "_ldaps._tcp"),  # RFC 2782
    "ntp": ("_ntp._udp",),  # RFC 5905
    "mail": (
        "_submission._tcp",
        "_submissions._tcp",
        "_imap._tcp",
        "_imaps._tcp",
        "_pop3._tcp",
        "_pop3s._tcp",
    ),  # RFC 6186
    "calendar": ("_caldav._tcp", "_caldavs._tcp"),  # RFC 6764
    "contacts": ("_carddav._tcp", "_carddavs._tcp"),  # RFC 6764
}
"""Families of services by name: where each is looked for below a domain. They say what is there, and demand nothing."""
