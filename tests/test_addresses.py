"""All of a store's addresses: what one node shows, or takes, is there for whoever is sent to that node."""

from __future__ import annotations

import json
import shutil
import socket
from datetime import timedelta
from pathlib import Path
from typing import Any

import msgspec
import pytest

from rusty_lantern.archive.workspace import make
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.audit.overview import deadlines
from rusty_lantern.core.audit.store_subject import store_subjects
from rusty_lantern.core.model.resources import Certificate, ShownCertificate
from rusty_lantern.simulator.demo import harbour as saltmarsh
from rusty_lantern.simulator.demo.lagoon import ACCOUNT, USERS, lagoon
from rusty_lantern.simulator.s3_server import Standin
from rusty_lantern.simulator.serve import serve
from rusty_lantern.simulator.swift_server import SwiftDoor
from tests.conftest import estate_for, lantern
from tests.gateway import empty_mock_server
from tests.test_tls import certificate, secured

DAY = 86_400
DENIED: Answer[Any] = Answer("failed", None, "no certificate was shown")
PLAIN: Answer[Any] = Answer("unsupported", None, "the store is not spoken to over TLS")


def shown(days: int, verdict: Any = "trusted") -> Answer[Certificate]:
    begins = saltmarsh.MOMENT - timedelta(100)
    return Answer("known", Certificate(["o.example"], "CN=x", begins, saltmarsh.MOMENT + timedelta(days), verdict))


def facts(main: Answer[Certificate], *nodes: Answer[Certificate]) -> tuple[Any, Any, str]:
    """The verdict and the days that are left, and why the verdict is not known."""
    others = [ShownCertificate(f"https://node-{n}.example", one) for n, one in enumerate(nodes, 1)]
    made = msgspec.structs.replace(saltmarsh.harbour().dossier, certificate=main, other_certificates=others)
    (store,) = store_subjects([made], None, saltmarsh.MOMENT)
    subject = next(one for one in store.subjects() if one.kind == "store")
    verdict, left = subject.fact("store.certificate"), subject.fact("store.certificate-expires-in")
    days = left.value // DAY if isinstance(left.value, int) else left.state
    return verdict.value, days, verdict.reason or verdict.note


@pytest.mark.parametrize(("main", "nodes", "told"), [
    (shown(90), [], ("trusted", 90, "")),
    (shown(90), [shown(80), shown(70)], ("trusted", 70, "")),
    (shown(90), [shown(80), shown(-1, "expired")], ("expired", "absent", "at https://node-2.example")),
    (shown(90), [shown(5, "self-signed"), shown(70)], ("self-signed", 5, "at https://node-1.example")),
    (shown(90), [DENIED], (None, "failed", "the certificate at https://node-1.example: no certificate was shown")),
    (shown(90), [DENIED, shown(-1, "expired")], ("expired", "absent", "at https://node-2.example")),
    (DENIED, [], (None, "failed", "no certificate was shown")),
    (PLAIN, [], (None, "unsupported", "not offered by this store: the store is not spoken to over TLS")),
    (PLAIN, [shown(9)], ("trusted", 9, "")),  # its doors alone are
])  # fmt: skip
def test_a_store_is_as_trusted_as_the_worst_of_its_addresses(
    main: Answer[Certificate], nodes: list[Answer[Certificate]], told: tuple[Any, Any, str]
) -> None:
    assert facts(main, *nodes) == told


def test_a_deadline_says_at_which_address_a_certificate_ends() -> None:
    others = [ShownCertificate("https://node.example", shown(9)), ShownCertificate("https://far.example", shown(90))]
    made = msgspec.structs.replace(saltmarsh.harbour().dossier, certificate=shown(20), other_certificates=others)
    (store,) = store_subjects([made], None, saltmarsh.MOMENT)
    ending = [one for one in deadlines([store], [], saltmarsh.MOMENT) if one.kind == "certificate"]
    assert sorted(((one.when - saltmarsh.MOMENT).days, one.affects) for one in ending) == [
        (9, "every client that checks it, at https://node.example"), (20, "every client that checks it"),
    ]  # fmt: skip


BASELINE = """title: t
sheets:
- sheet: stores
  require:
    store.certificate: trusted
    store.certificate-expires-in: at least 30 days
    store.plain-http: off
"""


def audited(folder: Path) -> dict[str, tuple[str, str]]:
    """Fact → its status, and what was observed or why that is unknown."""
    assert lantern("survey", cwd=folder).code in (0, 3)
    (folder / "baseline.yaml").write_text(BASELINE)
    result = json.loads(lantern("audit", "--json", cwd=folder).out)
    drift = {row["fact"]: ("drift", row["observed"]) for row in result["drift"]}
    return drift | {row["fact"]: ("unknown", row["reason"]) for row in result["unknown"]}


