"""The database: what is committed stays, what is not leaves no trace, and the journal cannot be
rewritten.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from pathlib import Path

import pytest

from nimble_stone.core.errors import Conflict, NotFound, StoneError, StoreError
from nimble_stone.core.estate import EstateFile, Facts, Guest
from nimble_stone.core.runs.states import RunState
from nimble_stone.lab.scenario import demo
from nimble_stone.store import access, designs, records, runs
from nimble_stone.store.connect import Store, connect, migrate, transaction
from nimble_stone.store.designs import ClaimRow, Holding, MemberRow


@pytest.fixture
def db(tmp_path: Path) -> Iterator[sqlite3.Connection]:
    connection = connect(tmp_path / "n.db")
    migrate(connection)
    yield connection
    connection.close()


def add_run(db: sqlite3.Connection, ident: str = "r1", plan: str = "western") -> None:
    records.put_package(
        db, records.PackageRow("a" * 64, "Gauge Collector", "4.2.0", {}, 1, 1, "x", 1.0)
    )
    runs.add_run(
        db, runs.RunRow(ident, plan, "a" * 64, "running", {"steps": []}, 1.0, None), ["one", "two"]
    )


def test_the_journal_refuses_change_and_removal(db: sqlite3.Connection) -> None:
    add_run(db)
    for statement in ("UPDATE run_event SET kind = 'x'", "DELETE FROM run_event"):
        with pytest.raises(sqlite3.IntegrityError, match="append-only"):
            db.execute(statement)


def test_a_steps_state_and_its_entry_are_written_together_or_not_at_all(
    db: sqlite3.Connection,
) -> None:
    add_run(db)

    def broken_off() -> None:
        with transaction(db):
            runs.move_step(db, "r1", "one", 2.0, "begun", state="working", new_attempt=True)
            raise RuntimeError("the power goes")

    with pytest.raises(RuntimeError):
        broken_off()
    assert [(step.state, step.attempt) for step in runs.steps(db, "r1")] == [
        ("planned", 0),
        ("planned", 0),
    ]
    assert [event.kind for event in runs.events(db, "r1")] == ["run-started"]
    with transaction(db):
        runs.move_step(db, "r1", "one", 2.0, "begun", state="working", new_attempt=True)
        runs.move_step(
            db, "r1", "one", 3.0, "done", state="done", ended=True, payload={"found": {"bytes": 7}}
        )
    step = runs.steps(db, "r1")[0]
    assert (step.state, step.attempt, step.started_at, step.ended_at) == ("done", 1, 2.0, 3.0)
    assert runs.last_events(db, "r1", 1)[0].payload == {"state": "done", "found": {"bytes": 7}}


def test_a_plan_has_one_active_run(db: sqlite3.Connection) -> None:
    add_run(db)
    with pytest.raises(Conflict, match="still running"):
        add_run(db, "r2")
    runs.move_run(db, "r1", 4.0, "undo-asked", RunState.UNDOING)
    runs.move_run(db, "r1", 5.0, "taken-back", RunState.UNDONE)
    add_run(db, "r2")
    assert [run.id for run in runs.runs(db, active=True)] == ["r2"]
    assert runs.get_run(db, "r1").ended_at == 4.0


def test_states_that_are_none_are_refused(db: sqlite3.Connection) -> None:
    """By the database itself, whoever writes."""
    add_run(db)
    for table in ("run", "run_step"):
        with pytest.raises(sqlite3.IntegrityError):
            db.execute(f"UPDATE {table} SET state = 'happy'")


def test_versions_of_a_plan_are_kept_and_a_stale_edit_is_refused(db: sqlite3.Connection) -> None:
    assert records.put_plan(db, "p", "one", 1.0, based_on=0).version == 1
    assert records.put_plan(db, "p", "two", 2.0, based_on=1).version == 2
    with pytest.raises(Conflict):
        records.put_plan(db, "p", "three", 3.0, based_on=1)
    assert records.get_plan(db, "p").text == "two"
    assert records.plan_version(db, "p", 1) == "one"
    records.remove_plan(db, "p")
    for missing in (
        lambda: records.get_plan(db, "p"),
        lambda: records.plan_version(db, "p", 1),
        lambda: records.remove_plan(db, "p"),
    ):
        with pytest.raises(NotFound):
            missing()


def test_a_host_that_cannot_be_read_keeps_its_last_facts(db: sqlite3.Connection) -> None:
    records.put_facts(
        db, Facts(host="gannet", read_at=1.0, memory_bytes=7, guests=(Guest(name="x"),))
    )
    kept = records.put_facts(
        db, Facts(host="gannet", read_at=2.0, trouble="it is gone", trouble_code="unreachable")
    )
    assert (kept.memory_bytes, kept.read_at, kept.trouble) == (7, 1.0, "it is gone")
    assert records.put_facts(db, Facts(host="gannet", read_at=3.0, memory_bytes=8)).trouble == ""


def test_the_estate_is_merged_by_name(db: sqlite3.Connection) -> None:
    whole = demo.estate_file(demo.plan())
    records.merge_estate(db, whole)
    records.merge_estate(
        db, EstateFile(hosts=(whole.hosts[0].model_copy(update={"bay": "elsewhere"}),))
    )
    found = records.load_estate(db)
    assert len(found.hosts) == 8
    assert [host.name for host in found.bay("elsewhere")] == [whole.hosts[0].name]


def test_a_package_that_a_run_was_made_with_stays(db: sqlite3.Connection) -> None:
    add_run(db)
    with pytest.raises(Conflict):
        records.remove_package(db, "a" * 64)
    assert records.find_package(db, "Gauge Collector 4.2.0") is not None
    assert records.find_package(db, "a" * 12) is not None
    assert records.find_package(db, "aaa") is None


def test_long_answers_are_shortened_in_the_middle(db: sqlite3.Connection) -> None:
    runs.add_transcript(
        db, "r1", "one", 1.0, "gannet", "virsh list", "a" * 15_000 + "b" * 15_000, 0, 0.1
    )
    answer = runs.transcript(db, "r1", "one")[0]["answer"]
    assert len(answer) < 21_000
    assert answer.startswith("a")
    assert answer.endswith("b")
    assert "10000 characters left out" in answer


def test_sessions_and_pins_end_as_they_should(db: sqlite3.Connection) -> None:
    access.put_session(db, "h1", "csrf", 10.0, 1.0)
    assert access.get_session(db, "h1", 5.0) == "csrf"
    assert access.get_session(db, "h1", 11.0) is None
    records.put_pin(db, "10.44.1.11:22", "SHA256:a", 1.0)
    records.put_pin(db, "10.44.1.11:22", "SHA256:b", 2.0)
    # the first one stays until a person forgets it
    assert records.get_pin(db, "10.44.1.11:22") == "SHA256:a"
    records.drop_pin(db, "10.44.1.11:22")
    assert records.get_pin(db, "10.44.1.11:22") is None


def test_a_newer_database_is_refused_and_nothing_is_changed(tmp_path: Path) -> None:
    connection = connect(tmp_path / "n.db")
    connection.execute("PRAGMA user_version = 99")
    connection.close()
    with pytest.raises(StoneError, match="version 99"):
        Store(tmp_path / "n.db")


async def test_readers_cannot_write(tmp_path: Path) -> None:
    store = Store(tmp_path / "n.db")
    with pytest.raises(StoreError, match="readonly"):
        await store.read(records.put_meta, "a", "b")
    await store.write(records.put_meta, "a", "b")
    assert await store.read(records.get_meta, "a") == "b"
    store.close()


def test_a_plan_and_what_it_holds_are_stored_together_or_not_at_all(tmp_path: Path) -> None:
    db = connect(tmp_path / "h.db")
    migrate(db)

    def put(plan: str, based_on: int, node: str, *members: str) -> None:
        with transaction(db):
            designs.put_plan(
                db,
                plan,
                "text",
                1.0,
                based_on,
                Holding(
                    (ClaimRow(plan, node, node, "gannet", True, 8, 2, {"cold": (1, 5)}),),
                    tuple(MemberRow(m, f"{node}/address", True) for m in members),
                ),
            )

    put("one", 0, "lead-1", "10.0.0.1", "10.0.0.2")
    number = designs.numbers(db)[1]
    with pytest.raises(Conflict):
        # somebody else was first: neither text nor claims change
        put("one", 0, "lead-9", "10.0.0.9")
    assert designs.numbers(db)[1] == number
    assert [(row.node, row.stores) for row in designs.claims(db)] == [("lead-1", {"cold": (1, 5)})]
    # one of them is held already, and stays where it is
    put("two", 0, "lead-1", "10.0.0.2", "10.0.0.3")
    assert {(member, plan) for member, plan, _, _ in designs.members(db)} == {
        ("10.0.0.1", "one"),
        ("10.0.0.2", "one"),
        ("10.0.0.3", "two"),
    }
    with transaction(db):
        records.remove_plan(db, "one")
    assert {(member, plan) for member, plan, _, _ in designs.members(db)} == {("10.0.0.3", "two")}


def test_a_pool_of_an_earlier_time_that_is_no_range_keeps_nobody_from_the_estate(
    tmp_path: Path,
) -> None:
    db = connect(tmp_path / "x.db")
    migrate(db)
    good = '{"name": "a", "network": "n", "first": "10.0.0.1", "last": "10.0.0.9"}'
    db.execute(
        "INSERT INTO estate_item VALUES ('pool', 'a', ?), ('pool', 'b', ?)",
        (good, good.replace('"a"', '"b"').replace("10.0.0.1", "10.0.0.11")),
    )
    assert [pool.name for pool in records.load_estate(db).pools] == ["a"]
