"""The files of the demo's workspace: its estate, its baseline, its credentials, and what stands beside a store."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

import msgspec

from rusty_lantern.core.model.dossier import encode
from rusty_lantern.simulator.contents import Holdings
from rusty_lantern.simulator.demo import example_files as saltmarsh_examples
from rusty_lantern.simulator.demo import harbour as saltmarsh
from rusty_lantern.simulator.demo.harbour import ACCOUNT, KEY_ID, MOMENT, OFFICE, SECRET
from rusty_lantern.simulator.demo.harbour_identities import beside
from rusty_lantern.simulator.demo.lagoon import ACCOUNT as ACCOUNT_PATH
from rusty_lantern.simulator.demo.lagoon import HARBOUR_ACCOUNT, HARBOUR_USERS, lagoon, people, with_door
from rusty_lantern.simulator.demo.lagoon import USERS as LAGOON_USERS
from rusty_lantern.simulator.demo.month_before import EARLIER, attic_before, beside_before, events, harbour_before
from rusty_lantern.simulator.demo.other_stores import TOKEN, attic, undercroft
from rusty_lantern.simulator.demo.other_stores import skerry as second_site
from rusty_lantern.simulator.dossier_server import DossierServer
from rusty_lantern.simulator.s3_server import Standin
from rusty_lantern.simulator.serve import serve
from rusty_lantern.simulator.swift_server import SwiftDoor

BASELINE = """\
title: Saltmarsh Trust storage baseline
edition: 4
sheets:
  - sheet: every bucket
    require:
      exposure.read:      {is: closed, severity: high}
      exposure.list:      {is: closed, severity: high}
      exposure.write:     {is: closed, severity: critical}
      exposure.delete:    {is: closed, severity: critical}
      exposure.change-settings:    {is: closed, severity: critical}
      exposure.bypass-retention:    {is: closed, severity: critical}
      exposure.read-settings:   closed
      versioning:         on
      encryption.at-rest: at least provider-managed
      object-acls.enabled:   {is: off, severity: low}
      tags.steward:       present
      region:              one of [north-shore, south-shore]

  - sheet: sealed permits
    of: {tags.class: permit}
    severity: high
    require:
      encryption.at-rest: customer-managed
      lock.enabled:       on
      lock.mode:          compliance
      lock.default-retention:          at least 7 years
      objects.mode:             compliance
      objects.retention:             at least 7 years
      objects.current-version:  {is: protected, severity: critical}
      objects.encryption:       customer-managed

  - sheet: personal papers
    of: {tags.class: personal}
    require:
      exposure.read:      {is: closed, severity: critical, because: "names, addresses, bank details"}

  - sheet: public pictures
    of: {name: ["gallery-*", press-kit]}
    require:
      exposure.read:        {is: open, because: pictures for the web page and the press}
      objects.content-type: {is: "one of [image/jpeg, image/png]", in-a-sample: at most 2 %}
      objects.size:         at most 20 MB

  - sheet: by their own ACLs
    of: {name: press-kit}
    require:
      objects.public:       {is: at most read, severity: critical, because: nobody replaces a picture from outside}

  - sheet: shared with the ringers
    of: {name: [ringing-records, partner-feed]}
    require:
      exposure.read:      {is: at most restricted, severity: high, because: the station reads over the office network}

  - sheet: scratch space
    of: {name: "tmp-*"}
    require:
      versioning:         anything

  - sheet: backups
    of: {name: "backups-*"}
    require:
      lock.enabled:       on
      lock.default-retention:          between 30 days and 90 days
      objects.retention:       {is: between 30 days and 90 days, severity: high}

  - sheet: field data
    of: {name: [camera-traps, tide-gauge-raw, drone-orthophotos]}
    require:
      objects.encryption:       {is: at least provider-managed, severity: high, in-a-sample: at most 2 %}
      objects.metadata.station: {is: present, severity: low, in-a-sample: at most 2 %}
      objects.content-type-matches-extension:        {is: on, severity: low, in-a-sample: at most 2 %}

  - sheet: records and leftovers
    require:
      logging:                     on
      logging.target-kind:           another
      logging.target-exposure:     {is: "none of [restricted, open]", severity: high}
      lifecycle.against-retention: off
      cross-origin:                at most listed
      notifications.outside:       {is: off, severity: high}
      uploads.unfinished:          {is: at most 20, severity: low}

  - sheet: what others may
    require:
      access.outside:              {is: "within [list, read]", severity: high, because: partners fetch and never store}

  - sheet: the log store itself
    of: {name: access-logs}
    require:
      logging:                     anything
      logging.target-kind:           anything
