"""An older database is brought forward and then is what a new one is; nothing of it is lost."""

from __future__ import annotations

import hashlib
import json
import sqlite3
from pathlib import Path

import pytest

from nimble_stone.app.kits import load_kits
from nimble_stone.app.upgrades import STEPS, bring_forward
from nimble_stone.core.disk.source import BytesSource
from nimble_stone.core.errors import StoneError
from nimble_stone.core.package.contents import examine
from nimble_stone.core.package.given import Given
from nimble_stone.core.runs import document
from nimble_stone.core.runs.states import RunState
from nimble_stone.engine.frozen import thawed
from nimble_stone.lab.scenario import appliance
from nimble_stone.packages import stored
from nimble_stone.server.app import open_application
from nimble_stone.store import connect as connect_module
from nimble_stone.store import library, records, runs
from nimble_stone.store.connect import SCHEMA_VERSION, connect, migrate
from nimble_stone.store.folder import DATABASE
from tests.support.processes import ServerProcess

DOCUMENTS = Path(__file__).parents[1] / "data" / "run-documents"
OLD = (Path(__file__).parent / "schema_1.sql").read_text()


def shape(db: sqlite3.Connection) -> dict[str, list[tuple[object, ...]]]:
    """Tables with their columns, as SQLite understands them."""
    names = [
        row[0]
        for row in db.execute(
            "SELECT name FROM sqlite_master WHERE type IN ('table', 'trigger', 'index') AND name"
            " NOT LIKE 'sqlite_%'"
        )
    ]
    return {
        name: [tuple(row)[1:] for row in db.execute(f"PRAGMA table_info({name})")]
        for name in sorted(names)
    }


def old_database(path: Path) -> sqlite3.Connection:
    db = connect(path)
    db.executescript(OLD)
    db.execute("PRAGMA user_version = 1")
    return db


def test_both_ways_lead_to_one_schema(tmp_path: Path) -> None:
    old, new = old_database(tmp_path / "old.db"), connect(tmp_path / "new.db")
    old.execute(
        "INSERT INTO package VALUES ('abc', 'Gauge Collector', '4.2.0', '{}', 5, 6, 'x.ova', 7.0)"
    )
    old.execute(
        'INSERT INTO estate_item VALUES (\'network\', \'survey\', \'{"name": "survey", "subnet":'
        ' "10.44.20.0/23", "gateway": "10.44.20.1"}\')'
    )
    old.execute("INSERT INTO run VALUES ('r1', 'western', 'abc', 'done', '{}', 1.0, 2.0)")
    old.execute("INSERT INTO run_step (run, key, place, state) VALUES ('r1', 'carry', 0, 'done')")
    old.execute(
        "INSERT INTO run_event (run, at, step, kind, payload) VALUES ('r1', 1.0, 'carry', 'done',"
        " '{}')"
    )
    migrate(old)
    migrate(new)
    assert shape(old) == shape(new)
    row = records.packages(old)[0]
    assert (row.product, row.kind, row.channel, row.note) == ("Gauge Collector", "ova", "", "")
    assert library.take_ins(old) == []
    run = runs.get_run(old, "r1")
    assert (run.kind, run.plan, run.package, run.state) == ("rollout", "western", "abc", "done")
    assert [step.key for step in runs.steps(old, "r1")] == ["carry"]
    assert [event.kind for event in runs.events(old, "r1")] == ["done"]
    assert [network.name for network in records.load_estate(old).networks] == ["survey"]
    assert old.execute("PRAGMA foreign_keys").fetchone()[0] == 1
    assert old.execute("PRAGMA foreign_key_check").fetchall() == []
    migrate(old)  # once more changes nothing
    assert shape(old) == shape(new)


def test_a_newer_database_is_refused(tmp_path: Path) -> None:
    db = connect(tmp_path / "n.db")
    db.execute(f"PRAGMA user_version = {SCHEMA_VERSION + 1}")
    with pytest.raises(StoneError, match="newer|version"):
        migrate(db)


