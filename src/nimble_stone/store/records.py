"""Plain functions over the tables of things: estate, facts, packages, plans, pins."""

from __future__ import annotations

import json
import logging
import sqlite3
from collections.abc import Collection, Iterator
from dataclasses import asdict, dataclass
from typing import Any

from pydantic import ValidationError

from nimble_stone.core.errors import Conflict, NotFound
from nimble_stone.core.estate import (
    Estate,
    EstateFile,
    Facts,
    Host,
    Machine,
    MachineFacts,
    Network,
    Pool,
    RuleSetting,
    StoreCare,
)
from nimble_stone.core.series import Series

Db = sqlite3.Connection
log = logging.getLogger("nimble_stone.store")


def get_host(db: Db, name: str) -> Host | None:
    """One host of the estate, without reading all others and their facts."""
    doc = _item(db, "host", name)
    return Host.model_validate_json(doc) if doc else None


def get_machine(db: Db, name: str) -> Machine | None:
    """One bare machine of the estate, likewise."""
    doc = _item(db, "machine", name)
    return Machine.model_validate_json(doc) if doc else None


def _item(db: Db, kind: str, name: str) -> str:
    row = db.execute(
        "SELECT doc FROM estate_item WHERE kind = ? AND name = ?", (kind, name)
    ).fetchone()
    return str(row["doc"]) if row else ""


def load_estate(db: Db) -> Estate:
    """The estate with the last facts of each host."""
    rows = db.execute("SELECT kind, doc FROM estate_item ORDER BY kind, name").fetchall()
    docs: dict[str, list[str]] = {
        "network": [],
        "pool": [],
        "host": [],
        "machine": [],
        "series": [],
    }
    for row in rows:
        docs[row["kind"]].append(row["doc"])
    facts = {
        row["host"]: Facts.model_validate_json(row["doc"])
        for row in db.execute("SELECT host, doc FROM facts")
    }
    return Estate(
        networks=tuple(Network.model_validate_json(doc) for doc in docs["network"]),
        pools=tuple(_pools(docs["pool"])),
        hosts=tuple(Host.model_validate_json(doc) for doc in docs["host"]),
        facts=facts,
        machines=tuple(Machine.model_validate_json(doc) for doc in docs["machine"]),
        machine_facts={
            row["machine"]: MachineFacts.model_validate_json(row["doc"])
            for row in db.execute("SELECT machine, doc FROM machine_facts")
        },
        series=tuple(Series.model_validate_json(doc) for doc in docs["series"]),
        settings=tuple(
            RuleSetting(
                bay=row["bay"],
                rule=row["rule"],
                off=bool(row["off"]),
                limit=row["own_limit"],
                reason=row["reason"],
            )
            for row in db.execute("SELECT * FROM rule_setting ORDER BY bay, rule")
        ),
        stores=tuple(
            StoreCare(place=row["place"], watermark=row["watermark"], protection=row["protection"])
            for row in db.execute("SELECT * FROM store_care ORDER BY place")
        ),
    )


def _pools(docs: list[str]) -> Iterator[Pool]:
    """The pools; one that an earlier version let in and that is no range (its first address after
    its last) gives nothing and is left out.
    """
    for doc in docs:
        try:
            yield Pool.model_validate_json(doc)
        except ValidationError as error:
            log.warning("a pool is left out: %s", error.errors()[0]["msg"])


def merge_estate(db: Db, file: EstateFile) -> None:
    """Add or replace by name."""
    for kind, items in (
        ("network", file.networks),
        ("pool", file.pools),
        ("host", file.hosts),
        ("machine", file.machines),
        ("series", file.series),
    ):
        for item in items:
            db.execute(
                "INSERT INTO estate_item VALUES (?, ?, ?) ON CONFLICT DO UPDATE SET doc ="
                " excluded.doc",
                (kind, item.name, item.model_dump_json()),
            )


