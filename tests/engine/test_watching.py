"""The readings on a schedule: whose turn it is, one after the other, and off when it is wished."""

from __future__ import annotations

import sqlite3
from collections.abc import AsyncIterator
from pathlib import Path

import pytest

from nimble_stone.app import drift
from nimble_stone.app.application import Application
from nimble_stone.core.drift import Drift
from nimble_stone.core.errors import InputError, Unreachable
from nimble_stone.keyring import Vault
from nimble_stone.store import drift as kept
from nimble_stone.store.connect import Store


class Timed(Application):
    """Its clock stands still until it is put forward."""

    at = 1_000_000.0


@pytest.fixture
async def app(tmp_path: Path) -> AsyncIterator[Timed]:
    store = Store(tmp_path / "n.db")

    def three(db: sqlite3.Connection) -> None:
        for plan, state in (("a", "done"), ("b", "unproved"), ("c", "running"), ("d", "undone")):
            db.execute(
                "INSERT INTO plan (id, version, text, changed_at) VALUES (?, 1, '', 1)", (plan,)
            )
            db.execute(
                "INSERT INTO run (id, kind, plan, state, doc, started_at)"
                " VALUES (?, 'rollout', ?, ?, '{}', 1)",
                (f"r{plan}", plan, state),
            )

    await store.write(three)
    timed = Timed(store, Vault(b"k" * 32), None, tmp_path)  # type: ignore[arg-type]
    timed.clock = lambda: timed.at
    yield timed
    store.close()


def ended(db: sqlite3.Connection, run: str, column: str, at: float) -> None:
    db.execute(f"UPDATE run SET {column} = ? WHERE id = ?", (at, run))


async def test_each_deployment_is_read_when_its_turn_comes(
    app: Timed, monkeypatch: pytest.MonkeyPatch
) -> None:
    asked: list[str] = []

    async def read(app: Timed, plan: str) -> list[Drift]:
        asked.append(plan)
        await app.store.write(kept.put, plan, [], kept.Reading(plan, app.clock(), 1, 0, ""))
        if plan == "a":
            raise Unreachable("its host is silent", target="gannet")
        return []

    monkeypatch.setattr(drift, "read", read)
    watcher = drift.Watcher(app)
    # what is under way or rolled back is not read; one that fails keeps no other from its turn
    assert await watcher.due() == ["a", "b"]
    assert await watcher.due() == []
    app.at += 59 * 60
    assert await watcher.due() == []
    await drift.set_every(app, 30)
    assert await watcher.due() == ["a", "b"]
    # a run that has ended since, or was rolled back, changed what was read
    for column in ("ended_at", "undone_at"):
        app.at += 60
        await app.store.write(ended, "rb", column, app.at)
        app.at += 1
        assert await watcher.due() == ["b"]
        assert await watcher.due() == []
    app.at += 10_000_000
    await drift.set_every(app, 0)
    assert await watcher.due() == []
    assert asked == ["a", "b", "a", "b", "b", "b"]
    for wrong in (-1, drift.MOST_MIN + 1):
        with pytest.raises(InputError):
            await drift.set_every(app, wrong)
