"""Surveys that are signed and anchored: every way to alter an archive that docs/security.md names is told apart."""

from __future__ import annotations

import json
import re
import shutil
from datetime import timedelta
from pathlib import Path

import msgspec
import pytest

from rusty_lantern.archive.chain import PRUNED, against, anchor_of, history, integrity
from rusty_lantern.archive.pruning import prune
from rusty_lantern.archive.signing import Signer, new_key, public_path, read_public, read_signature
from rusty_lantern.archive.surveys import MANIFEST, names, save
from rusty_lantern.core.config.estate import Credential
from rusty_lantern.core.errors import BadInput
from rusty_lantern.simulator.demo import harbour as saltmarsh
from tests.conftest import Whole, lantern

SMALL = msgspec.structs.replace(saltmarsh.harbour().dossier, buckets=saltmarsh.harbour().dossier.buckets[:2])


@pytest.fixture(scope="module")
def signer(tmp_path_factory: pytest.TempPathFactory) -> Signer:
    from rusty_lantern.archive.signing import find_signer

    path = tmp_path_factory.mktemp("keys") / "team.pem"
    new_key(path)
    found = find_signer(Credential("signing-key", f"file:{path}"), Path())
    assert found is not None
    return found


@pytest.fixture
def archive(tmp_path: Path, signer: Signer) -> Path:
    """Five signed surveys, a day apart."""
    folder = tmp_path / "surveys"
    for day in range(5):
        save(folder, "x", saltmarsh.MOMENT + timedelta(days=day), [SMALL], signer=signer)
    return folder


def wrongs(archive: Path, signer: Signer, anchor: str = "") -> list[str]:
    """Everything that is wrong, survey by survey and as a whole."""
    kept = history(archive, verify=True, signer=signer.public)
    return [one.wrong for one in kept if one.wrong] + integrity(archive, kept, signer.public, anchor).wrong


def rewrite_chain(archive: Path, signer: Signer | None) -> None:
    """Write every survey anew, hashes and chain and all, as somebody with the key (or without) could."""
    import hashlib

    before = None
    for name in names(archive):
        path = archive / name / MANIFEST
        told = json.loads(path.read_bytes())
        store = archive / name / "stores" / "harbour.json"
        store.write_bytes(store.read_bytes().replace(b"payroll-drop", b"payroll-dr0p"))
        told["files"]["stores/harbour.json"] = hashlib.sha256(store.read_bytes()).hexdigest()
        told["previous"] = before
        path.write_text(json.dumps(told))
        if signer is not None:
            (archive / name / f"{MANIFEST}.sig").write_bytes(signer.sign(f"survey {name}", path.read_bytes()))
        before = hashlib.sha256(path.read_bytes()).hexdigest()


def test_what_was_written_verifies_and_says_whose_it_is(archive: Path, signer: Signer) -> None:
    kept = history(archive, verify=True, signer=signer.public)
    assert wrongs(archive, signer, anchor_of(archive, kept)) == []
    assert {one.signed for one in kept} == {signer.public.fingerprint}


def test_an_altered_file_is_told(archive: Path, signer: Signer) -> None:
    store = archive / names(archive)[1] / "stores" / "harbour.json"
    store.write_bytes(store.read_bytes() + b" ")
    assert "not what the survey wrote" in wrongs(archive, signer)[0]


def test_a_chain_that_was_rewritten_without_the_key_is_told(archive: Path, signer: Signer) -> None:
    rewrite_chain(archive, None)
    unsigned = history(archive, verify=True)
    assert not any(one.wrong for one in unsigned)  # hashes alone cannot show it
    assert wrongs(archive, signer) == ["its signature is not of this survey"] * 5


def test_an_archive_without_any_signature_is_told_where_a_signer_is_named(archive: Path, signer: Signer) -> None:
    rewrite_chain(archive, None)
    for name in names(archive):
        (archive / name / f"{MANIFEST}.sig").unlink()
    assert wrongs(archive, signer) == ["no survey here is signed: anybody may have written them all"]
    save(archive, "x", saltmarsh.MOMENT + timedelta(days=9), [SMALL], signer=signer)
    assert wrongs(archive, signer) == []  # what is signed now vouches for what it follows, by its hash


def test_a_chain_that_was_rewritten_with_the_key_is_told_by_an_anchor_alone(archive: Path, signer: Signer) -> None:
    line = anchor_of(archive, history(archive, verify=False))
    rewrite_chain(archive, signer)
    assert wrongs(archive, signer) == []
    assert "was written anew" in wrongs(archive, signer, line)[0]


def test_a_missing_newest_survey_is_told(archive: Path, signer: Signer) -> None:
    line = anchor_of(archive, history(archive, verify=False))
    gone = names(archive)[-1]
    shutil.rmtree(archive / gone)
    assert wrongs(archive, signer)[0].startswith(f"the newest survey is missing: {gone}")
    (archive / "head.json").unlink()  # whoever hides that as well is found out by the anchor
    assert wrongs(archive, signer) == []
    assert f"{gone}, is not here and was not pruned" in wrongs(archive, signer, line)[0]


