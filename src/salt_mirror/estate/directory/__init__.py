"""A directory read over LDAP: its controllers, sites and networks, and the zones that it keeps with every record."""