"""


MORE = """
  - sheet: every access key
    of: {store: [harbour, attic]}
    require:
      credential.owner-kind:         {is: "none of [root]", severity: critical, because: nobody works as root}
      credential.owner-state:        {is: enabled, severity: high}
      credential.owner-well-known-name: {is: off, severity: low}
      credential.age:                at most 1 year
      credential.idle:               at most 90 days
      credential.active-keys-of-owner:    at most 1

  - sheet: keys of the attic
    of: {store: attic}
    require:
      credential.shared-by-admin-and-app:              {is: off, severity: high,
      because: an application needs no administrator}

  - sheet: people
    of: {store: [harbour, attic]}
    require:
      identity.password-without-mfa:       {is: off, severity: high}
      identity.password-idle:        {is: "at most 180 days or absent", severity: low}

  - sheet: no more than they need
    of:
      store: [harbour, attic]
      name: ["*-reader", "*-publisher", "*-uploader", "*-runner", "*-sync", "*-clerk", "*-intern", "*-warden"]
    require:
      identity.excess-permissions:               {is: nothing, severity: high}

  - sheet: encryption keys
    of: {store: harbour}
    require:
      encryption-key.state:          {is: enabled, severity: critical}
      encryption-key.age:            at most 1 year

  - sheet: keys of sealed permits
    of: {tags.class: permit, store: harbour}
    require:
      encryption.key-region:          {is: same, severity: high}
      encryption.key-usable-by-store:         {is: on, severity: high}

  - sheet: links
    of: {store: [harbour, attic]}
    require:
      link.scope:                    object
      link.allows:                    {is: "within [read]", severity: critical}
      link.lifetime:                 {is: at most 30 days, severity: high}

  - sheet: front doors
    of: {store: [harbour, skerry, attic]}
    require:
      store.legacy-signatures:       off

  - sheet: other doors
    of: {store: [harbour, skerry, lagoon]}
    require:
      store.unread-doors:            {is: absent, severity: high}

  - sheet: the lagoon's containers
    of: {store: lagoon}
    require:
      store.temporary-url-key:       {is: off, severity: high, because: one key makes links to every container}
      temporary-url-key:             off
      objects.points-to:             {is: absent, because: a link shows what its own container closes}
      region:                        anything
      object-acls.enabled:           anything
      logging:                       anything
      logging.target-kind:           anything
      logging.target-exposure:       anything
      lifecycle.against-retention:   anything
      notifications.outside:         anything
      uploads.unfinished:            anything

  - sheet: what dossiers tell
    of: {store: [attic, undercroft]}
    require:
      store.dossier-age:             {is: at most 2 days, severity: low}

  - sheet: the attic's containers
    of: {store: [attic, undercroft]}
    require:
      soft-delete:                   {is: at least 30 days, severity: high}
      network.from:                  {is: at least private-networks, severity: high}
      uploads.scanned:               on
      logging.excluded-identities:              {is: at most 0, severity: high}
      scheduled-deletion:                      absent

  - sheet: slides and charts, which nobody records
    of: {store: undercroft}
    require:
      network.from:                  anything
      logging:                       anything
      logging.target-kind:             anything
      logging.excluded-identities:              anything

  - sheet: the attic's own record
    of: {name: attic-records}
    require:
      logging:                       anything
      logging.target-kind:             anything
      logging.excluded-identities:              anything