def drop_host(db: Db, name: str) -> None:
    """Forget a host and what was read of it. Raises NotFound."""
    if (
        db.execute("DELETE FROM estate_item WHERE kind = 'host' AND name = ?", (name,)).rowcount
        == 0
    ):
        raise NotFound(f"the estate has no host “{name}”")
    db.execute("DELETE FROM facts WHERE host = ?", (name,))


def drop_network(db: Db, name: str) -> None:
    """Forget a network."""
    db.execute("DELETE FROM estate_item WHERE kind = 'network' AND name = ?", (name,))


def drop_pool(db: Db, name: str) -> None:
    """Forget a pool or series."""
    db.execute("DELETE FROM estate_item WHERE kind IN ('pool', 'series') AND name = ?", (name,))


def rename_host(db: Db, old: str, new: str) -> None:
    """Another name for a host; its facts follow. Raises NotFound, Conflict when the name is
    taken.
    """
    row = db.execute(
        "SELECT doc FROM estate_item WHERE kind = 'host' AND name = ?", (old,)
    ).fetchone()
    if row is None:
        raise NotFound(f"the estate has no host “{old}”")
    if db.execute(
        "SELECT 1 FROM estate_item WHERE kind IN ('host', 'machine') AND name = ?", (new,)
    ).fetchone():
        raise Conflict(
            f"the estate has a “{new}” already", code="host-exists", hint="Choose another name."
        )
    host = Host.model_validate({**json.loads(row["doc"]), "name": new})
    db.execute(
        "UPDATE estate_item SET name = ?, doc = ? WHERE kind = 'host' AND name = ?",
        (new, host.model_dump_json(), old),
    )
    facts = db.execute("SELECT doc FROM facts WHERE host = ?", (old,)).fetchone()
    if facts is not None:
        kept = Facts.model_validate_json(facts["doc"]).model_copy(update={"host": new})
        db.execute(
            "UPDATE facts SET host = ?, doc = ? WHERE host = ?", (new, kept.model_dump_json(), old)
        )
    db.execute(
        "UPDATE store_care SET place = ? || substr(place, length(?) + 1) WHERE substr(place, 1,"
        " length(?) + 1) = ? || '/'",
        (new, old, old, old),
    )


def drop_machine(db: Db, name: str) -> None:
    """Forget a machine and what was read of it. Raises NotFound."""
    if (
        db.execute("DELETE FROM estate_item WHERE kind = 'machine' AND name = ?", (name,)).rowcount
        == 0
    ):
        raise NotFound(f"the estate has no machine “{name}”")
    db.execute("DELETE FROM machine_facts WHERE machine = ?", (name,))


def put_machine_facts(db: Db, facts: MachineFacts) -> MachineFacts:
    """The same for a machine. What was seen inside stays until it is inspected again."""
    row = db.execute("SELECT doc FROM machine_facts WHERE machine = ?", (facts.machine,)).fetchone()
    before = MachineFacts.model_validate_json(row["doc"]) if row else None
    if before is not None and facts.trouble:
        facts = before.model_copy(
            update={
                "trouble": facts.trouble,
                "trouble_code": facts.trouble_code,
                "tried_at": facts.tried_at,
            }
        )
    elif before is not None and facts.inside is None:
        facts = facts.model_copy(update={"inside": before.inside})
    db.execute(
        "INSERT INTO machine_facts VALUES (?, ?, ?) ON CONFLICT DO UPDATE SET doc = excluded.doc,"
        " read_at = excluded.read_at",
        (facts.machine, facts.model_dump_json(), facts.read_at),
    )
    return facts


def put_setting(db: Db, setting: RuleSetting, at: float) -> None:
    """What a bay decided about a rule; with neither off nor a limit, nothing is decided any
    more.
    """
    if not setting.off and setting.limit is None:
        db.execute(
            "DELETE FROM rule_setting WHERE bay = ? AND rule = ?", (setting.bay, setting.rule)
        )
        return
    db.execute(
        "INSERT INTO rule_setting VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET off ="
        " excluded.off, own_limit = excluded.own_limit, reason = excluded.reason, at = excluded.at",
        (setting.bay, setting.rule, int(setting.off), setting.limit, setting.reason, at),
    )


