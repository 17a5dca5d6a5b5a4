"""The report: one page that needs nothing from anywhere, says what the audit says, and lets no text break out."""

from __future__ import annotations

import base64
import csv
import hashlib
import io
import json
import os
import re
import shutil
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import jsonschema
import msgspec
import pytest
from lxml import html
from pyarrow import parquet

from rusty_lantern.archive.surveys import save
from rusty_lantern.archive.workspace import make
from rusty_lantern.core.answer import Answer
from rusty_lantern.core.model.bucket import Bucket
from rusty_lantern.core.model.dossier import lost_dossier
from rusty_lantern.reports.figures.canvas import drawn, make_room_for_names
from rusty_lantern.simulator.demo import harbour as saltmarsh
from rusty_lantern.simulator.demo.workspace_files import workspace_files
from tests.conftest import Lived, lantern

DOCS = Path(__file__).parent.parent / "docs"


@pytest.fixture(scope="module")
def folder(lived: Lived, tmp_path_factory: pytest.TempPathFactory) -> Path:
    out = tmp_path_factory.mktemp("report") / "out"
    assert lived.run("report", "--out", str(out)).code == 0
    return out


@pytest.fixture(scope="module")
def audit(lived: Lived) -> dict[str, Any]:
    found: dict[str, Any] = json.loads(lived.run("audit", "--json").out)
    return found


def test_the_page_fetches_nothing_and_its_script_is_the_one_it_allows(folder: Path) -> None:
    text = (folder / "report.html").read_text()
    page: Any = html.fromstring(text)
    targets = [value for name in ("src", "href", "action", "data", "poster") for value in page.xpath(f"//@{name}")]
    assert all(target.startswith("#") for target in targets)
    assert not re.findall(r"url\((?!#)|@import", text)
    (script,) = page.xpath("//script/text()")
    policy = page.xpath("//meta[@http-equiv='Content-Security-Policy']/@content")[0]
    assert f"'sha256-{base64.b64encode(hashlib.sha256(script.encode()).digest()).decode()}'" in policy
    assert policy.startswith("default-src 'none'")


def test_every_drift_unknown_and_waiver_stands_in_the_page(folder: Path, audit: dict[str, Any]) -> None:
    page: Any = html.parse(folder / "report.html")
    rows = [[cell.text_content().strip() for cell in row] for row in page.xpath("//section[h2/@id='tasks']//tbody/tr")]
    told = {(row[0], row[1], row[2]) for row in rows}
    named = {
        (
            d["severity"],
            f"{d['store']}/{d['name']}" if d["subject"] == "bucket" else f"{d['store']}: {d['name']}",
            d["fact"],
        )
        for d in audit["drift"]
    }
    assert told == named
    assert len(rows) == audit["counts"]["drift"]
    for name, key in (("unknown", "unknown"), ("waived", "waived")):
        assert len(page.xpath(f"//section[h2/@id='{name}']//tbody/tr")) == audit["counts"][key]
    counts = [
        [int(n) for n in row.xpath("td[@class[starts-with(.,'n')]]/text()")]
        for row in page.xpath("//section[h2/@id='requirements']//tbody/tr")
    ]
    assert [sum(column) for column in zip(*counts, strict=True)] == [
        audit["counts"][status] for status in ("ok", "drift", "waived", "unknown")
    ]


def test_a_manager_sees_what_is_open_and_not_meant_to_be(folder: Path) -> None:
    page: Any = html.parse(folder / "report.html")
    shown = [item.text_content() for item in page.xpath("//article[h3='Public now']//li")]
    drifts = {words.split()[0] for words in shown if words.endswith("drift")}
    assert drifts >= {"harbour/payroll-drop", "harbour/contractor-drop", "attic/donor-scans"}
    assert len(shown) == 9 and "12 more below" in page.xpath("//article[h3='Public now']")[0].text_content()
    assert "13 new, 7 worse, 7 resolved" in " ".join(page.xpath("//main//section[1]")[0].text_content().split())