"""


HARBOUR = """\
  harbour:
    reads: s3
    at: {address}
    plain-http: allowed        # the stand-in runs on this machine
    credential: {{file: harbour.credential}}
    pace: {{at-once: 16, per-second: 2000}}
{doors}    objects: {{"permit-*": all, grant-ledger: all, press-kit: all, boat-logs: all, drone-orthophotos: all,
              backups-nightly: all, members-area: all, "gallery-*": sample, camera-traps: sample,
              tide-gauge-raw: sample}}
    sample: {{detect: 2 %, confidence: 95 %, seed: 7}}
"""
DOORS = """\
    doors:
      swift: {{at: {address}/swift/v1, credential: {{file: harbour-swift.credential}}}}
"""
BESIDE = """\
    identities: {{at: {address}}}
    beside: harbour-keys.json      # the key service's keys and the links that were given out
    may: {{tide-reader: [list, read], gallery-publisher: [list, read, write], camera-uploader: [write],
          backup-runner: [list, write], ringing-sync: [list, read], permit-clerk: [write]}}
"""
OTHERS = """\
  skerry:
    reads: s3
    at: {skerry}
    plain-http: allowed
    credential: {{file: harbour.credential}}
    pace: {{at-once: 16, per-second: 2000}}
    objects: {{"permit-*": all, grant-ledger: all}}
  lagoon:
    reads: swift
    at: {lagoon}/v1/AUTH_trust
    plain-http: allowed
    credential: {{file: lagoon.credential}}
    pace: {{at-once: 16, per-second: 2000}}
    objects: {{"*": all}}
    beside: lagoon-people.json
    stated:
      - {{fact: encryption.at-rest, is: provider-managed, because: encrypted disks, until: 2027-06-30}}
  attic:
    reads: dossier
    at: {attic}/dossier.json
    plain-http: allowed
    credential: {{token: file:attic.token}}
    stated:
      - {{fact: encryption.at-rest, is: provider-managed, because: encrypted disks, until: 2027-06-30}}
  undercroft:
    reads: dossier
    at: undercroft.json
mirrors:
  - {{from: harbour, to: skerry, buckets: ["permit-*", grant-ledger], lag: 30 minutes}}
"""


def estate_document(addresses: Mapping[str, str]) -> str:
    """The demo's estate file; with the address of `harbour` alone, that store alone."""
    head = f'estate: Saltmarsh Trust\ntrusted:\n  accounts: ["{ACCOUNT}"]\n  networks: [{OFFICE}]\nstores:\n'
    doors = DOORS.format(address=addresses["harbour"]) if "lagoon" in addresses else ""
    written = head + HARBOUR.format(address=addresses["harbour"], doors=doors)
    if "skerry" not in addresses:
        return written
    return written + BESIDE.format(address=addresses["harbour"]) + OTHERS.format(**addresses)


CREDENTIAL = f"[default]\naws_access_key_id = {KEY_ID}\naws_secret_access_key = {SECRET}\n"


def workspace_files(address: str | Mapping[str, str]) -> dict[str, tuple[str, int]]:
    """The files of the demo workspace, with their modes; with one address, for the store `harbour` alone."""
    addresses = {"harbour": address} if isinstance(address, str) else address
    files = {
        "estate.yaml": (estate_document(addresses), 0o644),
        "baseline.yaml": (BASELINE, 0o644),
        "harbour.credential": (CREDENTIAL, 0o600),
    }
    if "skerry" in addresses:
        files["baseline.yaml"] = (BASELINE + MORE, 0o644)
        for name, users in (("lagoon", LAGOON_USERS), ("harbour-swift", HARBOUR_USERS)):
            user, known = next(iter(users.items()))
            files[f"{name}.credential"] = (f"[default]\nuser = {user}\nkey = {known.key}\n", 0o600)
        files["attic.token"] = (TOKEN + "\n", 0o600)
        files["lagoon-people.json"] = (encode(people(MOMENT)).decode(), 0o644)
        files["undercroft.json"] = (encode(undercroft(MOMENT)).decode(), 0o644)
        files["harbour-keys.json"] = (encode(beside(MOMENT)).decode(), 0o644)
        files["waivers.yaml"] = (WAIVERS, 0o644)
        files["events.jsonl"] = (events(), 0o644)
        files |= {name: (text, 0o644) for name, text in saltmarsh_examples.FILES.items()}
    return files


