"""Answers that the administration protocol encrypts with the secret key of whoever asks.

A body is 32 bytes of salt, one that names the cipher, 8 of a nonce, and pieces of 16 KiB, each with a tag of 16 bytes.
The key comes of the secret key and the salt by Argon2id. Pieces are numbered in their nonces, and the last one is
marked, so that a body that was cut off is not taken. Source: the published form of the protocol's encrypted messages,
tried on a JuiceFS gateway 1.4.2.
"""

from __future__ import annotations

from rusty_lantern.stores.http.errors import RequestFailed

_SALT, _NONCE, _PIECE, _TAG = 32, 8, 16 * 1024, 16
_AES, _CHACHA = 0, 1
"""By the byte that names them. A third one, for certified builds, derives its key otherwise, and is not read."""
_NOT_LAST, _LAST = b"\x00", b"\x80"


def opened(body: bytes, secret: str) -> bytes:
    """What an answer says. Raises `RequestFailed` for one that is encrypted otherwise, or with another secret."""
    from cryptography.exceptions import InvalidTag
    from cryptography.hazmat.primitives.ciphers.aead import AESGCM, ChaCha20Poly1305
    from cryptography.hazmat.primitives.kdf.argon2 import Argon2id

    head = _SALT + 1 + _NONCE
    if len(body) < head + _TAG or body[_SALT] not in (_AES, _CHACHA):
        raise _unreadable("the answer is not encrypted in a way that is read here")
    salt, kind, nonce, rest = body[:_SALT], body[_SALT], body[_SALT + 1 : head], body[head:]
    key = Argon2id(salt=salt, length=32, iterations=1, lanes=4, memory_cost=64 * 1024).derive(secret.encode())
    cipher = AESGCM(key) if kind == _AES else ChaCha20Poly1305(key)
    start = cipher.encrypt(nonce + bytes(4), b"", None)
    pieces = [rest[at : at + _PIECE + _TAG] for at in range(0, len(rest), _PIECE + _TAG)]
    clear = []
    try:
        for number, piece in enumerate(pieces, 1):
            mark = _LAST if number == len(pieces) else _NOT_LAST
            clear.append(cipher.decrypt(nonce + number.to_bytes(4, "little"), piece, mark + start))
    except InvalidTag:
        raise _unreadable("the answer cannot be decrypted with this secret key") from None
    return b"".join(clear)


def _unreadable(note: str) -> RequestFailed:
    return RequestFailed("failed", note, "unreadable answer")
