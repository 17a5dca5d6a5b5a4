"""`python -m rusty_lantern` is the same as `lantern`."""

from rusty_lantern.cli.app import main

if __name__ == "__main__":
    main()