def test_a_gap_in_the_middle_is_told_and_a_pruned_stretch_is_none(archive: Path, signer: Signer) -> None:
    line = anchor_of(archive, history(archive, verify=False))
    prune(archive, names(archive)[1:3], "weekly", signer)
    kept = history(archive, verify=True, signer=signer.public)
    assert wrongs(archive, signer, line) == [] and [one.pruned_before for one in kept] == [0, 2, 0]
    shutil.rmtree(archive / names(archive)[1])
    found = wrongs(archive, signer)
    assert len(found) == 1 and found[0].startswith("a gap: the survey that it followed")


def test_two_chains_are_told_apart_from_a_gap(archive: Path, signer: Signer) -> None:
    first, third = names(archive)[0], archive / names(archive)[2] / MANIFEST
    told = json.loads(third.read_bytes())
    told["previous"] = json.loads((archive / names(archive)[1] / MANIFEST).read_bytes())["previous"]
    third.write_text(json.dumps(told))
    (third.parent / f"{MANIFEST}.sig").write_bytes(signer.sign(f"survey {third.parent.name}", third.read_bytes()))
    found = wrongs(archive, signer)
    assert found[0] == f"two chains: it follows {first}, as {names(archive)[1]} does"
    told["previous"] = None
    third.write_text(json.dumps(told))
    (third.parent / f"{MANIFEST}.sig").write_bytes(signer.sign(f"survey {third.parent.name}", third.read_bytes()))
    assert wrongs(archive, signer)[0] == "two chains: it follows none, and there are earlier ones"


def test_a_signature_that_is_missing_moved_or_of_another_key_is_told(
    archive: Path, signer: Signer, tmp_path: Path
) -> None:
    one, other = names(archive)[2], names(archive)[3]
    shutil.copy(archive / one / f"{MANIFEST}.sig", archive / other / f"{MANIFEST}.sig")
    (archive / one / f"{MANIFEST}.sig").unlink()
    assert wrongs(archive, signer) == [
        "not signed, though an earlier survey is",
        "its signature is not of this survey",
    ]
    new_key(tmp_path / "other.pem")
    stranger = read_public(public_path(tmp_path / "other.pem"))
    found = [one.wrong for one in history(archive, verify=True, signer=stranger)]
    assert found[0] == f"signed by another key: {signer.public.fingerprint}"
    (archive / one / f"{MANIFEST}.sig").write_text("{}")
    assert "the signature cannot be read" in wrongs(archive, signer)[0]


def test_a_pruning_record_that_somebody_else_wrote_is_told(archive: Path, signer: Signer) -> None:
    prune(archive, names(archive)[1:2], "weekly", signer)
    path = archive / PRUNED
    path.write_bytes(path.read_bytes().replace(b"weekly", b"yearly"))
    assert wrongs(archive, signer) == [f"{PRUNED} is not as it was signed"]
    (archive / f"{PRUNED}.sig").unlink()
    assert wrongs(archive, signer) == [f"{PRUNED} is not signed: anybody may have written that surveys were pruned"]


def test_an_anchor_counts_what_was_put_in_beside(archive: Path, signer: Signer) -> None:
    line = anchor_of(archive, history(archive, verify=False))
    save(archive, "x", saltmarsh.MOMENT + timedelta(hours=5), [SMALL], signer=signer)
    assert "the anchor counts 5 surveys" in against(archive, history(archive, verify=False), line)
    with pytest.raises(BadInput, match="no anchor"):
        against(archive, [], "nothing of the kind")


def test_the_installed_program_makes_a_key_signs_verifies_and_anchors(whole: Whole, tmp_path: Path) -> None:
    folder = Path(shutil.copytree(whole.folder, tmp_path / "ws"))
    key = tmp_path / "keys" / "team.pem"
    made = lantern("init", "--signing-key", str(key), cwd=tmp_path)
    assert made.code == 0 and f"sign: {{key: file:{key}}}" in made.out
    assert key.stat().st_mode & 0o777 == 0o600
    again = lantern("init", "--signing-key", str(key), cwd=tmp_path)
    assert again.code != 0 and "is there already" in again.err
    estate = folder / "estate.yaml"
    estate.write_text(estate.read_text() + f"sign: {{key: file:{key}}}\n")
    assert lantern("survey", "--only", "undercroft/*", "--as-of", "2026-11-03", cwd=folder).code == 0
    assert read_signature(folder / "surveys" / "20261103T000000Z" / f"{MANIFEST}.sig")
    public = str(public_path(key))
    ended = lantern("history", "--verify", "--signer", public, cwd=folder, COLUMNS="200")
    assert ended.code == 0 and "verified, signed" in ended.out and "verified, not signed" in ended.out
    line = lantern("history", "--anchor", cwd=folder).out.strip()
    assert len(line) < 120 and len(line.splitlines()) == 1
    told = json.loads(lantern("history", "--verify", "--against", line, "--json", cwd=folder).out)
    assert told["anchored"] is True
    store = folder / "surveys" / "20261103T000000Z" / "stores" / "undercroft.json"
    store.write_bytes(store.read_bytes() + b" ")
    assert lantern("history", "--verify", "--signer", public, cwd=folder).code == 4


