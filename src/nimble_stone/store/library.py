"""Plain functions over the tables around packages: take-ins, trusted publishers, accepted licences,
copies on datastores.
"""

from __future__ import annotations

import json
import sqlite3
from dataclasses import dataclass
from typing import Any

from nimble_stone.core.errors import NotFound

Db = sqlite3.Connection
KEPT_ENDED = 200


@dataclass(frozen=True)
class TakeInFile:
    """A file that is to come: `size` in bytes, None until it is known."""

    name: str
    size: int | None


@dataclass(frozen=True)
class TakeIn:
    """An attempt to bring a package in. `origin`: the URL or path; `problem`: JSON of what went
    wrong.
    """

    id: str
    source: str
    name: str
    origin: str
    state: str
    files: tuple[TakeInFile, ...]
    sha256: str
    package: str
    problem: dict[str, Any]
    began_at: float
    changed_at: float


def _take_in(row: sqlite3.Row) -> TakeIn:
    return TakeIn(
        row["id"],
        row["source"],
        row["name"],
        row["origin"],
        row["state"],
        tuple(TakeInFile(**f) for f in json.loads(row["files"])),
        row["sha256"],
        row["package"],
        json.loads(row["problem"] or "{}"),
        row["began_at"],
        row["changed_at"],
    )


def put_take_in(db: Db, t: TakeIn) -> None:
    """Add an attempt, or change one that has not ended: what has ended stays as it ended, whoever
    was still at work on it.
    """
    db.execute(
        "INSERT INTO take_in VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET"
        " state = excluded.state, files = excluded.files, package = excluded.package, problem ="
        " excluded.problem, changed_at = excluded.changed_at, name = excluded.name WHERE"
        " take_in.state IN ('receiving','verifying')",
        (
            t.id,
            t.source,
            t.name,
            t.origin,
            t.state,
            json.dumps([{"name": f.name, "size": f.size} for f in t.files]),
            t.sha256,
            t.package,
            json.dumps(t.problem) if t.problem else "",
            t.began_at,
            t.changed_at,
        ),
    )


def touch_take_in(db: Db, ident: str, at: float) -> None:
    """Note that something arrived."""
    db.execute(
        "UPDATE take_in SET changed_at = ? WHERE id = ? AND state = 'receiving'", (at, ident)
    )


def take_ins(db: Db, *, active: bool = False) -> list[TakeIn]:
    """All attempts, newest first; or only those under way."""
    where = "WHERE state IN ('receiving','verifying')" if active else ""
    # made of constants only
    query = f"SELECT * FROM take_in {where} ORDER BY began_at DESC, id LIMIT ?"  # noqa: S608
    return [_take_in(row) for row in db.execute(query, (KEPT_ENDED,))]


def get_take_in(db: Db, ident: str) -> TakeIn:
    """Raises NotFound."""
    row = db.execute("SELECT * FROM take_in WHERE id = ?", (ident,)).fetchone()
    if row is None:
        raise NotFound("there is no such import")
    return _take_in(row)


def drop_take_in(db: Db, ident: str) -> None:
    """Forget an attempt that has ended."""
    db.execute(
        "DELETE FROM take_in WHERE id = ? AND state NOT IN ('receiving','verifying')", (ident,)
    )


@dataclass(frozen=True)
class Trusted:
    """A publisher's or authority's certificate on the trust list."""

    fingerprint: str
    subject: str
    not_after: float
    pem: str
    added_at: float


def put_trusted(db: Db, t: Trusted) -> None:
    """Trust a certificate; once more changes nothing."""
    db.execute(
        "INSERT INTO trusted VALUES (?, ?, ?, ?, ?) ON CONFLICT DO NOTHING",
        (t.fingerprint, t.subject, t.not_after, t.pem, t.added_at),
    )


def trusted(db: Db) -> list[Trusted]:
    """The trust list."""
    return [Trusted(*row) for row in db.execute("SELECT * FROM trusted ORDER BY subject")]


def drop_trusted(db: Db, fingerprint: str) -> None:
    """Trust it no longer. Raises NotFound."""
    if db.execute("DELETE FROM trusted WHERE fingerprint = ?", (fingerprint,)).rowcount == 0:
        raise NotFound("no such certificate is trusted")


@dataclass(frozen=True)
class Accepted:
    """A licence text that somebody accepted."""

    text_sha256: str
    by: str
    at: float
    package: str


def put_accepted(db: Db, a: Accepted) -> None:
    """Record an acceptance; the first time of each person stays."""
    db.execute(
        "INSERT INTO acceptance VALUES (?, ?, ?, ?) ON CONFLICT DO NOTHING",
        (a.text_sha256, a.by, a.at, a.package),
    )


def accepted(db: Db, text_sha256: str) -> list[Accepted]:
    """Who accepted a text, first ones first."""
    return [
        Accepted(*row)
        for row in db.execute(
            "SELECT * FROM acceptance WHERE text_sha256 = ? ORDER BY at", (text_sha256,)
        )
    ]


@dataclass(frozen=True)
class Copy:
    """A disk of a package on a datastore. `host` is one through which the datastore is reached;
    sizes in bytes.
    """

    place: str
    name: str
    digest: str
    size: int
    package: str
    host: str
    datastore: str
    made_by: str
    made_at: float
    used_at: float


def put_copy(db: Db, c: Copy) -> None:
    """Note a copy, or that it was used again."""
    db.execute(
        "INSERT INTO copy VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET used_at ="
        " excluded.used_at, host = excluded.host, size = excluded.size, digest = excluded.digest",
        (
            c.place,
            c.name,
            c.digest,
            c.size,
            c.package,
            c.host,
            c.datastore,
            c.made_by,
            c.made_at,
            c.used_at,
        ),
    )


def copies(db: Db, package: str = "") -> list[Copy]:
    """All copies, or those of one package."""
    rows = db.execute(
        "SELECT * FROM copy WHERE ?1 = '' OR package = ?1 ORDER BY place, name", (package,)
    )
    return [Copy(*row) for row in rows]


def drop_copy(db: Db, place: str, name: str) -> None:
    """Forget a copy that is no longer there."""
    db.execute("DELETE FROM copy WHERE place = ? AND name = ?", (place, name))