def at_two_addresses(folder: Path, *, ended: bool) -> dict[str, tuple[str, str]]:
    """A store whose node shows a certificate of its own; whether that has ended."""
    (folder / "node").mkdir()
    main, node = certificate(folder, "127.0.0.1"), certificate(folder / "node", "127.0.0.1", ended=ended, called="node")
    (folder / "bundle.pem").write_bytes(main[0].read_bytes() + node[0].read_bytes())
    stores = [Standin(saltmarsh.harbour(), saltmarsh.MOMENT).application() for _ in range(2)]
    with secured(stores[0], *main) as address, secured(stores[1], *node) as second:
        made = estate_for(folder / "ws", address, "    ca: ../bundle.pem\n")
        estate = (made / "estate.yaml").read_text()
        (made / "estate.yaml").write_text(estate.replace(f"at: {address}", f"at: [{second}, {address}]", 1))
        return audited(made)


def test_the_certificate_of_a_node_counts(tmp_path: Path) -> None:
    for ended, told in (
        (False, {}),
        (True, {"store.certificate": ("drift", "expired"), "store.certificate-expires-in": ("drift", "absent")}),
    ):
        folder = tmp_path / str(ended)
        folder.mkdir()
        assert at_two_addresses(folder, ended=ended) == told


@pytest.mark.parametrize("vouched", [True, False])
def test_the_certificate_of_a_swift_store_is_looked_at(tmp_path: Path, vouched: bool) -> None:
    """The protocol has no such question: the handshake is looked at for every store."""
    main = certificate(tmp_path, "127.0.0.1")
    with secured(SwiftDoor(lagoon(saltmarsh.MOMENT), saltmarsh.MOMENT, USERS, ACCOUNT).application(), *main) as at:
        folder, user, key = tmp_path / "ws", *next(iter(USERS.items()))
        estate = f"estate: t\nstores:\n  lagoon:\n    reads: swift\n    at: {at}{ACCOUNT}\n"
        estate += "    credential: {file: key.ini}\n" + "    ca: ../cert.pem\n" * vouched
        written = {"estate.yaml": (estate, 0o644), "baseline.yaml": (BASELINE, 0o644)}
        make(folder, written | {"key.ini": (f"[default]\nuser={user}\nkey={key.key}\n", 0o600)})
        assert audited(folder) == ({} if vouched else {"store.certificate": ("drift", "self-signed")})


def test_a_node_that_answers_plain_http_counts(tmp_path: Path) -> None:
    """The main address answers TLS alone. Of a node that says nothing, it is not known."""
    main = certificate(tmp_path, "127.0.0.1")
    stores = [Standin(saltmarsh.harbour(), saltmarsh.MOMENT).application() for _ in range(2)]
    with secured(stores[0], *main) as address, serve(stores[1]) as node, socket.socket() as silent:
        silent.bind(("127.0.0.1", 0))
        silent.listen()
        made = estate_for(tmp_path / "ws", address, f"    ca: {main[0]}\n    timeout: 1\n")
        estate = (made / "estate.yaml").read_text()
        told = []
        for nodes in ("", f"{node}, ", f"https://127.0.0.1:{silent.getsockname()[1]}, "):
            (made / "estate.yaml").write_text(estate.replace(f"at: {address}", f"at: [{nodes}{address}]", 1))
            told.append(audited(made).get("store.plain-http"))
            shutil.rmtree(made / "surveys")
        reached = lantern("reach", cwd=made).out
    assert told[:2] == [None, ("drift", "on")]
    assert (
        told[2] is not None
        and told[2][0] == "unknown"
        and told[2][1].endswith(": no certificate was shown: no answer within 1 s")
    ), told
    assert "plain http  unknown: at https://127.0.0.1:" in reached


def test_a_node_that_takes_legacy_signatures_counts(tmp_path: Path) -> None:
    """The node is a server that we did not write, which takes them."""
    with serve(Standin(saltmarsh.harbour(), saltmarsh.MOMENT).application()) as address, empty_mock_server() as node:
        made = estate_for(tmp_path / "ws", address)
        estate = (made / "estate.yaml").read_text()
        told = []
        for nodes in (address, f"[{node}, {address}]"):
            (made / "estate.yaml").write_text(estate.replace(f"at: {address}", f"at: {nodes}", 1))
            (made / "baseline.yaml").write_text(
                "title: t\nsheets: [{sheet: s, require: {store.legacy-signatures: off}}]\n"
            )
            assert lantern("survey", cwd=made).code in (0, 3)
            result = json.loads(lantern("audit", "--json", cwd=made).out)
            told.append([row["remedy"] for row in result["drift"]])
            shutil.rmtree(made / "surveys")
        reached = lantern("reach", cwd=made).out
    assert told == [[], [f"refuse signatures of the first generation (at {node})"]]
    assert f"signatures those of the first generation are accepted as well, at {node}" in " ".join(reached.split())
