"""What documents mean to a store's software: measured construct by construct, and held against the shipped dialect."""

from __future__ import annotations

import json
import shutil
from collections import Counter
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest
from botocore.exceptions import ClientError
from msgspec.structs import asdict, replace

from rusty_lantern.core.access.dialects.policy_as_read import as_read
from rusty_lantern.core.access.dialects.readings import READINGS, bearing, otherwise
from rusty_lantern.core.access.dialects.rewrite import MOST
from rusty_lantern.core.access.dialects.shipped import COMMON, GATEWAY, MINIO, SEAWEED
from rusty_lantern.core.access.evaluator.evaluate import decide
from rusty_lantern.core.access.evaluator.request import ANONYMOUS, Caller, Request
from rusty_lantern.core.access.policy.condition_keys import always_carried
from rusty_lantern.core.access.policy.document import parse_policy
from rusty_lantern.core.access.rules.bucket_rules import EvaluationContext, Rules, rules_of
from rusty_lantern.core.access.solver.exposure import exposures
from rusty_lantern.core.config.dialect_file import read_dialect
from rusty_lantern.core.model.dialect import Dialect, Readings
from tests import test_cache_laws as made
from tests.conftest import Lived, lantern, whole_or
from tests.dialects.constructs import ANY, KEYS, Row, rows
from tests.gateway import Gateway
from tests.test_gateway_decisions import DECK, send

BUCKET = "measured"
REFUSED = ("ForAllValues:StringNot", "ForAnyValue:StringNot", "variable in Resource", "Like ${", "LikeIfExists ${")
"""What the gateway does not take: rows whose names hold one of these."""


def text_of(row: Row) -> str:
    return json.dumps({"Version": row.version, "Statement": list(row.statements)}).replace("{bucket}", BUCKET)


def request_of(row: Row, signer: Caller = DECK) -> Request:
    caller, now = signer if row.signed else ANONYMOUS, datetime.now(UTC)
    context = always_carried(anonymous=not row.signed, arn=caller.arn) | {
        "aws:sourceip": ("127.0.0.1",),
        "aws:securetransport": ("false",),
        "aws:currenttime": (now.strftime("%Y-%m-%dT%H:%M:%SZ"),),
        "aws:epochtime": (str(int(now.timestamp())),),
    }
    context |= {f"aws:{header.lower().replace('-', '')}": (value,) for header, value in row.headers.items()}
    context |= {f"s3:{name}": (value,) for name, value in row.parameters.items()}
    context |= {"aws:principalarn": (caller.arn,)} if row.signed else {}
    return Request(row.action, row.key, caller, context)


def test_the_gateway_reads_every_construct_as_its_dialect_says(gateway: Gateway) -> None:
    keeper = gateway.client()
    keeper.create_bucket(Bucket=BUCKET)
    for key in KEYS:
        keeper.put_object(Bucket=BUCKET, Key=key, Body=b"x")
    to_change, outcome = [], Counter[str]()
    for row in rows(whole_or(3, 1)):
        text = text_of(row)
        try:
            keeper.put_bucket_policy(Bucket=BUCKET, Policy=text)
        except ClientError:
            outcome["refused"] += 1
            assert any(words in row.name for words in REFUSED), row.name
            continue
        passed = send(gateway, request_of(row), BUCKET) == 200
        policy = parse_policy(text)
        said = decide(Rules(BUCKET, as_read(policy, GATEWAY)), request_of(row)).allowed
        common = decide(Rules(BUCKET, policy), request_of(row)).allowed
        outcome["otherwise" if said is not common else "as common"] += 1
        to_change += [] if said is passed else [f"{row.name}: the gateway says {passed}, the dialect {said}"]
    keeper.delete_bucket_policy(Bucket=BUCKET)
    print(dict(outcome))
    assert not to_change, "\n".join(to_change)
    assert outcome["otherwise"] >= 70


def statement(**condition: object) -> str:
    return json.dumps({"Version": "2012-10-17", "Statement": [{**ANY, "Condition": condition}]}).replace(
        "{bucket}", BUCKET
    )


def test_a_policy_that_is_read_the_same_way_is_the_same_object() -> None:
    policy = parse_policy(statement(IpAddress={"aws:SourceIp": "198.51.100.0/24"}))
    assert as_read(policy, GATEWAY) is policy
    assert as_read(parse_policy(statement(Null={"aws:Referer": "false"})), COMMON) is not None
    assert bearing(policy, GATEWAY) == ()


@pytest.mark.parametrize("field", [field for field, *_ in otherwise(GATEWAY)])
def test_every_difference_has_words_and_a_field(field: str) -> None:
    assert field in Readings.__struct_fields__
    assert READINGS[field].construct
    assert set(READINGS) == set(Readings.__struct_fields__)