def put_care(db: Db, care: StoreCare) -> None:
    """What is decided about a datastore."""
    db.execute(
        "INSERT INTO store_care VALUES (?, ?, ?) ON CONFLICT DO UPDATE SET watermark ="
        " excluded.watermark, protection = excluded.protection",
        (care.place, care.watermark, care.protection),
    )


def put_facts(db: Db, facts: Facts) -> Facts:
    """Keep facts. When nothing new could be read, the last known stay and only the trouble is
    noted. Returns what is kept.
    """
    if facts.trouble:
        row = db.execute("SELECT doc FROM facts WHERE host = ?", (facts.host,)).fetchone()
        if row:
            facts = Facts.model_validate_json(row["doc"]).model_copy(
                update={
                    "trouble": facts.trouble,
                    "trouble_code": facts.trouble_code,
                    "tried_at": facts.tried_at or facts.read_at,
                }
            )
    db.execute(
        "INSERT INTO facts VALUES (?, ?, ?) ON CONFLICT DO UPDATE SET doc = excluded.doc, read_at ="
        " excluded.read_at",
        (facts.host, facts.model_dump_json(), facts.read_at),
    )
    return facts


@dataclass(frozen=True)
class PackageRow:
    """A package that was taken in. `doc` is the JSON of its contents."""

    sha256: str
    product: str
    version: str
    doc: dict[str, Any]
    size: int
    thin_bytes: int
    file_name: str
    added_at: float
    kind: str = "ova"
    channel: str = ""
    note: str = ""


def _package(row: sqlite3.Row) -> PackageRow:
    return PackageRow(
        row["sha256"],
        row["product"],
        row["version"],
        json.loads(row["doc"]),
        row["size"],
        row["thin_bytes"],
        row["file_name"],
        row["added_at"],
        row["kind"],
        row["channel"],
        row["note"],
    )


def put_package(db: Db, package: PackageRow) -> None:
    """Keep a package; taking the same bytes in again changes nothing."""
    values = asdict(package) | {"doc": json.dumps(package.doc)}
    db.execute(
        "INSERT INTO package VALUES (:sha256, :product, :version, :doc, :size, :thin_bytes,"
        " :file_name, :added_at, :kind, :channel, :note) ON CONFLICT DO NOTHING",
        values,
    )


def packages(db: Db) -> list[PackageRow]:
    """All packages, newest first."""
    return [_package(row) for row in db.execute("SELECT * FROM package ORDER BY added_at DESC")]


@dataclass(frozen=True)
class PackageName:
    """What a package is chosen by: `signature` as it was when it was taken in (see
    core/package/signature.py).
    """

    product: str
    version: str
    channel: str
    signature: str
    kind: str = "ova"

    @property
    def title(self) -> str:
        """“Gauge Collector 4.2.0”."""
        return f"{self.product} {self.version}"


def package_names(db: Db) -> list[PackageName]:
    """Packages of one system and those without a descriptor, newest first: others are kept and
    shown, but no plan is made of them.
    """
    rows = db.execute(
        "SELECT product, version, channel, coalesce(json_extract(doc, '$.integrity.signature'),"
        " 'absent') AS signature, kind FROM package WHERE coalesce(json_array_length(doc,"
        " '$.envelope.systems'), 0) = 1 OR json_type(doc, '$.envelope') IS NOT 'object'"
        " ORDER BY added_at DESC"
    )
    return [
        PackageName(row["product"], row["version"], row["channel"], row["signature"], row["kind"])
        for row in rows
    ]


