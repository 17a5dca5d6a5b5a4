"""What a connection needs besides questions: whose certificates are accepted, and how much of an answer is taken."""

from __future__ import annotations

import ssl
from pathlib import Path

import aiohttp

from rusty_lantern.core.config.estate import Store
from rusty_lantern.core.errors import Problem
from rusty_lantern.stores.http.errors import NoCredential, RequestFailed


def trusted_authorities(store: Store, folder: Path) -> ssl.SSLContext | bool:
    """By which authorities a store's certificate is accepted: those of its CA bundle, or the usual ones."""
    if not store.ca:
        return True
    try:
        return ssl.create_default_context(cafile=str(folder / Path(store.ca).expanduser()))
    except (OSError, ssl.SSLError):
        raise NoCredential(Problem(f"the CA bundle {store.ca} cannot be read", store.place)) from None


async def read_body(answer: aiohttp.ClientResponse, most: int) -> bytes:
    """The body of an answer. Raises `RequestFailed` for one larger than `most` bytes."""
    if (answer.content_length or most + 1) <= most:
        return await answer.read()
    chunks: list[bytes] = []
    total = 0
    async for chunk in answer.content.iter_chunked(1 << 16):
        total += len(chunk)
        if total > most:
            answer.close()
            raise RequestFailed("failed", f"the answer is larger than {most >> 20} MiB and was cut off", "too large")
        chunks.append(chunk)
    return b"".join(chunks)