def test_the_tables_beside_the_page_hold_every_requirement_on_every_subject(
    folder: Path, audit: dict[str, Any]
) -> None:
    total = sum(audit["counts"].values())
    table = parquet.read_table(folder / "report.parquet")
    with (folder / "report.csv").open(newline="") as lines:
        rows = list(csv.DictReader(lines))
    assert table.num_rows == len(rows) == total
    assert [row["fact"] for row in rows] == table.column("fact").to_pylist()
    statuses = table.column("status").to_pylist()
    assert {status: statuses.count(status) for status in set(statuses)} == audit["counts"]
    assert table.schema.field("since").type.tz == "UTC"
    schema = json.loads((DOCS / "schemas/report.json").read_text())
    jsonschema.validate(json.loads((folder / "report.json").read_text()), schema)
    assert (folder / "report.md").read_text().startswith("# Saltmarsh Trust storage baseline")


def test_the_same_workspace_gives_the_same_bytes(lived: Lived, folder: Path, tmp_path: Path) -> None:
    assert lived.run("report", "--out", str(tmp_path / "again")).code == 0
    for file in folder.iterdir():
        assert (tmp_path / "again" / file.name).read_bytes() == file.read_bytes(), file.name


def test_an_extract_has_only_its_buckets(lived: Lived, tmp_path: Path) -> None:
    assert lived.run("report", "--for", "tags.steward=finance", "--out", str(tmp_path / "f"), "--no-figures").code == 0
    found = json.loads((tmp_path / "f/report.json").read_text())
    names = {row["name"] for rows in (found["audit"]["drift"], found["ok"]) for row in rows}
    assert names == {"grant-ledger", "payroll-drop"}
    assert "tide-gauge-raw" not in (tmp_path / "f/report.html").read_text()
    for wrong, told in (
        ("tags.steward=nobody", "there are: "),
        ("tags.steward", "FACT=VALUE"),
        ("versionig=on", "versioning"),
    ):
        ran = lived.run("report", "--for", wrong, "--out", str(tmp_path / "x.html"))
        assert (ran.code, told in ran.err, (tmp_path / "x.html").exists()) == (2, True, False)


@pytest.mark.parametrize("steward", ["finance", "records-office", "outreach"])
def test_an_extract_counts_what_an_audit_of_its_owner_counts(lived: Lived, tmp_path: Path, steward: str) -> None:
    audit = json.loads(lived.run("audit", "--owner", f"steward={steward}", "--json").out)
    out = tmp_path / "out"
    assert lived.run("report", "--for", f"tags.steward={steward}", "--out", str(out), "--no-figures").code == 0
    extract = json.loads((out / "report.json").read_text())["audit"]
    assert audit["counts"]["drift"] and audit["counts"]["drift"] < 100
    for part in ("counts", "drift_by_severity", "buckets", "ok"):
        assert extract[part] == audit[part], part
    assert extract["overview"]["since"] == audit["overview"]["since"]


def test_an_extract_names_the_buckets_that_may_belong_to_it(tmp_path: Path) -> None:
    harbour = saltmarsh.harbour().dossier
    dark = [
        msgspec.structs.replace(bucket, tags=Answer("denied")) if bucket.name == "grant-ledger" else bucket
        for bucket in harbour.buckets
    ]
    place = tmp_path / "ws"
    make(place, workspace_files("http://127.0.0.1:9"))
    save(place / "surveys", "x", saltmarsh.MOMENT, [msgspec.structs.replace(harbour, buckets=dark)])
    asked = ("report", "--for", "tags.steward=finance", "--out", "out", "--no-figures")
    assert lantern(*asked, cwd=place).code == 0
    assert json.loads((place / "out/report.json").read_text())["maybe_for"] == ["harbour/grant-ledger"]
    assert "1 bucket may belong here, and is not in it" in (place / "out/report.html").read_text()
    owned = json.loads(lantern("audit", "--owner", "steward=finance", "--json", cwd=place).out)
    assert owned["buckets"] == 2, "of an audit, whose tags are unknown may be the owner's"


