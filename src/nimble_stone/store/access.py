"""Plain functions over sessions and tokens: who is signed in, and with what. Only digests
are kept.
"""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass

from nimble_stone.core.errors import NotFound

Db = sqlite3.Connection


@dataclass(frozen=True)
class TokenRow:
    """A token without its value."""

    id: str
    name: str
    made_at: float
    used_at: float | None


def put_session(db: Db, token_sha256: str, csrf: str, expires_at: float, now: float) -> None:
    """Keep a session; expired ones go."""
    db.execute("DELETE FROM session WHERE expires_at < ?", (now,))
    db.execute("INSERT INTO session VALUES (?, ?, ?)", (token_sha256, csrf, expires_at))


def get_session(db: Db, token_sha256: str, now: float) -> str | None:
    """The session's CSRF token, None when there is no such session or it has expired."""
    row = db.execute(
        "SELECT csrf FROM session WHERE token_sha256 = ? AND expires_at > ?", (token_sha256, now)
    ).fetchone()
    return str(row["csrf"]) if row else None


def drop_session(db: Db, token_sha256: str) -> None:
    """End a session."""
    db.execute("DELETE FROM session WHERE token_sha256 = ?", (token_sha256,))


def drop_sessions(db: Db) -> int:
    """End all sessions; how many there were."""
    return db.execute("DELETE FROM session").rowcount


def session_count(db: Db, now: float) -> int:
    """Sessions that have not expired."""
    return int(
        db.execute("SELECT count(*) FROM session WHERE expires_at > ?", (now,)).fetchone()[0]
    )


def rotate(db: Db, key_hash: str) -> None:
    """Another access key: every session and token ends with the old one."""
    db.execute(
        "INSERT INTO meta VALUES ('access-key', ?) ON CONFLICT DO UPDATE SET value ="
        " excluded.value",
        (key_hash,),
    )
    db.execute("DELETE FROM session")
    db.execute("DELETE FROM token")


def add_token(db: Db, ident: str, name: str, sha256: str, now: float) -> None:
    """Keep a token's digest."""
    db.execute("INSERT INTO token VALUES (?, ?, ?, ?, NULL)", (ident, name, sha256, now))


def find_token(db: Db, sha256: str) -> TokenRow | None:
    """The token of a digest."""
    row = db.execute(
        "SELECT id, name, made_at, used_at FROM token WHERE sha256 = ?", (sha256,)
    ).fetchone()
    return TokenRow(*row) if row else None


def touch_token(db: Db, ident: str, now: float) -> None:
    """Note that a token was used."""
    db.execute("UPDATE token SET used_at = ? WHERE id = ?", (now, ident))


def tokens(db: Db) -> list[TokenRow]:
    """All tokens, the newest first."""
    return [
        TokenRow(*row)
        for row in db.execute(
            "SELECT id, name, made_at, used_at FROM token ORDER BY made_at DESC, id"
        )
    ]


def drop_token(db: Db, ident: str) -> None:
    """Revoke a token. Raises NotFound."""
    if db.execute("DELETE FROM token WHERE id = ?", (ident,)).rowcount == 0:
        raise NotFound(
            f"there is no token “{ident}”", hint="`nimble-stone access tokens` lists them."
        )
