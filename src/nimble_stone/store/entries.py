"""Plain functions over the tables of secrets and of what was granted to plans."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass

from nimble_stone.core.errors import NotFound

Db = sqlite3.Connection


@dataclass(frozen=True)
class EntryRow:
    """A keyring entry without its value, and the plans it was granted to."""

    name: str
    kind: str
    made_at: float
    plans: tuple[str, ...]


def put_secret(db: Db, name: str, kind: str, sealed: bytes, at: float) -> None:
    """Keep a sealed secret, replacing one with this name; grants stay."""
    db.execute(
        "INSERT INTO secret VALUES (?, ?, ?, ?) ON CONFLICT DO UPDATE SET kind = excluded.kind,"
        " sealed = excluded.sealed, made_at = excluded.made_at",
        (name, kind, sealed, at),
    )


def get_secret(db: Db, name: str) -> tuple[str, bytes] | None:
    """(kind, sealed) or None."""
    row = db.execute("SELECT kind, sealed FROM secret WHERE name = ?", (name,)).fetchone()
    return (row["kind"], row["sealed"]) if row else None


def drop_secrets(db: Db, prefix: str) -> None:
    """Forget all entries whose names begin so."""
    db.execute("DELETE FROM secret WHERE substr(name, 1, length(?1)) = ?1", (prefix,))


def drop_secret(db: Db, name: str) -> None:
    """Forget one entry. Raises NotFound."""
    if db.execute("DELETE FROM secret WHERE name = ?", (name,)).rowcount == 0:
        raise NotFound(f"the keyring has no entry “{name}”")


def entries(db: Db) -> list[EntryRow]:
    """All entries by name."""
    plans: dict[str, list[str]] = {}
    for row in db.execute("SELECT secret, plan FROM secret_grant ORDER BY plan"):
        plans.setdefault(row["secret"], []).append(row["plan"])
    return [
        EntryRow(row["name"], row["kind"], row["made_at"], tuple(plans.get(row["name"], ())))
        for row in db.execute("SELECT name, kind, made_at FROM secret ORDER BY name")
    ]


def granted(db: Db, plan: str) -> frozenset[str]:
    """Names of the entries that were granted to a plan."""
    rows = db.execute("SELECT secret FROM secret_grant WHERE plan = ?", (plan,))
    return frozenset(row["secret"] for row in rows)


def grant(db: Db, name: str, plan: str, at: float) -> None:
    """Let a plan open an entry. Raises NotFound when there is no such entry or plan."""
    if get_secret(db, name) is None:
        raise NotFound(f"the keyring has no entry “{name}”")
    if db.execute("SELECT 1 FROM plan WHERE id = ?", (plan,)).fetchone() is None:
        raise NotFound(f"there is no plan “{plan}”", hint="Save the plan first.")
    db.execute("INSERT INTO secret_grant VALUES (?, ?, ?) ON CONFLICT DO NOTHING", (name, plan, at))


def revoke(db: Db, name: str, plan: str) -> None:
    """Take a grant away; one that was never given is no trouble."""
    db.execute("DELETE FROM secret_grant WHERE secret = ? AND plan = ?", (name, plan))