WAIVERS = """\
waivers:
  - of: harbour/gallery-prints
    fact: exposure.list
    observed: open
    because: the print shop browses the list until its own catalogue is up
    by: head of outreach
    since: 2026-10-10
    until: 2027-01-31
  - of: harbour/press-kit
    fact: logging.target-kind
    observed: missing
    because: the record moves to the new log store
    by: storage keeper
    since: 2026-09-01
    until: 2026-11-20
"""


@dataclass(frozen=True)
class Served:
    """The demo's stores, answering on loopback."""

    addresses: dict[str, str]
    harbour: Standin
    skerry: Standin
    attic: DossierServer
    lagoon: SwiftDoor

    def go_back(self, folder: Path) -> None:
        """Answer as the stores were a month earlier; what lies in the workspace beside them as well."""
        then = with_door(harbour_before(saltmarsh.harbour()), opened=False)
        self._serve_harbour(then, EARLIER)
        self.lagoon.holdings, self.lagoon.moment = lagoon(EARLIER), EARLIER
        self.skerry.holdings = second_site(then, EARLIER, saltmarsh.skerry().keys)
        self.attic.dossier = attic_before(attic(MOMENT))
        self.skerry.moment = EARLIER
        (folder / "harbour-keys.json").write_bytes(encode(beside_before(beside(MOMENT))))
        (folder / "undercroft.json").write_bytes(encode(msgspec.structs.replace(undercroft(MOMENT), taken=EARLIER)))

    def _serve_harbour(self, holdings: Holdings, moment: datetime) -> None:
        """The same buckets at both doors."""
        assert self.harbour.door is not None
        self.harbour.holdings = self.harbour.door.holdings = holdings
        self.harbour.moment = self.harbour.door.moment = moment

    def come_back(self, folder: Path) -> None:
        """Answer as the stores are at the demo's moment."""
        self._serve_harbour(with_door(saltmarsh.harbour()), MOMENT)
        self.lagoon.holdings, self.lagoon.moment = lagoon(MOMENT), MOMENT
        self.skerry.holdings = saltmarsh.skerry()
        self.attic.dossier = attic(MOMENT)
        self.skerry.moment = MOMENT
        (folder / "harbour-keys.json").write_bytes(encode(beside(MOMENT)))
        (folder / "undercroft.json").write_bytes(encode(undercroft(MOMENT)))


@contextmanager
def serve_estate(port: int = 0) -> Iterator[Served]:
    """Serve all the demo's stores: `harbour` at the port, the others at free ones. Raises `OSError`."""
    held = with_door(saltmarsh.harbour())
    harbour = Standin(held, MOMENT, door=SwiftDoor(held, MOMENT, HARBOUR_USERS, HARBOUR_ACCOUNT))
    skerry, pool = Standin(saltmarsh.skerry(), MOMENT), SwiftDoor(lagoon(MOMENT), MOMENT, LAGOON_USERS, ACCOUNT_PATH)
    house = DossierServer(attic(MOMENT), TOKEN)
    with ExitStack() as stack:
        addresses = {"harbour": stack.enter_context(serve(harbour.application(), port))}
        addresses |= {"skerry": stack.enter_context(serve(skerry.application()))}
        addresses |= {"lagoon": stack.enter_context(serve(pool.application()))}
        addresses |= {"attic": stack.enter_context(serve(house.application()))}
        yield Served(addresses, harbour, skerry, house, pool)
