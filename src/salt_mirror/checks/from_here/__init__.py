"""What this computer gets for a name, station by station, and which station differs from the authoritative servers first."""
