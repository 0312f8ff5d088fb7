"""The figures: a watch, the ages of records, a history."""
