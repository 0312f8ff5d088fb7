"""What no longer belongs in a zone: aged records, what is left over from hosts that are gone, references to nothing."""
