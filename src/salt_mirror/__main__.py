"""`python -m salt_mirror` is the same program as `salt-mirror`."""

from salt_mirror.entry import run

if __name__ == "__main__":
    run()