def test_a_page_of_stores_that_were_not_read_says_of_nothing_that_there_is_none(tmp_path: Path) -> None:
    make(tmp_path / "ws", workspace_files("http://127.0.0.1:9"))
    gone: Answer[int] = Answer("failed", None, "cannot connect")
    save(tmp_path / "ws/surveys", "x", saltmarsh.MOMENT, [lost_dossier("harbour", "", saltmarsh.MOMENT, gone)])
    assert lantern("report", "--out", "page.html", "--no-figures", cwd=tmp_path / "ws").code == 0
    page = (tmp_path / "ws/page.html").read_text()
    assert (
        "Nothing was checked: the baseline requires nothing of what was read." in page
        and "No requirement is unknown in what was read." in page
    )
    assert 'class="good">N' not in page and "Nothing known." in page


def test_a_page_without_drift_is_good_only_where_all_is_known_and_something_was_checked(tmp_path: Path) -> None:
    harbour = saltmarsh.harbour().dossier
    [bucket] = [one for one in harbour.buckets if one.name == "grant-ledger"]
    unread = msgspec.structs.replace(bucket, versioning=Answer("denied", None, "AccessDenied"))

    def page_of(name: str, bucket: Bucket, required: str) -> str:
        make(tmp_path / name, workspace_files("http://127.0.0.1:9"))
        (tmp_path / name / "baseline.yaml").write_text(f"sheets: [{{sheet: s, require: {{{required}}}}}]\n")
        dossier = msgspec.structs.replace(harbour, buckets=[bucket], listing=Answer("known", 1))
        save(tmp_path / name / "surveys", "x", saltmarsh.MOMENT, [dossier])
        assert lantern("report", "--out", "page.html", "--no-figures", cwd=tmp_path / name).code == 0
        return (tmp_path / name / "page.html").read_text()

    known = page_of("known", bucket, "versioning: on")
    assert '<p class="good">No drift.</p>' in known and '<p class="good">Nothing.</p>' in known
    doubtful = page_of("doubtful", unread, "versioning: on")
    assert '<p class="unknown">No known drift.</p>' in doubtful and "No drift" not in doubtful
    assert "Nothing." not in doubtful.partition("Deadlines")[0]
    unchecked = page_of("unchecked", bucket, "versioning: anything")
    assert "Nothing was checked: the baseline requires nothing" in unchecked and "No drift" not in unchecked


