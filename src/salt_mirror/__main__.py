"""`python -m salt_mirror` is the same program as `salt-mirror`."""

from salt_mirror.cli.main import main

if __name__ == "__main__":
    main()