@pytest.mark.parametrize(
    ("condition", "level", "words"),
    [
        ({"NotIpAddress": {"aws:SourceIp": "10.0.0.0/8"}}, "restricted", "only from 10.0.0.0/8 (16,777,216 addresses)"),
        ({"NotIpAddressIfExists": {"aws:SourceIp": ["10.1.0.0/16", "x"]}}, "restricted", "only from 10.1.0.0/16"),
        ({"IpAddress": {"aws:SourceIp": "::/0"}}, "closed", ""),
        ({"IpAddress": {"aws:SourceIp": ["0.0.0.0/0", "::/1", "8000::/1"]}}, "closed", ""),
        ({"Null": {"aws:SourceIp": "true"}}, "open", ""),
        ({"DateGreaterThan": {"aws:CurrentTime": "2020-01-01T00:00:00Z"}}, "closed", ""),
        ({"DateGreaterThan": {"aws:CurrentTime": "2020-01-01T00:00:00+02:00"}}, "open", ""),
        ({"DateLessThan": {"aws:CurrentTime": "2555-01-01"}}, "open", ""),
    ],
)
def test_what_a_deny_leaves_open_on_a_gateway(condition: dict[str, Any], level: str, words: str) -> None:
    """By readings that are measured on the real one, above."""
    denied = {**ANY, "Effect": "Deny", "Condition": condition}
    text = json.dumps({"Version": "2012-10-17", "Statement": [ANY, denied]}).replace("{bucket}", BUCKET)
    around = EvaluationContext(datetime(2026, 11, 2, tzinfo=UTC))
    verdict = exposures(Rules(BUCKET, as_read(parse_policy(text), GATEWAY)), around)["anyone", "read"]
    assert verdict.level == level
    assert words in (verdict.restriction.words if verdict.restriction else "")


@pytest.mark.parametrize(
    ("condition", "level"),
    [
        ({"StringEquals": {"aws:username": ["deck", "tern"]}}, "restricted"),
        ({"StringLike": {"aws:username": "de*"}}, "restricted"),
        ({"StringNotEquals": {"aws:username": "deck"}}, "open"),
        ({"StringLike": {"aws:username": "*"}}, "open"),
    ],
)
def test_nobody_chooses_a_user_name_that_a_stores_administrators_give(condition: dict[str, Any], level: str) -> None:
    text = statement(**condition)
    one, moment = made.bucket(BUCKET, text, [], []), datetime(2026, 11, 2, tzinfo=UTC)
    levels = []
    for dialect in (GATEWAY, COMMON):
        dossier = replace(made.store([one], [], []), dialect=dialect)
        verdict = exposures(rules_of(one, dossier), EvaluationContext(moment))["any-account", "read"]
        levels.append(verdict.level)
        if verdict.restriction is not None:
            assert verdict.restriction.words.startswith("only for users of certain names, such as")
    assert levels == [level, "open"]


@pytest.mark.parametrize("key", ["aws:username", "aws:Referer"])
def test_a_deny_by_a_pattern_leaves_open_what_only_another_way_of_reading_it_fits(key: str) -> None:
    """`bab` fits `*ab`, and at a gateway it does not fit `*b`: the star ends at the first b."""
    allowed = {**ANY, "Condition": {"StringLike": {key: "*ab"}}}
    denied = {**ANY, "Effect": "Deny", "Condition": {"StringLike": {key: "*b"}}}
    text = json.dumps({"Version": "2012-10-17", "Statement": [allowed, denied]}).replace("{bucket}", BUCKET)
    policy, around = parse_policy(text), EvaluationContext(datetime(2026, 11, 2, tzinfo=UTC))
    there, common = (
        exposures(Rules(BUCKET, one), around)["any-account", "read"] for one in (as_read(policy, GATEWAY), policy)
    )
    assert (there.level, common.level) == ("open", "closed")