@pytest.mark.parametrize(
    ("sign", "words"),
    [
        ("{key: file:nowhere.pem}", "cannot be read"),
        ("{key: env:NO_SUCH_KEY}", "no private key in PEM form"),
        ("{key: MC4CAQAwBQYDK2VwBCIEIA}", "is named here, never written"),
        ("{file: x}", "unknown"),
    ],
)
def test_mistakes_about_the_key_are_told_before_anything_is_asked(
    sign: str, words: str, whole: Whole, tmp_path: Path
) -> None:
    folder = Path(shutil.copytree(whole.folder, tmp_path / "ws"))
    (folder / "estate.yaml").write_text((folder / "estate.yaml").read_text() + f"sign: {sign}\n")
    before = len(whole.served.harbour.requests)
    ended = lantern("survey", cwd=folder)
    assert ended.code == 2 and words in ended.err and "estate.yaml" in ended.err
    assert len(whole.served.harbour.requests) == before


def test_a_private_key_never_reaches_the_workspace(whole: Whole, tmp_path: Path) -> None:
    folder = Path(shutil.copytree(whole.folder, tmp_path / "ws"))
    new_key(tmp_path / "team.pem")
    secret = (tmp_path / "team.pem").read_text().splitlines()[1]
    (folder / "estate.yaml").write_text((folder / "estate.yaml").read_text() + "sign: {key: env:TEAM_KEY}\n")
    ended = lantern("survey", "--only", "undercroft/*", "--as-of", "2026-11-03", cwd=folder,
                    TEAM_KEY=(tmp_path / "team.pem").read_text())  # fmt: skip
    assert ended.code == 0, ended.err
    assert all(secret.encode() not in path.read_bytes() for path in folder.rglob("*") if path.is_file())
    assert (folder / "surveys" / "head.json").is_file()


def test_a_kept_audit_that_somebody_else_wrote_does_not_count_and_a_report_is_signed(
    whole: Whole, tmp_path: Path
) -> None:
    folder, key = tmp_path / "ws", tmp_path / "keys" / "team.pem"
    shutil.copytree(whole.folder, folder)
    new_key(key)
    with (folder / "estate.yaml").open("a") as estate:
        estate.write(f"sign: {{key: file:{key}}}\n")
    right = lantern("history", "--json", cwd=folder).out
    kept = next((folder / "results").glob("*Z.json"))
    forged = json.loads(kept.read_bytes())
    forged["not_ok"] = []
    kept.write_text(json.dumps(forged))
    assert lantern("history", "--json", cwd=folder).out == right
    audited = lantern("audit", "--json", cwd=folder).out
    counts = next((folder / "results").glob("*.tallies.json"))
    told = counts.read_text()
    assert '"failed":' in told
    counts.write_text(re.sub(r'"failed":\d+', '"failed":0', told))
    assert lantern("audit", "--json", cwd=folder).out == audited

    page = folder / "r.html"
    assert lantern("report", "--out", "r.html", cwd=folder).code == 0
    asked = ("history", "--verify", "--evidence", "r.html", "--signer", str(public_path(key)))
    assert lantern(*asked, cwd=folder).code == 0
    page.write_text(page.read_text().replace("critical", "harmless"))
    ended = lantern(*asked, cwd=folder)
    assert ended.code == 4 and "its signature is not of this file" in ended.out
    assert lantern("history", "--verify", "--evidence", "r.html", cwd=folder).code == 2
    key.rename(tmp_path / "elsewhere")
    ended = lantern("report", "--out", "r.html", cwd=folder)
    assert ended.code == 0 and "r.html is not signed: the signing key" in ended.err
    assert not (folder / "r.html.sig").exists()  # nor that of the page that was there


def test_the_status_line_leaves_out_an_audit_that_somebody_else_wrote(whole: Whole, tmp_path: Path) -> None:
    folder, key = Path(shutil.copytree(whole.folder, tmp_path / "ws")), tmp_path / "team.pem"
    new_key(key)

    def forge() -> str:
        assert lantern("audit", cwd=folder).code == 1
        assert "991 critical" not in lantern(cwd=folder).out
        for kept in (folder / "results").glob("*Z.json"):
            kept.write_bytes(re.sub(rb'"critical":\d+', b'"critical":991', kept.read_bytes()))
        return lantern(cwd=folder).out

    assert "991 critical" in forge()  # nobody signs: it is taken for what it says
    with (folder / "estate.yaml").open("a") as estate:
        estate.write(f"sign: {{key: file:{key}}}\n")
    assert "critical" not in forge()
