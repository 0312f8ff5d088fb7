"""The forms of a report as a file."""
