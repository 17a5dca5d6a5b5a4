"""`python -m rusty_lantern`, and where the installed program begins."""

from __future__ import annotations

import sys


def main() -> None:
    """Run the program. Importing it takes a moment, in which Ctrl-C must end it as quietly as later on."""
    try:
        from rusty_lantern.cli.app import main as run

        run()
    except KeyboardInterrupt:
        sys.stderr.write("lantern: interrupted; nothing that was saved is touched\n")
        raise SystemExit(130) from None


if __name__ == "__main__":
    main()
