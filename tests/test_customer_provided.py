"""Whether an upload may bring an encryption key of its own: by the bucket's setting, and by its policy."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import msgspec
import pytest

from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.bucket_subject import BucketSubject
from rusty_lantern.core.model.bucket import Bucket, Encryption
from rusty_lantern.core.model.dossier import Dossier
from rusty_lantern.stores.http.reply import Reply
from rusty_lantern.stores.s3.setting_answers import read_answer
from rusty_lantern.stores.s3.settings import QUESTIONS
from tests.conftest import lantern
from tests.gateway import Gateway, send_to, takes_policy
from tests.own_keys import ALGORITHM, ASKED, OWN_KEY, denies_uploads
from tests.real_store import workspace_for
from tests.test_decoders import NOW

REFUSES, SPARES = (denies_uploads("b", {"Null": {ALGORITHM: how}}) for how in ("false", "true"))
NONE: Answer[Any] = Answer("absent")
DENIED: Answer[Any] = Answer("denied", None, "AccessDenied")
UNSUPPORTED: Answer[Any] = Answer("unsupported")
DEFAULT = "<ApplyServerSideEncryptionByDefault><SSEAlgorithm>AES256</SSEAlgorithm></ApplyServerSideEncryptionByDefault>"
SETTINGS = {
    DEFAULT: False,
    f"{DEFAULT}<BlockedEncryptionTypes><EncryptionType>SSE-C</EncryptionType></BlockedEncryptionTypes>": True,
    f"{DEFAULT}<BlockedEncryptionTypes><EncryptionType>NONE</EncryptionType></BlockedEncryptionTypes>": False,
    f"{DEFAULT}<BlockedEncryptionTypes><EncryptionType>SSE-D</EncryptionType>"
    "<EncryptionType>SSE-C</EncryptionType></BlockedEncryptionTypes>": True,
    f"{DEFAULT}<BlockedEncryptionTypes/>": False,
}
"""A rule of the encryption setting, as the published API has it → whether it refuses such keys."""


@pytest.mark.parametrize("rule", SETTINGS)
def test_the_encryption_setting_may_refuse_keys_of_customers(rule: str) -> None:
    question = next(one for one in QUESTIONS if one.field == "encryption")
    body = f"<ServerSideEncryptionConfiguration><Rule>{rule}</Rule></ServerSideEncryptionConfiguration>"
    answer = read_answer(question, Reply(200, {}, body.encode()), "GET /b?encryption", NOW)
    assert answer.value is not None and answer.value.customer_provided_refused is SETTINGS[rule]


def setting(*, refuses: bool) -> Answer[Any]:
    return Answer("known", Encryption("provider-managed", "AES256", customer_provided_refused=refuses))


@pytest.mark.parametrize(
    ("policy", "encryption", "expected"),
    [
        (Answer("known", REFUSES), NONE, ("known", "refused")),
        (Answer("known", REFUSES), DENIED, ("known", "refused")),
        (Answer("known", SPARES), setting(refuses=True), ("known", "refused")),
        (DENIED, setting(refuses=True), ("known", "refused")),
        (Answer("known", SPARES), setting(refuses=False), ("known", "allowed")),
        (Answer("known", SPARES), UNSUPPORTED, ("known", "allowed")),
        (NONE, NONE, ("known", "allowed")),
        (NONE, DENIED, ("denied", None)),
        (Answer("known", SPARES), DENIED, ("denied", None)),
        (DENIED, NONE, ("failed", None)),
        (DENIED, DENIED, ("failed", None)),
        (Answer("failed", None, "timed out"), setting(refuses=False), ("failed", None)),
        (UNSUPPORTED, NONE, ("unsupported", None)),
    ],
)
def test_what_was_not_read_settles_it_only_where_the_rest_refuses(
    policy: Answer[Any], encryption: Answer[Any], expected: tuple[str, object]
) -> None:
    bucket = msgspec.structs.replace(Bucket(name="b"), policy=policy, encryption=encryption, acl=NONE)
    fact = BucketSubject(bucket, Dossier(store="s", taken=NOW, buckets=[bucket]), NOW).fact(
        "encryption.customer-provided"
    )
    assert (fact.state, fact.value) == expected


@pytest.mark.parametrize(("software", "value"), [(NONE, "refused"), (DENIED, None)])
def test_what_a_policy_refuses_is_unknown_where_it_could_not_be_read_what_answers(software: Any, value: Any) -> None:
    bucket = msgspec.structs.replace(Bucket(name="b"), policy=Answer("known", REFUSES), encryption=NONE, acl=NONE)
    store = Dossier(store="s", taken=NOW, buckets=[bucket], software=software)
    assert BucketSubject(bucket, store, NOW).fact("encryption.customer-provided").value == value


def test_what_a_gateway_refuses_is_what_the_program_says(gateway: Gateway, tmp_path: Path) -> None:
    """It looks at whether encryption is asked for, and never at the algorithm of a key that is brought."""
    conditions = {"ck-none": None, "ck-algorithm": {"StringEquals": {ALGORITHM: "AES256"}},
                  "ck-asked": {"Null": {ASKED: "true"}}}  # fmt: skip
    passed = {}
    for name, condition in conditions.items():
        gateway.client().create_bucket(Bucket=name)
        if condition is not None:
            assert takes_policy(gateway.client(), name, denies_uploads(name, condition))
        passed[name] = send_to(gateway.address, gateway.keeper, "PUT", f"/{name}/k", "", OWN_KEY, b"1")[0] == 200
    folder = workspace_for(tmp_path / "w", gateway.address, gateway.keeper)
    assert lantern("survey", cwd=folder).code in (0, 3)
    said = {}
    for name in conditions:
        facts = json.loads(lantern("show", f"real/{name}", "--json", cwd=folder).out)["facts"]
        said[name] = next(one["value"] for one in facts if one["fact"] == "encryption.customer-provided")
    assert passed == {"ck-none": True, "ck-algorithm": True, "ck-asked": False}
    assert said == {name: "allowed" if lets else "refused" for name, lets in passed.items()}
