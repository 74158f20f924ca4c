"""A disk that is full in the middle of a run: the run waits, says so, goes on by itself, and
nothing is done twice.
"""

from __future__ import annotations

import asyncio
import sqlite3
from pathlib import Path

import pytest

from nimble_stone.core.errors import InputError, StoreError
from nimble_stone.engine.engine import Engine
from nimble_stone.store import records, runs
from nimble_stone.store.connect import Store
from tests.engine.test_driver import (
    Ground,
    ScriptedPorts,
    place,  # noqa: F401  # a fixture
    states,
    until,
)


def limited(ports: ScriptedPorts, pages: int) -> None:
    """Let the real database take no further page, or lots of them."""
    ports.store._writer.submit(
        lambda: ports.store._connection.execute(f"PRAGMA max_page_count = {pages}").fetchone()
    ).result()


def pages(ports: ScriptedPorts) -> int:
    return int(
        ports.store._writer.submit(
            lambda: ports.store._connection.execute("PRAGMA page_count").fetchone()[0]
        ).result()
    )


async def test_a_full_disk_stops_a_run_visibly_and_it_goes_on_by_itself(
    place: tuple[ScriptedPorts, Ground, str],  # noqa: F811
    caplog: pytest.LogCaptureFixture,
) -> None:
    ports, ground, run = place
    tries = [0]
    plain = ports.store.write

    async def counted(*args: object, **kwargs: object) -> object:
        tries[0] += bool(ports.trouble)
        return await plain(*args, **kwargs)  # type: ignore[arg-type]

    ports.store.write = counted  # type: ignore[method-assign,assignment]
    engine = Engine(ports)
    opened = asyncio.Event()

    async def gate(key: str) -> None:
        if key == "carry/kelda-shared":
            limited(ports, pages(ports))
            opened.set()

    ground.gate = gate
    await engine.open()
    await asyncio.wait_for(opened.wait(), 20)
    # Rows that still fit are kept; sooner or later a page is needed.

    async def full() -> bool:
        return ports.trouble != ""

    filler = asyncio.create_task(_fill(ports))
    await until(full)
    filler.cancel()
    assert "disk is full" in ports.trouble
    before = tries[0]
    for _ in range(200):
        await asyncio.sleep(0.001)
    ground.gate = None
    limited(ports, 1 << 30)
    await asyncio.wait_for(engine.idle(), 20)
    assert ports.trouble == ""
    assert (await ports.store.read(runs.get_run, run)).state == "done"
    assert set((await states(ports, run)).values()) == {"done"}
    assert sum("runs wait" in record.message for record in caplog.records) == 1
    # it paused before each look: no spin
    assert ports.paused >= tries[0] - before - 5
    assert max(ground.made.values()) == 1
    await engine.close()


async def _fill(ports: ScriptedPorts) -> None:
    while True:
        try:
            await ports.store.write(records.put_meta, f"filler {ports.clock()}", "x" * 3000)
        except StoreError:
            await asyncio.sleep(0.001)


async def test_what_sqlite_says_is_said_in_words(tmp_path: Path) -> None:
    store = Store(tmp_path / "n.db")

    def failing(error: Exception) -> object:
        def work(db: sqlite3.Connection) -> None:
            raise error

        return work

    for error, code in (
        (sqlite3.OperationalError("database or disk is full"), "store-full"),
        (sqlite3.OperationalError("database is locked"), "store-locked"),
        (sqlite3.OperationalError("disk I/O error"), "store-io"),
        (sqlite3.DatabaseError("database disk image is malformed"), "store-damaged"),
    ):
        for call in (store.write, store.read):
            with pytest.raises(StoreError) as caught:
                await call(failing(error))  # type: ignore[arg-type]
            assert caught.value.code == code
            assert caught.value.hint
    with pytest.raises(InputError, match="too large"):
        await store.write(records.put_meta, "x", 10**30)  # type: ignore[arg-type]
    with pytest.raises(sqlite3.IntegrityError):
        await store.write(failing(sqlite3.IntegrityError("a fault of ours")))  # type: ignore[arg-type]
    await store.write(records.put_meta, "x", "still writes")
    assert await store.read(records.get_meta, "x") == "still writes"
    store.close()
