"""What this computer gets for a name, station by station, and which station departs from the authoritative servers first."""
