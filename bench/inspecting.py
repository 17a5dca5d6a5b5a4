"""Listing and inspecting versions against a stub that answers after 20 ms: what asking several at once is worth.

Reported for each ceiling: versions inspected a second, and its ratio to asking one after another.
"""

from __future__ import annotations

import asyncio
import contextlib
import multiprocessing
import socket
import time
from pathlib import Path

LATENCY = 0.02
VERSIONS = 3000
PAGE = 1000


class Stub(asyncio.Protocol):
    """Answers each request after the latency: a page of versions, or the headers of one."""

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self.transport = transport
        self.left = b""

    def data_received(self, data: bytes) -> None:
        *requests, self.left = (self.left + data).split(b"\r\n\r\n")
        for request in requests:
            target = request.split(b" ", 2)[1]
            body = page(target) if b"versions" in target else b""
            kind = b"application/xml" if body else b"image/jpeg\r\nx-amz-server-side-encryption: AES256"
            reply = b"HTTP/1.1 200 OK\r\nContent-Type: %s\r\nContent-Length: %d\r\n\r\n%s" % (kind, len(body), body)
            asyncio.get_running_loop().call_later(LATENCY, self.transport.write, reply)  # type: ignore[attr-defined]


def page(target: bytes) -> bytes:
    """One page of the listing."""
    start = int(target.partition(b"key-marker=k")[2][:6] or b"-1") + 1
    numbers = range(start, min(start + PAGE, VERSIONS))
    entries = b"".join(
        b"<Version><Key>k%06d</Key><VersionId>v</VersionId><IsLatest>true</IsLatest><Size>1</Size></Version>" % n
        for n in numbers
    )
    more = b"true" if start + PAGE < VERSIONS else b"false"
    return b"<ListVersionsResult><IsTruncated>%s</IsTruncated>%s</ListVersionsResult>" % (more, entries)


def stub(listener: socket.socket) -> None:
    """Serve for ever."""

    async def run() -> None:
        server = await asyncio.get_running_loop().create_server(Stub, sock=listener, backlog=512)
        await server.serve_forever()

    with contextlib.suppress(KeyboardInterrupt):
        asyncio.run(run())


async def inspected(address: str, at_once: int, most: int) -> tuple[float, float]:
    """Versions listed, and versions inspected, a second."""
    from rusty_lantern.core.config.estate import Credential, Pace, StoreConfig
    from rusty_lantern.core.errors import Place
    from rusty_lantern.stores.http.authorization import Signed
    from rusty_lantern.stores.http.client import Client
    from rusty_lantern.stores.http.credentials import AccessKey
    from rusty_lantern.stores.s3.listing import VERSIONS as LISTING
    from rusty_lantern.stores.s3.listing import Entry, Lister
    from rusty_lantern.stores.s3.object_details import Inspector
    from rusty_lantern.stores.s3.usage import listed

    pace = Pace(at_once, 1_000_000)
    store = StoreConfig("bench", Place("bench"), "s3", address, Credential("chain"), pace, plain_http=True)
    async with Client(store, Signed(AccessKey("AKIDBENCH", "bench-secret"), "us-east-1"), Path()) as client:
        entries: list[Entry] = []
        start = time.perf_counter()
        await Lister(client, "b", LISTING).walk(lambda _, found: entries.extend(found), 100)
        listing = len(entries) / (time.perf_counter() - start)
        inspector = Inspector(client, "b", locks=False)
        start = time.perf_counter()
        found = await asyncio.gather(*(inspector.inspect(listed(entry)) for entry in entries[:most]))
        assert {version.encryption for version in found} == {"provider-managed"}
        return listing, most / (time.perf_counter() - start)


def main() -> None:
    """Print the figures."""
    listener = socket.create_server(("127.0.0.1", 0), backlog=512)
    server = multiprocessing.get_context("fork").Process(target=stub, args=(listener,), daemon=True)
    server.start()
    address = f"http://127.0.0.1:{listener.getsockname()[1]}"
    alone = 0.0
    for at_once in (1, 8, 32, 128):
        listing, inspecting = asyncio.run(inspected(address, at_once, 150 if at_once == 1 else VERSIONS))
        alone = alone or inspecting
        print(
            f"{at_once:4} at once: {inspecting:8,.0f} versions inspected/s, {inspecting / alone:5.1f} times one after "
            f"another; {listing:8,.0f} listed/s"
        )
    server.terminate()


if __name__ == "__main__":
    main()
