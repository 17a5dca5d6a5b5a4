"""Our signature, held against another implementation over generated requests."""

from __future__ import annotations

from datetime import UTC, datetime
from urllib.parse import quote

from botocore.auth import S3SigV4Auth
from botocore.awsrequest import AWSRequest
from botocore.credentials import Credentials
from hypothesis import given
from hypothesis import strategies as st

from rusty_lantern.stores.http.credentials import AccessKey
from rusty_lantern.stores.http.sigv4 import canonical_query, encode, sign

texts = st.text(min_size=1, max_size=12).filter(lambda t: t.encode("utf-8", "ignore").decode() == t and t.isprintable())


@given(
    texts,
    texts.filter(lambda key: key not in (".", "..") and "/" not in key),
    st.lists(st.tuples(texts, st.text("ab/+ %=&é", max_size=6)), max_size=3, unique_by=lambda pair: pair[0]),
    st.sampled_from(["", "a-session-token"]),
    st.sampled_from(["GET", "HEAD"]),
)
def test_signatures_equal_those_of_the_standard_signer(
    secret: str, key: str, parameters: list[tuple[str, str]], session: str, method: str
) -> None:
    path = "/bucket/" + encode(key)
    query = canonical_query(parameters)
    request = AWSRequest(method, f"https://store.example{path}" + (f"?{query}" if query else ""))
    signer = S3SigV4Auth(Credentials("AKID", secret, session or None), "s3", "north-1")
    signer.add_auth(request)
    stamp = datetime.strptime(request.headers["X-Amz-Date"], "%Y%m%dT%H%M%SZ").replace(tzinfo=UTC)
    ours = sign(AccessKey("AKID", secret, session), method, "store.example", path, query, stamp, "north-1", {})
    theirs = request.headers["Authorization"]
    assert ours["authorization"].rpartition("=")[2] == theirs.rpartition("=")[2]


def test_paths_are_encoded_once() -> None:
    assert encode("a b/ü+~", "/") == "a%20b/%C3%BC%2B~" == quote("a b/ü+~", safe="/~")


def test_a_key_never_shows_its_secret() -> None:
    key = AccessKey("AKIDLONGENOUGH01", "very-secret", "session-secret")
    assert "secret" not in repr(key)
    assert key.masked == "AKID…GH01"
