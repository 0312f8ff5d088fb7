"""The checks: each a dialogue that asks, is answered, and judges. No I/O, and no clock but what it is handed."""
