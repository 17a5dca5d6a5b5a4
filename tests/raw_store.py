"""A store that answers whatever bytes it is told to, well-formed or not: HTTP written by hand on a socket."""

from __future__ import annotations

import asyncio
import threading
from collections.abc import Awaitable, Callable, Iterator
from contextlib import closing, contextmanager, suppress
from dataclasses import dataclass, field
from urllib.parse import parse_qsl, unquote

Headers = dict[str, bytes]
WHEN = "2026-10-02T06:00:00Z"


@dataclass
class Asked:
    """One request: its method, bucket, key and query."""

    method: str
    bucket: str
    key: str
    query: dict[str, str]
    signed: bool
    writer: asyncio.StreamWriter

    @property
    def question(self) -> str:
        """The sub-resource, `HEAD`, or what is listed."""
        known = next((name for name in SETTINGS if name in self.query), "")
        if self.method == "HEAD":
            return "HEAD object" if self.key else "HEAD"
        return known or ("list" if self.bucket and not self.key else "object" if self.key else "buckets")


@dataclass
class Told:
    """One answer."""

    body: bytes = b""
    status: int = 200
    headers: Headers = field(default_factory=dict)


Answering = Callable[[Asked], Awaitable[Told | None]]
"""Yields an answer, or None once it has written to the socket itself."""


def _xml(root: str, inner: str) -> str:
    return f'<?xml version="1.0"?><{root} xmlns="http://s3.example/doc/">{inner}</{root}>'


_GRANT = "<Grant><Grantee><ID>{}</ID></Grantee><Permission>FULL_CONTROL</Permission></Grant>"
SETTINGS = {
    "acl": _xml(
        "AccessControlPolicy",
        f"<Owner><ID>400100200300</ID></Owner><AccessControlList>{_GRANT.format('400100200300')}</AccessControlList>",
    ),
    "policyStatus": _xml("PolicyStatus", "<IsPublic>FALSE</IsPublic>"),
    "policy": '{"Version": "2012-10-17", "Statement": [{"Effect": "Deny", "Principal": "*", "Action": "s3:*", '
    '"Resource": "arn:aws:s3:::x/*", "Condition": {"StringNotLike": {"aws:Referer": "https://a.example/*"}}}]}',
    "versioning": _xml("VersioningConfiguration", "<Status>Enabled</Status><MfaDelete>Disabled</MfaDelete>"),
    "encryption": _xml(
        "ServerSideEncryptionConfiguration",
        "<Rule><ApplyServerSideEncryptionByDefault><SSEAlgorithm>aws:kms</SSEAlgorithm><KMSMasterKeyID>k</KMSMasterKeyID>"
        "</ApplyServerSideEncryptionByDefault></Rule>",
    ),
    "object-lock": _xml(
        "ObjectLockConfiguration",
        "<ObjectLockEnabled>Enabled</ObjectLockEnabled><Rule><DefaultRetention><Mode>GOVERNANCE</Mode><Days>30</Days>"
        "</DefaultRetention></Rule>",
    ),
    "tagging": _xml("Tagging", "<TagSet><Tag><Key>steward</Key><Value>hydrology</Value></Tag></TagSet>"),
    "location": _xml("LocationConstraint", "north-shore"),
    "logging": _xml(
        "BucketLoggingStatus",
        "<LoggingEnabled><TargetBucket>logs</TargetBucket><TargetPrefix>p/</TargetPrefix></LoggingEnabled>",
    ),
    "lifecycle": _xml(
        "LifecycleConfiguration",
        "<Rule><ID>r</ID><Status>Enabled</Status><Prefix>tmp/</Prefix><Expiration><Days>30</Days></Expiration></Rule>",
    ),
    "website": _xml("WebsiteConfiguration", "<IndexDocument><Suffix>index.html</Suffix></IndexDocument>"),
    "cors": _xml(
        "CORSConfiguration",
        "<CORSRule><AllowedOrigin>https://a.example</AllowedOrigin><AllowedMethod>GET</AllowedMethod></CORSRule>",
    ),
    "replication": _xml(
        "ReplicationConfiguration",
        "<Rule><Status>Enabled</Status><Destination><Bucket>arn:aws:s3:::copy</Bucket></Destination></Rule>",
    ),
    "notification": _xml(
        "NotificationConfiguration",
        "<TopicConfiguration><Topic>arn:aws:sns:x:400100200300:t</Topic></TopicConfiguration>",
    ),
    "requestPayment": _xml("RequestPaymentConfiguration", "<Payer>BucketOwner</Payer>"),
    "accelerate": _xml("AccelerateConfiguration", "<Status>Suspended</Status>"),
    "ownershipControls": _xml(
        "OwnershipControls", "<Rule><ObjectOwnership>BucketOwnerPreferred</ObjectOwnership></Rule>"
    ),
    "publicAccessBlock": _xml(
        "PublicAccessBlockConfiguration",
        "<BlockPublicAcls>true</BlockPublicAcls><IgnorePublicAcls>false</IgnorePublicAcls>"
        "<BlockPublicPolicy>true</BlockPublicPolicy><RestrictPublicBuckets>false</RestrictPublicBuckets>",
    ),
    "versions": _xml(
        "ListVersionsResult",
        "<EncodingType>url</EncodingType><IsTruncated>false</IsTruncated><Version><Key>a</Key><VersionId>v1</VersionId>"
        f"<IsLatest>true</IsLatest><LastModified>{WHEN}</LastModified><ETag>&quot;e&quot;</ETag><Size>7</Size>"
        "<StorageClass>STANDARD</StorageClass></Version>"
        f"<DeleteMarker><Key>b</Key><VersionId>v2</VersionId><IsLatest>true</IsLatest><LastModified>{WHEN}</LastModified>"
        "</DeleteMarker>",
    ),
    "uploads": _xml(
        "ListMultipartUploadsResult",
        "<EncodingType>url</EncodingType><IsTruncated>false</IsTruncated><Upload><Key>u</Key><UploadId>i</UploadId>"
        f"<Initiated>{WHEN}</Initiated></Upload>",
    ),
    "retention": _xml("Retention", f"<Mode>GOVERNANCE</Mode><RetainUntilDate>{WHEN}</RetainUntilDate>"),
    "legal-hold": _xml("LegalHold", "<Status>OFF</Status>"),
    "list-type": _xml(
        "ListBucketResult",
        "<EncodingType>url</EncodingType><IsTruncated>false</IsTruncated>"
        f"<Contents><Key>a</Key><LastModified>{WHEN}</LastModified><Size>7</Size></Contents>",
    ),
}
"""Sub-resource → a plain answer."""
OBJECT: Headers = {
    "Content-Type": b"image/jpeg",
    "Cache-Control": b"no-store",
    "Content-Disposition": b"inline",
    "Content-Encoding": b"identity",
    "ETag": b'"e"',
    "Last-Modified": b"Fri, 02 Oct 2026 06:00:00 GMT",
    "x-amz-version-id": b"v1",
    "x-amz-meta-station": b"north",
    "x-amz-server-side-encryption": b"aws:kms",
    "x-amz-server-side-encryption-aws-kms-key-id": b"k",
    "x-amz-object-lock-mode": b"GOVERNANCE",
    "x-amz-object-lock-retain-until-date": b"2027-01-01T00:00:00Z",
    "x-amz-object-lock-legal-hold": b"OFF",
    "x-amz-replication-status": b"COMPLETED",
    "x-amz-checksum-sha256": b"abc=",
}
COUNTERS: Headers = {"x-rgw-object-count": b"1", "x-rgw-bytes-used": b"7", "x-rgw-quota-bucket-objects": b"-1",
                     "x-rgw-quota-bucket-size": b"9000"}  # fmt: skip


