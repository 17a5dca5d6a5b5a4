"""Running stand-in stores on loopback, in a thread of their own, for as long as a `with` block lasts."""

from __future__ import annotations

import asyncio
import ssl
import threading
from collections.abc import Iterator
from contextlib import contextmanager

from aiohttp import web


@contextmanager
def serve(application: web.Application, port: int = 0, tls: ssl.SSLContext | None = None) -> Iterator[str]:
    """Serve an application on 127.0.0.1 and yield its address; port 0 takes a free one. Raises `OSError`."""
    loop = asyncio.new_event_loop()
    runner = web.AppRunner(application, access_log=None, shutdown_timeout=0.1)
    try:
        loop.run_until_complete(runner.setup())
        site = web.TCPSite(runner, "127.0.0.1", port, ssl_context=tls)
        loop.run_until_complete(site.start())
    except BaseException:
        loop.run_until_complete(runner.cleanup())
        loop.close()
        raise
    bound = runner.addresses[0][1]
    thread = threading.Thread(target=loop.run_forever, daemon=True)
    thread.start()
    try:
        yield f"{'https' if tls else 'http'}://127.0.0.1:{bound}"
    finally:
        asyncio.run_coroutine_threadsafe(_stop(runner), loop).result(timeout=10)
        loop.call_soon_threadsafe(loop.stop)
        thread.join(timeout=10)
        loop.close()


async def _stop(runner: web.AppRunner) -> None:
    """Stop serving, and let go of requests that are still being answered."""
    await runner.cleanup()
    pending = [task for task in asyncio.all_tasks() if task is not asyncio.current_task()]
    for task in pending:
        task.cancel()
    await asyncio.gather(*pending, return_exceptions=True)
