"""The files of the demo's workspace: its estate, its baseline, its credentials, and the dossiers beside stores."""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from datetime import datetime
from importlib.resources import files
from pathlib import Path
from string import Template

import msgspec

from rusty_lantern.core.model.dossier import encode
from rusty_lantern.simulator.blob_server import BlobServer
from rusty_lantern.simulator.contents import StoreContents
from rusty_lantern.simulator.demo import example_files as saltmarsh_examples
from rusty_lantern.simulator.demo import harbour as saltmarsh
from rusty_lantern.simulator.demo.cove import ACCOUNT as COVE_PATH
from rusty_lantern.simulator.demo.cove import cove, realm
from rusty_lantern.simulator.demo.harbour import ACCOUNT, KEY_ID, MOMENT, OFFICE, SECRET
from rusty_lantern.simulator.demo.harbour_identities import beside
from rusty_lantern.simulator.demo.lagoon import ACCOUNT as ACCOUNT_PATH
from rusty_lantern.simulator.demo.lagoon import HARBOUR_ACCOUNT, HARBOUR_USERS, lagoon, people, with_door
from rusty_lantern.simulator.demo.lagoon import USERS as LAGOON_USERS
from rusty_lantern.simulator.demo.month_before import EARLIER, attic_before, beside_before, events, harbour_before
from rusty_lantern.simulator.demo.other_stores import TOKEN, attic, undercroft
from rusty_lantern.simulator.demo.skerry import KEY_ID as SKERRY_KEY_ID
from rusty_lantern.simulator.demo.skerry import SECRET as SKERRY_SECRET
from rusty_lantern.simulator.demo.skerry import gate
from rusty_lantern.simulator.demo.skerry import skerry as second_site
from rusty_lantern.simulator.demo.slipway import KEY_TEXT, mail, slipway
from rusty_lantern.simulator.demo.slipway import server as slipway_server
from rusty_lantern.simulator.dossier_server import DossierServer
from rusty_lantern.simulator.keystone_server import KeystoneServer
from rusty_lantern.simulator.s3_server import Standin
from rusty_lantern.simulator.serve import serve
from rusty_lantern.simulator.swift_server import SwiftDoor


def _text(name: str) -> str:
    """A file that the demo's workspace is made of."""
    return (files("rusty_lantern.simulator.demo") / "files" / name).read_text(encoding="utf-8")


BASELINE = _text("baseline.yaml")


def estate_document(addresses: Mapping[str, str]) -> str:
    """The demo's estate file; with the address of `harbour` alone, that store alone."""
    head = f'estate: Saltmarsh Trust\ntrusted:\n  accounts: ["{ACCOUNT}"]\n  networks: [{OFFICE}]\nstores:\n'
    several = "skerry" in addresses
    doors = (_DOORS + (_SWIFT_DOOR if several else "")).format(address=addresses["harbour"], account=ACCOUNT)
    parts = ["estate-harbour.yaml", *(("estate-beside-harbour.yaml", "estate-other-stores.yaml") if several else ())]
    return head + "".join(Template(_text(part)).substitute(addresses, doors=doors) for part in parts)


_DOORS = """\
    doors:
      account: {{at: "{address}", account: "{account}", credential: {{file: harbour.credential}}}}
"""
_SWIFT_DOOR = """\
      swift: {{at: {address}/swift/v1, credential: {{file: harbour-swift.credential}}}}
"""


def _access_key(key_id: str, secret: str) -> str:
    return f"[default]\naws_access_key_id = {key_id}\naws_secret_access_key = {secret}\n"


CREDENTIAL = _access_key(KEY_ID, SECRET)


def _cove_credential() -> str:
    """What opens the containers of `cove`, and its identity service, as one credential file."""
    nightly, watcher = realm(_text("cove-people.json")).logins
    return (
        f"[nightly]\nid = {nightly.name}\nsecret = {nightly.secret}\n"
        f"[watcher]\nuser = {watcher.name}\npassword = {watcher.secret}\ndomain = trust\n"
    )


EXPORTS = {"slipway": "account-settings", "boathouse": "visibility", "dunes": "uniform-access"}
"""Store → the layout whose example is what its console exported."""


def exports() -> dict[str, str]:
    """The documents that consoles exported into the workspace, by name."""
    texts = {}
    for store, layout in EXPORTS.items():
        folder = files("rusty_lantern.layouts") / "examples" / layout
        for document in sorted(folder.iterdir(), key=lambda one: one.name):
            texts[f"exports/{store}/{document.name}"] = document.read_text(encoding="utf-8")
    return texts


def date_exports(folder: Path, moment: datetime) -> None:
    """Make the exported documents as old as if they had been written an hour before."""
    written = moment.timestamp() - 3600
    for name in exports():
        os.utime(folder / name, (written, written))


