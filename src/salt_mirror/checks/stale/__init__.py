"""What no longer belongs in a zone: aged records, leftovers of hosts that are gone, dangling references."""