@pytest.mark.parametrize(
    ("effect", "condition", "read", "listing"),
    [
        ("Deny", {"NumericGreaterThan": {"s3:max-keys": "10"}}, "open", "open"),
        ("Deny", {"Null": {"s3:max-keys": "true"}}, "closed", "open"),
        ("Allow", {"NumericGreaterThan": {"s3:max-keys": "10"}}, "closed", "open"),
        ("Allow", {"Null": {"s3:max-keys": "true"}}, "open", "open"),  # of uploads
        ("Allow", {"Null": {"aws:username": "true"}}, "closed", "closed"),
        ("Deny", {"Null": {"aws:username": "true"}}, "open", "open"),
    ],
)
def test_what_only_some_requests_carry_on_a_gateway_is_not_taken_for_others(
    effect: str, condition: dict[str, Any], read: str, listing: str
) -> None:
    """For anyone, and for any account: a listing alone says how much it asks for, and every caller has a name."""
    everything = {**ANY, "Action": "s3:*", "Resource": [f"arn:aws:s3:::{BUCKET}", f"arn:aws:s3:::{BUCKET}/*"]}
    said = [*([everything] if effect == "Deny" else []), {**everything, "Effect": effect, "Condition": condition}]
    policy = parse_policy(json.dumps({"Version": "2012-10-17", "Statement": said}))
    around = EvaluationContext(datetime(2026, 11, 2, tzinfo=UTC))
    verdicts = exposures(Rules(BUCKET, as_read(policy, GATEWAY)), around)
    for audience in ("anyone", "any-account"):
        assert (verdicts[audience, "read"].level, verdicts[audience, "list"].level) == (read, listing), audience


@pytest.mark.parametrize("written", ["2099-01-01T00:00:00", "2027", "20990101", "2099-W01-1", "2099-01-01 00:00:00Z"])
def test_a_moment_without_its_zone_or_in_another_form_has_no_agreed_meaning(written: str) -> None:
    text = statement(DateLessThan={"aws:CurrentTime": written})
    around = EvaluationContext(datetime(2026, 11, 2, tzinfo=UTC))
    assert exposures(Rules(BUCKET, parse_policy(text)), around)["anyone", "read"].level == (
        "closed" if written == "20990101" else "unknown"  # so many digits are seconds since 1970
    )


def test_only_the_keys_that_a_policy_uses_are_named() -> None:
    policy = parse_policy(statement(StringEquals={"aws:PrincipalAccount": "400100200300"}))
    [sentence] = bearing(policy, GATEWAY)
    assert sentence == "some keys (aws:principalaccount): are carried by no request"


def test_what_stands_for_too_many_statements_is_in_doubt() -> None:
    names = [f"StringNotEquals{'IfExists' * n}" for n in (0, 1)]
    several = {name: {key: ["a", "b", "c", "d"] for key in ("aws:Referer", "aws:UserAgent")} for name in names}
    policy = as_read(parse_policy(statement(**several)), GATEWAY)
    assert len(policy.statements) <= MOST
    assert policy.faults
    request = Request("s3:GetObject", "pub/x", ANONYMOUS, {"aws:sourceip": ("198.51.100.9",)})
    assert decide(Rules(BUCKET, policy), request).allowed is None


def test_a_variable_that_the_store_fills_in_itself_is_in_doubt() -> None:
    policy = parse_policy(statement(StringEquals={"aws:PrincipalType": "${aws:username}"}))
    request = Request("s3:GetObject", "pub/x", ANONYMOUS, {"aws:sourceip": ("198.51.100.9",)})
    assert decide(Rules(BUCKET, as_read(policy, GATEWAY)), request).allowed is None


def test_a_release_counts_by_its_beginning() -> None:
    assert GATEWAY.was_measured_on("16.2.15")
    assert not GATEWAY.was_measured_on("18.2.0")
    assert Dialect("x", "x", ("3",)).was_measured_on("3")


def test_the_demo_shows_a_bucket_and_its_look_alike(lived: Lived) -> None:
    rows = {row["bucket"]: row for row in json.loads(lived.run("exposure", "--json").out)["buckets"]}
    lists, posters = (rows[name]["read_otherwise"][0] for name in ("ferry-lists", "ferry-posters"))
    assert (lists["dialect"], lists["of_store"], lists["changes"]["anyone.read"]) == (
        "gateway-16",
        True,
        ["open", "closed"],
    )
    assert posters["changes"]["anyone.read"] == ["closed", "open"]
    assert not rows["partner-feed"]["read_otherwise"][0]["of_store"], "nobody knows what answers for harbour"
    told = lived.run("exposure", "skerry/ferry-lists").out
    assert "this store reads its policy in its own way" in told
    assert "NotAction: matches nothing" in told
    assert "the common reading agrees" in " ".join(lived.run("remedy", "skerry/ferry-lists").out.split())
    facts = {f["fact"]: f for f in json.loads(lived.run("show", "skerry/ferry-lists", "--json").out)["facts"]}
    assert facts["policy.portable"]["value"] == "off"


def level(lived: Lived, bucket: str, dialect: str) -> str:
    told = json.loads(lived.run("try", "--bucket", bucket, "--as-on", dialect, "--json").out)
    return str(told["exposure"]["anyone"]["read"]["verdict"])