def find_package(db: Db, wanted: str) -> PackageRow | None:
    """By SHA-256 (12 digits suffice) or by “Product version”; None when absent."""
    if not wanted:
        return None
    for row in packages(db):
        if wanted == f"{row.product} {row.version}" or (
            len(wanted) >= 12 and row.sha256.startswith(wanted)
        ):
            return row
    return None


def packages_of(db: Db, digests: Collection[str]) -> dict[str, PackageRow]:
    """Packages by digest. Raises NotFound for one that is gone."""
    found = {}
    for sha256 in digests:
        row = db.execute("SELECT * FROM package WHERE sha256 = ?", (sha256,)).fetchone()
        if row is None:
            raise NotFound(f"the package {sha256[:12]} is gone", code="package-missing")
        found[sha256] = _package(row)
    return found


def get_package(db: Db, sha256: str) -> PackageRow:
    """A package by its digest. Raises NotFound."""
    return packages_of(db, [sha256])[sha256]


def renew_package(db: Db, sha256: str, doc: dict[str, Any]) -> None:
    """Replace what is known of a package's contents."""
    db.execute("UPDATE package SET doc = ? WHERE sha256 = ?", (json.dumps(doc), sha256))


def label_package(db: Db, sha256: str, channel: str, note: str) -> None:
    """Set the team's own words on a package. Raises NotFound."""
    if (
        db.execute(
            "UPDATE package SET channel = ?, note = ? WHERE sha256 = ?", (channel, note, sha256)
        ).rowcount
        == 0
    ):
        raise NotFound("no such package")


def rename_package(db: Db, sha256: str, product: str, version: str) -> None:
    """Give a package another product and version."""
    db.execute(
        "UPDATE package SET product = ?, version = ? WHERE sha256 = ?", (product, version, sha256)
    )


def remove_package(db: Db, sha256: str) -> None:
    """Forget a package. Raises Conflict while a run was made with it, NotFound when it is
    unknown.
    """
    if db.execute(
        "SELECT 1 FROM run WHERE package = :sha OR EXISTS (SELECT 1 FROM json_each(run.doc,"
        " '$.packages') WHERE value = :sha)",
        {"sha": sha256},
    ).fetchone():
        raise Conflict("a run used this package; it is kept for the record", code="package-in-use")
    if db.execute("DELETE FROM package WHERE sha256 = ?", (sha256,)).rowcount == 0:
        raise NotFound("no such package")


@dataclass(frozen=True)
class PlanRow:
    """A plan's text at its newest version."""

    id: str
    version: int
    text: str
    changed_at: float


def get_plan(db: Db, ident: str) -> PlanRow:
    """Raises NotFound."""
    row = db.execute("SELECT * FROM plan WHERE id = ?", (ident,)).fetchone()
    if row is None:
        raise NotFound(
            f"there is no plan “{ident}”", hint="`nimble-stone plan list` shows those there are."
        )
    return PlanRow(*row)


def plans(db: Db) -> list[PlanRow]:
    """All plans, last changed first."""
    return [PlanRow(*row) for row in db.execute("SELECT * FROM plan ORDER BY changed_at DESC, id")]


def put_plan(db: Db, ident: str, text: str, at: float, *, based_on: int | None) -> PlanRow:
    """Store a new version. `based_on` is the version that was edited (None: whatever is there).

    Raises: Conflict when somebody else changed the plan meanwhile; nothing is stored then.
    """
    row = db.execute("SELECT version FROM plan WHERE id = ?", (ident,)).fetchone()
    version = row["version"] if row else 0
    if based_on is not None and based_on != version:
        raise Conflict(
            f"plan “{ident}” was changed by another user (version {version}, your edit was of"
            f" {based_on})",
            code="plan-changed",
            hint="Your edit is kept. Check the new version and repeat it.",
        )
    db.execute(
        "INSERT INTO plan VALUES (?, ?, ?, ?) ON CONFLICT DO UPDATE SET version = excluded.version,"
        " text = excluded.text, changed_at = excluded.changed_at",
        (ident, version + 1, text, at),
    )
    db.execute("INSERT INTO plan_version VALUES (?, ?, ?, ?)", (ident, version + 1, text, at))
    return PlanRow(ident, version + 1, text, at)


