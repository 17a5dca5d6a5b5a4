"""What a connection needs besides questions: whose certificates are accepted, how much of an answer is taken, and what
is said where there is none."""

from __future__ import annotations

import os
import ssl
from pathlib import Path

import aiohttp

from rusty_lantern.core.config.estate import StoreConfig
from rusty_lantern.core.errors import Problem
from rusty_lantern.stores.http.errors import NoCredential, RequestFailed


def trusted_authorities(store: StoreConfig, folder: Path) -> ssl.SSLContext | bool:
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


NO_ANSWER = (aiohttp.ClientError, TimeoutError, OSError)
"""What is raised where a question gets no answer."""


def unanswered(error: Exception, host: str, timeout: float) -> RequestFailed:
    """Why a question got no answer, in words."""
    if isinstance(error, TimeoutError):
        return RequestFailed("failed", f"no answer within {timeout} s", "timed out")
    if isinstance(error, aiohttp.ClientHttpProxyError):
        return RequestFailed("failed", f"the proxy gives no way to {host}: {error.status}", "no connection")
    if isinstance(error, aiohttp.ClientConnectorCertificateError):
        reason = getattr(error.certificate_error, "verify_message", "") or "not trusted"
        return RequestFailed("failed", f"the store's certificate is not accepted: {reason}")
    if isinstance(error, aiohttp.ClientConnectorError):
        number = error.os_error.errno
        reason = os.strerror(number).lower() if number and number > 0 else "no such host"
        through = "the proxy of " if isinstance(error, aiohttp.ClientProxyConnectionError) else ""
        return RequestFailed("failed", f"cannot connect to {through}{host}: {reason}", "no connection")
    words = f"the connection to {host} broke off ({type(error).__name__})"
    return RequestFailed("failed", words, "connection lost")