def plain(asked: Asked, buckets: list[str]) -> Told:
    """What a healthy store of these buckets answers."""
    question = asked.question
    if question == "buckets":
        if asked.method == "HEAD":
            return Told()
        entries = "".join(f"<Bucket><Name>{b}</Name><CreationDate>{WHEN}</CreationDate></Bucket>" for b in buckets)
        inner = f"<Owner><ID>400100200300</ID></Owner><Buckets>{entries}</Buckets>"
        return Told(_xml("ListAllMyBucketsResult", inner).encode())
    if asked.bucket not in buckets:
        return Told(b"<Error><Code>NoSuchBucket</Code></Error>", 404)
    if question == "HEAD":
        return Told(headers=dict(COUNTERS))
    if question in ("HEAD object", "object"):
        return Told(headers=dict(OBJECT))
    return Told(SETTINGS[question].encode())


async def _request(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> Asked | None:
    first = await reader.readline()
    if not first:
        return None
    signed = False
    while (line := await reader.readline()) not in (b"\r\n", b""):
        signed = signed or line.lower().startswith(b"authorization:")
    method, target, _ = first.decode("latin-1").split(" ", 2)
    path, _, query = target.partition("?")
    bucket, _, key = unquote(path).lstrip("/").partition("/")
    return Asked(method, bucket, key, dict(parse_qsl(query, keep_blank_values=True)), signed, writer)


def written(told: Told, method: str) -> bytes:
    """An answer as it goes over the wire."""
    headers = {**told.headers, "Content-Length": str(len(told.body)).encode()}
    head = b"".join(name.encode() + b": " + value + b"\r\n" for name, value in headers.items())
    return b"HTTP/1.1 %d X\r\n%s\r\n" % (told.status, head) + (b"" if method == "HEAD" else told.body)


@contextmanager
def raw_store(answering: Answering) -> Iterator[str]:
    """Serve on loopback in a thread; yields the address."""

    async def talk(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with suppress(ConnectionError, asyncio.IncompleteReadError), closing(writer):
            while (asked := await _request(reader, writer)) is not None:
                told = await answering(asked)
                if told is None:
                    break
                writer.write(written(told, asked.method))
                await writer.drain()

    started, stop, address = threading.Event(), asyncio.Event(), [""]
    loops: list[asyncio.AbstractEventLoop] = []

    async def serve() -> None:
        server = await asyncio.start_server(talk, "127.0.0.1", 0, limit=1 << 20)
        loops.append(asyncio.get_running_loop())
        address[0] = f"http://127.0.0.1:{server.sockets[0].getsockname()[1]}"
        started.set()
        await stop.wait()
        server.close()

    thread = threading.Thread(target=lambda: asyncio.run(serve()), daemon=True)
    thread.start()
    started.wait()
    try:
        yield address[0]
    finally:
        loops[0].call_soon_threadsafe(stop.set)
        thread.join()
