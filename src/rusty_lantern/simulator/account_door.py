"""The account door of a simulated store: the access points of its buckets, with their policies and guards."""

from __future__ import annotations

from collections.abc import Iterator
from urllib.parse import unquote

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.access_point import AccessPoint
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.remediation.s3_documents import document, element, guards_document

ROOT = "/v20180820/"
"""What each of its paths begins with."""
POINTS, OF_SEVERAL_REGIONS = f"{ROOT}accesspoint", f"{ROOT}mrap/instances"


def answer_about_account(path: str, buckets: list[Bucket]) -> tuple[int, bytes]:
    """The status and the document for a question about access points."""
    if path == OF_SEVERAL_REGIONS:
        return 200, document("ListMultiRegionAccessPointsResult", element("AccessPoints", ""))
    if path == POINTS:
        listed = "".join(_listed(bucket, point) for bucket, point in _points(buckets))
        return 200, document("ListAccessPointsResult", f"<AccessPointList>{listed}</AccessPointList>")
    name, _, what = path.removeprefix(f"{POINTS}/").partition("/")
    point = next((point for _, point in _points(buckets) if point.name == unquote(name)), None)
    if point is None:
        return _none("NoSuchAccessPoint")
    if what == "policy":
        policy: Answer[str] = point.policy
        if policy.value is None:
            return _none("NoSuchAccessPointPolicy")
        return 200, document("GetAccessPointPolicyResult", element("Policy", policy.value))
    guards = point.public_access_guards.value
    written = guards_document(guards).decode().partition("?>")[2] if guards else ""
    return 200, document("GetAccessPointResult", element("Name", point.name) + written)


def _points(buckets: list[Bucket]) -> Iterator[tuple[Bucket, AccessPoint]]:
    for bucket in buckets:
        for point in bucket.access_points.value or ():
            yield bucket, point


def _listed(bucket: Bucket, point: AccessPoint) -> str:
    inner = element("Name", point.name) + element("NetworkOrigin", point.origin) + element("Bucket", bucket.name)
    inner += f"<VpcConfiguration>{element('VpcId', point.vpc)}</VpcConfiguration>" if point.vpc else ""
    return f"<AccessPoint>{inner}{element('AccessPointArn', point.arn)}</AccessPoint>"


def _none(code: str) -> tuple[int, bytes]:
    return 404, document("ErrorResponse", f"<Error>{element('Code', code)}</Error>")
