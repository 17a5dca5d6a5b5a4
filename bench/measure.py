"""What a process costs."""

from __future__ import annotations

import os
import subprocess
from pathlib import Path


def cpu(words: list[str], place: Path) -> tuple[float, int]:
    """Processor seconds of a process, start included, and its peak of memory in MiB."""
    with subprocess.Popen(words, cwd=place, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as process:
        _, status, used = os.wait4(process.pid, 0)
        process.returncode = os.waitstatus_to_exitcode(status)
    assert process.returncode in (0, 1), words
    return used.ru_utime + used.ru_stime, used.ru_maxrss // 1024
