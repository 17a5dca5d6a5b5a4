"""`python -m rusty_lantern`, and where the installed program begins."""

from __future__ import annotations

import gc
import sys

from rusty_lantern.cli.interrupt import ends_the_program

OBJECTS_UNTIL_COLLECTED = 100_000
"""How many more objects there are before the collector of cyclic garbage looks again. The program makes many that live
until it ends, and few cycles: by Python's own measure, 700, looking takes a tenth of an audit."""


def main() -> None:
    """Run the program. Importing it takes a moment, in which Ctrl-C must end it as quietly as later on."""
    ends_the_program()
    gc.set_threshold(OBJECTS_UNTIL_COLLECTED, 20, 50)
    try:
        from rusty_lantern.cli.app import main as run

        run()
    except KeyboardInterrupt:
        sys.stderr.write("lantern: interrupted; nothing that was saved is touched\n")
        raise SystemExit(130) from None


if __name__ == "__main__":
    main()