def workspace_files(address: str | Mapping[str, str]) -> dict[str, tuple[str, int]]:
    """The files of the demo workspace, with their modes; with one address, for the store `harbour` alone."""
    addresses = {"harbour": address} if isinstance(address, str) else address
    made = {
        "estate.yaml": (estate_document(addresses), 0o644),
        "baseline.yaml": (BASELINE, 0o644),
        "harbour.credential": (CREDENTIAL, 0o600),
    }
    if "skerry" in addresses:
        made["baseline.yaml"] = (BASELINE + _text("baseline-of-all-stores.yaml"), 0o644)
        for name, users in (("lagoon", LAGOON_USERS), ("harbour-swift", HARBOUR_USERS)):
            user, known = next(iter(users.items()))
            made[f"{name}.credential"] = (f"[default]\nuser = {user}\nkey = {known.key}\n", 0o600)
        made["skerry.credential"] = (_access_key(SKERRY_KEY_ID, SKERRY_SECRET), 0o600)
        made["cove.credential"] = (_cove_credential(), 0o600)
        made["attic.token"] = (TOKEN + "\n", 0o600)
        made["lagoon-people.json"] = (encode(people(MOMENT)).decode(), 0o644)
        made["undercroft.json"] = (encode(undercroft(MOMENT)).decode(), 0o644)
        made["harbour-keys.json"] = (encode(beside(MOMENT)).decode(), 0o644)
        made["slipway.key"] = (KEY_TEXT + "\n", 0o600)
        made |= {name: (text, 0o644) for name, text in exports().items()}
        made["prices.yaml"] = (_text("prices.yaml"), 0o644)
        made["yard-mail.txt"] = (mail(addresses["slipway"]), 0o644)
        made["waivers.yaml"] = (_text("waivers.yaml"), 0o644)
        made["events.jsonl"] = (events(), 0o644)
        made |= {name: (text, 0o644) for name, text in saltmarsh_examples.FILES.items()}
    return made


@dataclass(frozen=True)
class Served:
    """The demo's stores, answering on loopback."""

    addresses: dict[str, str]
    harbour: Standin
    skerry: Standin
    attic: DossierServer
    lagoon: SwiftDoor
    cove: SwiftDoor
    slipway: BlobServer

    def go_back(self, folder: Path) -> None:
        """Answer as the stores were a month earlier; what is in the workspace beside them as well."""
        then = with_door(harbour_before(saltmarsh.harbour()), opened=False)
        self._serve_harbour(then, EARLIER)
        self.lagoon.holdings, self.lagoon.moment = lagoon(EARLIER), EARLIER
        self.cove.holdings, self.cove.moment = cove(EARLIER, opened=False), EARLIER
        self.skerry.holdings, self.skerry.admin = second_site(then, EARLIER), gate(later=False)
        self.attic.dossier = attic_before(attic(MOMENT))
        self.skerry.moment = EARLIER
        self.slipway.holdings, self.slipway.moment = slipway(EARLIER), EARLIER
        date_exports(folder, EARLIER)
        (folder / "harbour-keys.json").write_bytes(encode(beside_before(beside(MOMENT))))
        (folder / "undercroft.json").write_bytes(encode(msgspec.structs.replace(undercroft(MOMENT), taken=EARLIER)))

    def _serve_harbour(self, holdings: StoreContents, moment: datetime) -> None:
        """The same buckets at both doors."""
        assert self.harbour.door is not None
        self.harbour.holdings = self.harbour.door.holdings = holdings
        self.harbour.moment = self.harbour.door.moment = moment

    def come_back(self, folder: Path) -> None:
        """Answer as the stores are at the demo's moment."""
        self._serve_harbour(with_door(saltmarsh.harbour()), MOMENT)
        self.lagoon.holdings, self.lagoon.moment = lagoon(MOMENT), MOMENT
        self.cove.holdings, self.cove.moment = cove(MOMENT), MOMENT
        self.skerry.holdings, self.skerry.admin = saltmarsh.skerry(), gate()
        self.attic.dossier = attic(MOMENT)
        self.skerry.moment = MOMENT
        self.slipway.holdings, self.slipway.moment = slipway(MOMENT), MOMENT
        date_exports(folder, MOMENT)
        (folder / "harbour-keys.json").write_bytes(encode(beside(MOMENT)))
        (folder / "undercroft.json").write_bytes(encode(undercroft(MOMENT)))


@contextmanager
def serve_estate(port: int = 0) -> Iterator[Served]:
    """Serve all the demo's stores: `harbour` at the port, the others at free ones. Raises `OSError`."""
    held = with_door(saltmarsh.harbour())
    harbour = Standin(held, MOMENT, door=SwiftDoor(held, MOMENT, HARBOUR_USERS, HARBOUR_ACCOUNT))
    skerry = Standin(saltmarsh.skerry(), MOMENT, admin=gate())
    pool = SwiftDoor(lagoon(MOMENT), MOMENT, LAGOON_USERS, ACCOUNT_PATH)
    people_of_cove = KeystoneServer(realm(_text("cove-people.json")))
    inlet = SwiftDoor(cove(MOMENT), MOMENT, {}, COVE_PATH, people_of_cove)
    house, slip = DossierServer(attic(MOMENT), TOKEN), slipway_server(MOMENT)
    with ExitStack() as stack:
        addresses = {"harbour": stack.enter_context(serve(harbour.application(), port))}
        addresses |= {"skerry": stack.enter_context(serve(skerry.application()))}
        addresses |= {"lagoon": stack.enter_context(serve(pool.application()))}
        addresses |= {"cove": stack.enter_context(serve(inlet.application()))}
        addresses |= {"cove_people": stack.enter_context(serve(people_of_cove.application()))}
        addresses |= {"attic": stack.enter_context(serve(house.application()))}
        addresses |= {"slipway": stack.enter_context(serve(slip.application()))}
        yield Served(addresses, harbour, skerry, house, pool, inlet, slip)
