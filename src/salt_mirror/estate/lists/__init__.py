"""Lists of hosts as they lie about: leases, hosts files, tables with other people's columns, and how each is told."""