def test_a_bucket_is_tried_on_other_software(lived: Lived, tmp_path: Path) -> None:
    lived = Lived(Path(shutil.copytree(lived.folder, tmp_path / "ws")), "")
    folder = lived.folder / "dialects"
    folder.mkdir()
    (folder / "marsh-9.yaml").write_text(
        "dialect: marsh-9\ntitle: the marsh store\nreadings: {not-action-matches-nothing: on}\n"
    )
    assert level(lived, "skerry/ferry-lists", "common") == "closed"
    assert level(lived, "skerry/ferry-lists", "marsh-9") == "open"
    assert level(lived, "skerry/ferry-posters", "common") == "open"
    assert level(lived, "skerry/ferry-posters", "marsh-9") == "closed"
    wrong = lived.run("try", "--bucket", "skerry/ferry-lists", "--as-on", "gatway-16")
    assert wrong.code == 2
    assert "gateway-16" in wrong.err
    (folder / "marsh-10.yaml").write_text("dialect: marsh-10\nreadings: {not-action: on}\n")
    wrong = lived.run("try", "--bucket", "skerry/ferry-lists", "--as-on", "marsh-10")
    assert wrong.code == 2
    assert "dialects/marsh-10.yaml:2:" in wrong.err


@pytest.mark.parametrize("dialect", [GATEWAY, SEAWEED, MINIO], ids=lambda one: one.dialect)
def test_every_dialect_that_ships_could_be_written_in_a_file(dialect: Dialect) -> None:
    def written(field: str, value: Any) -> Any:
        if isinstance(value, tuple) and isinstance(value[0], tuple):
            return {key: int(other) if field == "usual_and_most" else other for key, other in value}
        return "on" if value is True else value

    readings = {
        name.replace("_", "-"): written(name, value) for name, value in asdict(dialect.readings).items() if value
    }
    document = {"dialect": dialect.dialect, "title": dialect.title, "measured-on": dialect.measured_on}
    read = read_dialect(json.dumps({**document, "readings": readings}), "dialects/one.yaml")
    assert read == dialect


def test_a_variable_that_nobody_has_a_value_of_fits_nothing_where_nobody_has_a_name() -> None:
    """Not even an empty value."""
    policy = parse_policy(statement(StringEquals={"aws:Referer": "${aws:username}"}).replace("{bucket}", BUCKET))
    context = always_carried(anonymous=True) | {"aws:referer": ("",)}
    for name in ("", "anonymous"):
        dialect = Dialect("marsh-9", "", (), Readings(variables_are_whole_values=True, name_of_nobody=name))
        rules = Rules(BUCKET, as_read(policy, dialect))
        assert decide(rules, Request("s3:GetObject", "k", ANONYMOUS, context)).allowed is False, name
        called = context | {"aws:referer": ("anonymous",)}
        assert decide(rules, Request("s3:GetObject", "k", ANONYMOUS, called)).allowed is bool(name)


def test_a_dialect_that_is_not_there_is_told_before_anything_is_asked(tmp_path: Path) -> None:
    (tmp_path / "estate.yaml").write_text(
        "estate: t\nstores:\n  harbour:\n    at: https://objects.example\n    credential: chain\n    dialect: nope\n"
    )
    ran = lantern("survey", cwd=tmp_path)
    assert ran.code == 2
    assert 'no dialect "nope"' in ran.err


def test_a_proposed_policy_tells_of_a_key_in_other_letters(lived: Lived, tmp_path: Path) -> None:
    """A restriction that this store does not see, and perhaps another's software."""
    for bucket, level, words in (
        ("skerry/ferry-posters", "open", "read for anyone and any-account: restricted by the common reading"),
        ("harbour/gallery-web", "restricted", "open where software reads it as gateway-16 does"),
    ):
        name = bucket.partition("/")[2]
        arn = f"arn:aws:s3:::{name}"
        statements = [{"Effect": "Allow", "Principal": "*", "Action": "s3:GetObject", "Resource": f"{arn}/*"},
                      {"Effect": "Deny", "Principal": "*", "Action": "s3:*", "Resource": [arn, f"{arn}/*"],
                       "Condition": {"NotIpAddress": {"aws:SourceIP": "10.20.0.0/16"}}}]  # fmt: skip
        (tmp_path / "new.json").write_text(json.dumps({"Version": "2012-10-17", "Statement": statements}))
        ran = lived.run("try", "--bucket", bucket, "--policy", str(tmp_path / "new.json"), "--json")
        told = json.loads(ran.out)
        assert told["exposure"]["anyone"]["read"]["verdict"] == level
        other = next(one for one in told["read_otherwise"] if one["dialect"] == "gateway-16")
        assert any("aws:SourceIP" in why for why in other["because"])
        shown = lived.run("try", "--bucket", bucket, "--policy", str(tmp_path / "new.json")).out
        assert words in shown
        assert "a condition key in other letters than published (aws:SourceIP)" in shown
