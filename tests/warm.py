"""The installed `lantern`, started often: one process imports what it needs once, and forks for every run.

Most of a short run is the interpreter's start and its imports, the same each time. A run here is a process of its own
all the same: it executes the installed script with its own arguments, folder, environment and streams. What starting
costs, which modules a command imports and interrupts are tested on processes that are started afresh.
"""

from __future__ import annotations

import atexit
import gc
import importlib
import json
import os
import pkgutil
import runpy
import selectors
import socket
import subprocess
import sys
import tempfile
import threading
import time
import traceback
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import NoReturn

import rusty_lantern

MOST = 1 << 20
"""Bytes of one request at most."""
LONGEST = 600
"""Seconds that a run may take: against hanging, not against slowness."""
PROGRAM = Path(sys.executable).parent / "lantern"
FORKS: bool = sys.platform == "linux"
"""Whether there is a fork, and sockets that keep messages apart; elsewhere every run is started afresh."""
LAZY = (
    "aiohttp", "botocore.session", "distributed", "duckdb", "jinja2", "lxml.etree", "matplotlib.figure", "numpy",
    "pyarrow.compute", "pyarrow.parquet",
)  # fmt: skip
"""What commands import where they need it, and many need. Importing these starts no thread that a fork could miss."""


class Warm:
    """The process that forks, and how it is asked."""

    def __init__(self) -> None:
        self._folder = tempfile.TemporaryDirectory()
        self._address = str(Path(self._folder.name) / "s")
        words = [sys.executable, "-m", "tests.warm", self._address]
        self._process = subprocess.Popen(words, stdin=subprocess.PIPE, stdout=subprocess.PIPE)
        assert self._process.stdout is not None and self._process.stdout.readline() == b"ready\n"
        atexit.register(self.close)

    def close(self) -> None:
        """It ends when its input does."""
        self._process.communicate()
        self._folder.cleanup()

    def run(self, words: Sequence[str], cwd: Path, environment: Mapping[str, str]) -> tuple[int, str, str]:
        """The exit code, output and errors of one run."""
        with tempfile.TemporaryFile() as out, tempfile.TemporaryFile() as err:
            request = json.dumps([words, str(cwd), dict(environment)]).encode()
            with socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET) as asking:
                asking.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, MOST)
                asking.connect(self._address)
                asking.settimeout(LONGEST)
                socket.send_fds(asking, [request], [out.fileno(), err.fileno()])
                code = int(asking.recv(16))
            return code, _text(out.fileno()), _text(err.fileno())


def _text(descriptor: int) -> str:
    os.lseek(descriptor, 0, os.SEEK_SET)
    with open(descriptor, encoding="utf-8", closefd=False) as stream:
        return stream.read()


def serve(address: str) -> NoReturn:
    """Fork for every request until the input ends."""
    for module in pkgutil.walk_packages(rusty_lantern.__path__, "rusty_lantern."):
        if not module.name.endswith("__main__"):
            importlib.import_module(module.name)
    for name in LAZY:
        importlib.import_module(name)
    assert threading.active_count() == 1
    gc.collect()
    gc.freeze()
    with socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET) as listening, selectors.DefaultSelector() as either:
        listening.bind(address)
        listening.listen(64)
        either.register(listening, selectors.EVENT_READ)
        either.register(sys.stdin, selectors.EVENT_READ)
        print("ready", flush=True)
        while all(key.fileobj is listening for key, _ in either.select()):
            asked = listening.accept()[0]
            if os.fork() == 0:
                listening.close()
                _answer(asked)
            asked.close()
            _reap()
    os._exit(0)


def _reap() -> None:
    """Let runs that ended go."""
    try:
        while os.waitpid(-1, os.WNOHANG)[0]:
            pass
    except ChildProcessError:
        pass


def _answer(asked: socket.socket) -> NoReturn:
    """Have a child run the program, and answer with its exit code; a negative one is a signal."""
    request, descriptors, *_ = socket.recv_fds(asked, MOST, 2)
    child = os.fork()
    if child == 0:
        asked.close()
        words, folder, environment = json.loads(request)
        os.environ.clear()
        os.environ.update(environment)
        time.tzset()
        os.chdir(folder)
        for target, descriptor in enumerate((os.open(os.devnull, os.O_RDONLY), *descriptors)):
            os.dup2(descriptor, target)
            os.close(descriptor)
        os._exit(_executed(words))
    asked.send(str(os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])).encode())
    os._exit(0)


def _executed(words: list[str]) -> int:
    """Execute the installed script, and end as an interpreter does. Returns the exit code."""
    sys.argv = [str(PROGRAM), *words]
    code = 0
    try:
        runpy.run_path(str(PROGRAM), run_name="__main__")
    except SystemExit as ended:
        code = ended.code if isinstance(ended.code, int) else int(ended.code is not None)
    except BaseException:
        traceback.print_exc()
        code = 1
    threading._shutdown()  # type: ignore[attr-defined]  # as the interpreter itself: wait for the other threads
    atexit._run_exitfuncs()
    sys.stdout.flush()
    sys.stderr.flush()
    return code


if __name__ == "__main__":
    serve(sys.argv[1])