def test_packages_of_the_first_version_are_found_again_and_read_anew(tmp_path: Path) -> None:
    data = appliance.ova(mib=1)
    sha = hashlib.sha256(data).hexdigest()
    folder = tmp_path / "data"
    (folder / "packages").mkdir(parents=True)
    (folder / "packages" / f"{sha}.ova").write_bytes(data)
    db = old_database(folder / "nimble-stone.db")
    db.execute(
        "INSERT INTO package VALUES (?, 'Gauge Collector', '4.2.0', ?, ?, 6, 'x.ova', 7.0)",
        (sha, json.dumps({"descriptor": "of another shape"}), len(data)),
    )
    db.close()
    server = ServerProcess(folder)
    try:
        found = server.client().call("GET", f"/api/packages/{sha}")
        assert (found["product"], found["manifest"], len(found["sizes"])) == (
            "Gauge Collector",
            "verified",
            3,
        )
    finally:
        server.stop()


@pytest.mark.parametrize("version", range(1, SCHEMA_VERSION))
def test_a_database_of_every_past_version_upgrades(tmp_path: Path, version: int) -> None:
    """Made by the scripts that once made it; its runs and steps are there afterwards."""
    old, new = old_database(tmp_path / "old.db"), connect(tmp_path / "new.db")
    scripts = Path(connect_module.__file__).parent / "migrations"
    for number in range(2, version + 1):
        old.executescript((scripts / f"{number:04d}.sql").read_text())
        old.execute(f"PRAGMA user_version = {number}")
    old.execute(
        "INSERT INTO package (sha256, product, version, doc, size, thin_bytes, file_name, added_at)"
        " VALUES ('abc', 'Gauge Collector', '4.2.0', '{}', 5, 6, 'x.ova', 7.0)"
    )
    kind = ("", "") if version < 3 else ("kind, ", "'rollout', ")
    old.execute(
        f"INSERT INTO run (id, {kind[0]}plan, package, state, doc, started_at) VALUES"
        f" ('r', {kind[1]}'p', 'abc', 'done', '{{}}', 1.0)"
    )
    migrate(old)
    migrate(new)
    assert shape(old) == shape(new)
    assert runs.get_run(old, "r").state == "done"
    copy = Path(f"{tmp_path / 'old.db'}.before-{SCHEMA_VERSION}")
    assert copy.exists(), "as it was before"
    assert connect(copy).execute("PRAGMA user_version").fetchone()[0] == version


async def test_data_of_earlier_versions_is_brought_forward_once(tmp_path: Path) -> None:
    data = appliance.ova(mib=1)
    sha = hashlib.sha256(data).hexdigest()
    app = open_application(tmp_path, 1.0)
    kept = json.loads((DOCUMENTS / "version-1.json").read_text())
    learned = kept.pop("learned")
    blob = stored.blob(app.packages, sha)
    blob.parent.mkdir(parents=True)
    blob.write_bytes(data)
    contents = examine([Given("x.ova", BytesSource(data), sha)])
    row = records.PackageRow(sha, "Gauge Collector", "4.2.0", stored.dump(contents), 1, 1, "x", 1)
    await app.store.write(records.put_package, row)
    run = runs.RunRow("r", "western", sha, RunState.RUNNING, kept, 1.0, None)
    await app.store.write(runs.add_run, run, [step["key"] for step in kept["steps"]])
    damaged = runs.RunRow("d", "lost", sha, RunState.RUNNING, {"plan": "mud"}, 1.0, None)
    await app.store.write(runs.add_run, damaged, [])
    for node, values in learned.items():
        await app.store.write(runs.learn, "r", node, values)
    before = await thawed(app.store, await app.store.read(runs.get_run, "r"))
    await bring_forward(app, load_kits())
    after = await app.store.read(runs.get_run, "r")
    assert after.doc["version"] == document.VERSION
    again = await thawed(app.store, after)
    assert again.steps == before.steps
    assert {n.id: (n.size, n.full_bytes, n.value("address")) for n in again.sheet.nodes} == {
        n.id: (n.size, n.full_bytes, n.value("address")) for n in before.sheet.nodes
    }
    assert (await app.store.read(runs.get_run, "d")).doc == {"plan": "mud"}, "left as it is"
    copy = tmp_path / f"{DATABASE}.before-data-{STEPS[-1].number}"
    assert json.loads(connect(copy).execute("SELECT doc FROM run").fetchone()["doc"]) == kept
    written = app.store.write
    app.store.write = None  # type: ignore[method-assign,assignment]
    await bring_forward(app, load_kits())
    app.store.write = written  # type: ignore[method-assign]
    app.store.close()
