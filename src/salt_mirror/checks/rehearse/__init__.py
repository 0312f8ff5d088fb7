"""The rehearsal: what a change would do, judged before it is made."""