@pytest.fixture(scope="module")
def hostile(lived: Lived, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The page of a baseline that asks for the demo's own hostile tag, with hostile words of its own."""
    place = Path(shutil.copytree(lived.folder, tmp_path_factory.mktemp("hostile") / "ws"))
    words = '"><img src=x onerror=alert(1)><script>alert(2)</script>{{7*7}}\x1b[31m'
    sheet = {"sheet": words, "require": {"tags.note": {"is": "absent", "because": words}, "exposure.read": "closed"}}
    (place / "baseline.yaml").write_text(json.dumps({"title": words, "sheets": [sheet]}))
    assert lantern("report", "--out", "page.html", cwd=place).code == 0
    return place / "page.html"


def test_hostile_text_stays_text_in_the_page(hostile: Path) -> None:
    text = hostile.read_text()
    page: Any = html.fromstring(text)
    assert len(page.xpath("//script")) == 1
    assert page.xpath("//img | //iframe | //object | //*[@onerror]") == []
    assert "49" not in page.xpath("//header//p")[0].text_content()
    assert "<script>alert(1)</script>" in page.xpath("string(//body)")  # the demo's own tag, as text
    assert not re.search(r"[\x00-\x08\x0b\x0c\x0e-\x1f\x7f-\x9f]", text)


@pytest.mark.parametrize("name", ["estate", "exposure", "storage", "drift", "retention", "credentials", "holdings"])
def test_each_figure_is_drawn_by_itself_the_same_each_time(lived: Lived, tmp_path: Path, name: str) -> None:
    for file in ("a.png", "b.png"):
        assert lived.run("figure", name, "--out", str(tmp_path / file)).code == 0
    drawn = (tmp_path / "a.png").read_bytes()
    assert drawn == (tmp_path / "b.png").read_bytes()
    assert drawn[16:24] == (1280).to_bytes(4, "big") + (800).to_bytes(4, "big")
    assert lived.run("figure", name, "--size", "page", "--out", str(tmp_path / "p.pdf")).code == 0


# --- in a browser


@pytest.fixture(scope="module")
def browser(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Any]:
    """Chromium without a window; without its packages the test skips, unless LANTERN_BROWSER=required."""
    if not (shutil.which("chromium") and shutil.which("chromedriver")):
        words = "needs Debian's chromium and chromium-driver; see .ci/run"
        if os.environ.get("LANTERN_BROWSER") == "required":
            pytest.fail(words)
        pytest.skip(words)
    from selenium import webdriver

    options = webdriver.ChromeOptions()
    switches = (
        "--headless --no-sandbox --disable-gpu --disable-quic --no-first-run --window-size=1280,800 "
        "--disable-background-networking --disable-component-update --disable-sync"
    )
    for word in (*switches.split(), f"--user-data-dir={tmp_path_factory.mktemp('chromium')}"):
        options.add_argument(word)
    options.binary_location = "/usr/bin/chromium"
    options.set_capability("goog:loggingPrefs", {"browser": "ALL", "performance": "ALL"})
    driver = webdriver.Chrome(options, webdriver.ChromeService("/usr/bin/chromedriver"))
    yield driver
    driver.quit()


def _requests(browser: Any) -> set[str]:
    told = [json.loads(entry["message"])["message"] for entry in browser.get_log("performance")]
    asked = {one["params"]["request"]["url"] for one in told if one["method"] == "Network.requestWillBeSent"}
    return {
        url for url in asked if not url.startswith(("chrome://", "chrome-untrusted://", "data:"))
    }  # the browser's own start page


def test_in_a_browser_it_filters_sorts_and_folds_and_asks_nobody(
    browser: Any, folder: Path, audit: dict[str, Any]
) -> None:
    from selenium.webdriver.common.by import By

    browser.get(f"file://{folder}/report.html")
    assert browser.get_log("browser") == []
    rows = browser.find_elements(By.CSS_SELECTOR, "section:nth-of-type(2) tbody tr")
    assert len(rows) == audit["counts"]["drift"]
    folds = browser.find_elements(By.CSS_SELECTOR, "section:nth-of-type(2) > details")
    assert [fold.get_attribute("open") is not None for fold in folds[:4]] == [True, True, True, False]
    folds[3].find_element(By.TAG_NAME, "summary").click()
    assert folds[3].get_attribute("open") is not None

    browser.find_element(By.ID, "filter").send_keys("payroll")
    shown = [row.text for row in rows if row.is_displayed()]
    assert shown and all("payroll" in words for words in shown)
    assert len(shown) == sum(d["name"] == "payroll-drop" for d in audit["drift"])
    browser.find_element(By.ID, "filter").clear()
    browser.find_element(By.ID, "filter").send_keys(" ")

    table = browser.find_element(By.CSS_SELECTOR, "section:nth-of-type(3) table")
    button = table.find_elements(By.CSS_SELECTOR, "thead button")[0]
    before = [row.text for row in table.find_elements(By.CSS_SELECTOR, "tbody tr th")]
    for turn, wanted in (("ascending", sorted(before)), ("descending", sorted(before, reverse=True))):
        browser.execute_script("arguments[0].click()", button)
        assert button.find_element(By.XPATH, "..").get_attribute("aria-sort") == turn
        assert [row.text for row in table.find_elements(By.CSS_SELECTOR, "tbody tr th")] == wanted
    assert _requests(browser) == {f"file://{folder}/report.html"}
    assert browser.get_log("browser") == []


def test_in_a_browser_a_hostile_page_runs_nothing(browser: Any, hostile: Path) -> None:
    browser.get(f"file://{hostile}")
    assert browser.get_log("browser") == []
    assert _requests(browser) == {f"file://{hostile}"}
    assert browser.execute_script("return document.scripts.length") == 1


def test_lantern_alone_says_where_one_is(lived: Lived, tmp_path: Path, workspace: Path) -> None:
    lived.run("audit")
    told = lived.run("--as-of", "2026-11-05T06:00:00Z")
    assert told.code == 0
    for words in ("2, the last 3 days ago: 2026-11-02T06:00:00Z", "24 critical", "next: lantern audit"):
        assert words in told.out
    assert "no workspace here" in lantern(cwd=tmp_path).out
    assert "none yet" in lantern(cwd=workspace).out
    folder = Path(shutil.copytree(lived.folder, tmp_path / "copy"))
    with (folder / "baseline.yaml").open("a") as baseline:
        baseline.write("\n# another edition\n")
    assert "not audited with the present baseline yet" in lantern(cwd=folder).out
    refused = lantern("--as-of", "noon", cwd=folder)
    assert (refused.code, refused.out) == (2, "") and "is not a date" in refused.err


def test_a_bucket_named_with_markup_stays_text_in_every_output(tmp_path: Path) -> None:
    """A store that is read by dossier may call a bucket anything."""
    name, tag = '<img src=x onerror="alert(1)">=1+1|`x`\x1b[31m\u202e', "<script>alert(2)</script>"
    bucket = {
        "name": name,
        "rights": {"value": [{"to": "anyone", "verbs": ["read"]}]},
        "tags": {"value": {"steward": tag}},
    }
    dossier = {
        "dossier": 3,
        "store": "s",
        "taken": "2026-11-02T06:00:00Z",
        "buckets": [bucket],
        "listing": {"value": 1},
    }
    dossier |= {key: {"state": "unsupported"} for key in ("public_access_guards", "network")}
    (tmp_path / "s.json").write_text(json.dumps(dossier))
    (tmp_path / "estate.yaml").write_text("estate: e\nstores: {s: {reads: dossier, at: s.json}}\n")
    (tmp_path / "baseline.yaml").write_text(
        "sheets: [{sheet: s, require: {exposure.read: closed, tags.steward: finance}}]\n"
    )
    assert lantern("survey", "--as-of", "2026-11-02", cwd=tmp_path).code in (0, 3)
    assert lantern("report", "--out", "out", cwd=tmp_path).code == 0
    page: Any = html.parse(tmp_path / "out/report.html")
    assert page.xpath("//img") == [] and len(page.xpath("//script")) == 1
    assert "<img src=x onerror=" in page.xpath("string(//body)")
    outputs = {
        form: lantern("audit", "--format", form, cwd=tmp_path) for form in ("csv", "sarif", "junit", "markdown", "json")
    }
    outputs |= {
        words[0]: lantern(*words, cwd=tmp_path) for words in (("audit",), ("buckets",), ("remedy",), ("exposure",))
    }
    for form, ran in outputs.items():
        assert ran.code in (0, 1, 3), ran.err
        assert not re.search("[\x00-\x08\x0b\x0c\x0e-\x1f\x7f-\x9f\u202a-\u202e]", ran.out), form
    assert "drift" in outputs["csv"].out
    assert "<img" not in outputs["markdown"].out


@pytest.mark.parametrize("size", ["slide", "page"])
@pytest.mark.parametrize("length", [3, 40, 180])
def test_no_name_beside_the_bars_is_cut(length: int, size: str) -> None:
    with drawn("t", "w", io.BytesIO(), size=size) as (figure, (axes,)):
        axes.barh([0, 1], [3, 4])
        axes.set_yticks([0, 1], ["a" * length, "b"])
        make_room_for_names(figure, axes)
        figure.draw_without_rendering()
        edges = [label.get_window_extent() for label in axes.get_yticklabels()]
    assert min(edge.x0 for edge in edges) >= 0 and axes.get_position().x0 < 0.5


def test_public_access_that_is_not_known_in_part_is_named_with_the_rest(lived: Lived, tmp_path: Path) -> None:
    lived.run("report", "--no-figures", "--out", str(tmp_path / "out"))
    page = (tmp_path / "out" / "report.html").read_text()
    told = next(line for line in page.splitlines() if "Public access not determined:" in line)
    for name in ("dunes/dune-pictures,", "harbour/tmp-exchange (change-settings, read, read-settings)"):
        assert name in told