def plan_changes(db: Db, ident: str, limit: int) -> list[tuple[int, float]]:
    """(version, instant) of a plan's changes, the newest first."""
    rows = db.execute(
        "SELECT version, at FROM plan_version WHERE plan = ? ORDER BY version DESC LIMIT ?",
        (ident, limit),
    )
    return [(row["version"], row["at"]) for row in rows]


def plan_version(db: Db, ident: str, version: int) -> str:
    """The text of an older version. Raises NotFound."""
    row = db.execute(
        "SELECT text FROM plan_version WHERE plan = ? AND version = ?", (ident, version)
    ).fetchone()
    if row is None:
        raise NotFound(f"plan “{ident}” has no version {version}")
    return str(row["text"])


def remove_plan(db: Db, ident: str) -> None:
    """Forget a plan with its keyring entries; its runs keep their own copy. Raises NotFound."""
    if db.execute("DELETE FROM plan WHERE id = ?", (ident,)).rowcount == 0:
        raise NotFound(f"there is no plan “{ident}”")
    db.execute("DELETE FROM secret WHERE substr(name, 1, length(?1)) = ?1", (f"plan/{ident}/",))
    db.execute("UPDATE change_count SET number = number + 1 WHERE what = 'claims'")


def pins(db: Db) -> dict[str, str]:
    """place → fingerprint."""
    return {
        row["place"]: row["fingerprint"] for row in db.execute("SELECT place, fingerprint FROM pin")
    }


def get_pin(db: Db, place: str) -> str | None:
    """The pinned fingerprint of a place."""
    row = db.execute("SELECT fingerprint FROM pin WHERE place = ?", (place,)).fetchone()
    return str(row["fingerprint"]) if row else None


def put_pin(db: Db, place: str, fingerprint: str, at: float) -> None:
    """Pin at first use; an existing pin stays."""
    db.execute("INSERT INTO pin VALUES (?, ?, ?) ON CONFLICT DO NOTHING", (place, fingerprint, at))


def replace_pin(db: Db, place: str, fingerprint: str, at: float) -> None:
    """Pin what a person confirmed, in place of what was pinned there."""
    db.execute("INSERT OR REPLACE INTO pin VALUES (?, ?, ?)", (place, fingerprint, at))


def drop_pins(db: Db, address: str) -> None:
    """Forget what was pinned at an address, whatever its port: another node is there now."""
    db.execute(
        "DELETE FROM pin WHERE substr(place, 1, length(?) + 1) = ? || ':'", (address, address)
    )


def drop_pin(db: Db, place: str) -> None:
    """Forget a pin."""
    db.execute("DELETE FROM pin WHERE place = ?", (place,))


def get_meta(db: Db, key: str) -> str | None:
    """A single setting."""
    row = db.execute("SELECT value FROM meta WHERE key = ?", (key,)).fetchone()
    return str(row["value"]) if row else None


def meta_under(db: Db, prefix: str) -> list[str]:
    """Keys that begin so."""
    rows = db.execute(
        "SELECT key FROM meta WHERE substr(key, 1, length(?1)) = ?1 ORDER BY key", (prefix,)
    )
    return [row["key"] for row in rows]


def drop_meta(db: Db, key: str) -> None:
    """Forget a single setting; with a slash at the end all below it."""
    db.execute(
        "DELETE FROM meta WHERE key = ?1 OR (?1 LIKE '%/' AND substr(key, 1, length(?1)) = ?1)",
        (key,),
    )


def put_meta(db: Db, key: str, value: str) -> None:
    """Set a single setting."""
    db.execute(
        "INSERT INTO meta VALUES (?, ?) ON CONFLICT DO UPDATE SET value = excluded.value",
        (key, value),
    )
