"""TLS: verified by default, with a CA bundle of one's own per store, and certificate trouble told in words."""

from __future__ import annotations

import ipaddress
import ssl
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from aiohttp import web
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from rusty_lantern.core.config.estate import Credential, StoreConfig
from rusty_lantern.core.errors import Place
from rusty_lantern.simulator.demo import harbour as saltmarsh
from rusty_lantern.simulator.s3_server import Standin
from rusty_lantern.simulator.serve import serve
from rusty_lantern.stores.http.client import Client
from tests.conftest import Ran, estate_for, lantern


def certificate(folder: Path, name: str, *, ended: bool = False, called: str = "standin") -> tuple[Path, Path]:
    """A self-signed certificate for an address or host name, and its key. `called`: its own name."""
    key = ec.generate_private_key(ec.SECP256R1())
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, called)])
    start = datetime.now(UTC) - timedelta(days=30)
    try:
        alternative: x509.GeneralName = x509.IPAddress(ipaddress.ip_address(name))
    except ValueError:
        alternative = x509.DNSName(name)
    made = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(subject)
        .public_key(key.public_key())
        .serial_number(1)
        .not_valid_before(start)
        .not_valid_after(start + timedelta(days=10 if ended else 90))
        .add_extension(x509.SubjectAlternativeName([alternative]), critical=False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True)
        .sign(key, hashes.SHA256())
    )
    pem, secret = folder / "cert.pem", folder / "key.pem"
    pem.write_bytes(made.public_bytes(serialization.Encoding.PEM))
    encoding, form = serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8
    secret.write_bytes(key.private_bytes(encoding, form, serialization.NoEncryption()))
    return pem, secret


@contextmanager
def secured(application: web.Application, pem: Path, secret: Path) -> Iterator[str]:
    context = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
    context.load_cert_chain(pem, secret)
    with serve(application, tls=context) as address:
        yield address


def reach(tmp_path: Path, name: str, extra: str, *, ended: bool = False) -> Ran:
    pem, secret = certificate(tmp_path, name, ended=ended)
    with secured(Standin(saltmarsh.harbour(), saltmarsh.MOMENT).application(), pem, secret) as address:
        folder = estate_for(tmp_path / "ws", address, extra)
        return lantern("reach", cwd=folder)


def test_a_certificate_that_the_named_bundle_vouches_for_is_accepted(tmp_path: Path) -> None:
    ran = reach(tmp_path, "127.0.0.1", "    ca: ../cert.pem\n")
    assert "credential  accepted" in ran.out
    assert "transport   TLS" in ran.out


@pytest.mark.parametrize(
    "name,extra,ended,message",
    [
        ("127.0.0.1", "", False, "self-signed certificate"),
        ("127.0.0.1", "    ca: ../cert.pem\n", True, "certificate has expired"),
        ("other.example", "    ca: ../cert.pem\n", False, "not valid for '127.0.0.1'"),
    ],
)
def test_a_certificate_that_is_not_trusted_says_why(
    tmp_path: Path, name: str, extra: str, ended: bool, message: str
) -> None:
    ran = reach(tmp_path, name, extra, ended=ended)
    assert (ran.code, "the store's certificate is not accepted" in ran.out) == (3, True), ran.out
    assert message in " ".join(ran.out.split())


def test_a_bundle_that_cannot_be_read_is_told(tmp_path: Path) -> None:
    folder = estate_for(tmp_path / "ws", "https://127.0.0.1:9", "    ca: none.pem\n")
    ran = lantern("reach", cwd=folder)
    assert (ran.code, "CA bundle none.pem cannot be read" in ran.err) == (2, True)


@pytest.mark.parametrize(
    "addressing,bucket,key,expected",
    [
        ("path", "b", "", ("o.example:8443", "/base/b")),
        ("path", "b", "a/ü b", ("o.example:8443", "/base/b/a/%C3%BC%20b")),
        ("virtual", "b", "", ("b.o.example:8443", "/base/")),
        ("virtual", "b", "k", ("b.o.example:8443", "/base/k")),
        ("virtual", "", "", ("o.example:8443", "/base/")),
    ],
)
def test_buckets_are_addressed_by_path_or_by_host(
    addressing: str, bucket: str, key: str, expected: tuple[str, str]
) -> None:
    at = "https://o.example:8443/base"
    store = StoreConfig("s", Place("estate.yaml"), "s3", at, Credential("chain"), addressing=addressing)
    assert Client(store, None, Path()).target(bucket, key) == expected
