"""Making connections and running functions on them: one writer thread, reads on a second one that
cannot write.

`await store.write(fn, …)` runs `fn(conn, …)` inside one IMMEDIATE transaction; `await
store.read(fn, …)` on a read-only connection.
"""

from __future__ import annotations

import asyncio
import contextlib
import logging
import os
import sqlite3
import threading
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Concatenate, ParamSpec, TypeVar

from nimble_stone.core.errors import InputError, StoneError, StoreError

P = ParamSpec("P")
T = TypeVar("T")
SCHEMA_VERSION = 12
log = logging.getLogger("nimble_stone.store")


class Store:
    """The database of one data folder. Close with `close`."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._writer = ThreadPoolExecutor(1, "store-writer")
        self._readers = ThreadPoolExecutor(2, "store-reader")
        self._local = threading.local()
        self._reading: list[sqlite3.Connection] = []
        self._connection = self._writer.submit(self._open).result()

    def _open(self) -> sqlite3.Connection:
        connection = connect(self._path)
        migrate(connection)
        return connection

    async def write(
        self,
        function: Callable[Concatenate[sqlite3.Connection, P], T],
        *args: P.args,
        **kwargs: P.kwargs,
    ) -> T:
        """Run `function` in a transaction; it is committed when the function returns, rolled back
        when it raises.
        """

        def inside() -> T:
            with _in_words(), transaction(self._connection):
                return function(self._connection, *args, **kwargs)

        return await asyncio.shield(
            asyncio.get_running_loop().run_in_executor(self._writer, inside)
        )

    async def read(
        self,
        function: Callable[Concatenate[sqlite3.Connection, P], T],
        *args: P.args,
        **kwargs: P.kwargs,
    ) -> T:
        """Run `function` on a connection that cannot write."""

        def inside() -> T:
            if not hasattr(self._local, "connection"):
                self._local.connection = connect(self._path, read_only=True)
                self._reading.append(self._local.connection)
            with _in_words():
                return function(self._local.connection, *args, **kwargs)

        return await asyncio.get_running_loop().run_in_executor(self._readers, inside)

    async def copy_before(self, name: str) -> None:
        """A copy of the database beside it, before its contents are brought forward."""
        await asyncio.get_running_loop().run_in_executor(
            self._writer, _copy_before, self._connection, name
        )

    def close(self) -> None:
        """End the threads; what was given is finished first. The last connection folds the
        write-ahead log in.
        """
        self._readers.shutdown()
        for connection in self._reading:
            connection.close()
        self._writer.submit(self._connection.close).result()
        self._writer.shutdown()


@contextlib.contextmanager
def _in_words() -> Iterator[None]:
    """What SQLite cannot take, in words: its whole numbers have 64 bits, its texts are Unicode."""
    try:
        yield
    except OverflowError as error:
        raise InputError(
            "A number is too large.", code="number-large", hint="Use a smaller one."
        ) from error
    except sqlite3.OperationalError as error:
        raise _trouble(error) from error
    except sqlite3.DatabaseError as error:
        if isinstance(error, sqlite3.IntegrityError | sqlite3.ProgrammingError):
            # a fault of ours, not of the disk
            raise
        raise StoreError(
            f"The server's database is damaged: {error}.",
            code="store-damaged",
            hint="Restore a backup: nimble-stone restore FILE.",
        ) from error
    except UnicodeEncodeError as error:
        raise InputError(
            "A text contains half a character (a lone surrogate).",
            code="text-form",
            hint="Type it again.",
        ) from error


def _trouble(error: sqlite3.OperationalError) -> StoreError:
    text = str(error)
    if "full" in text:
        return StoreError(
            "The server's disk is full; nothing can be stored.",
            code="store-full",
            hint="Free space on the server's disk; runs resume automatically.",
        )
    if "locked" in text or "busy" in text:
        return StoreError(
            "The server's database is locked by another program.",
            code="store-locked",
            hint="Close that program.",
        )
    if "readonly" in text or "unable to open" in text or "disk I/O" in text:
        return StoreError(
            f"The server's database cannot be written: {text}.",
            code="store-io",
            hint="Check the server's disk and the permissions of its data folder.",
        )
    return StoreError(
        f"The server's database failed: {text}.", code="store-failed", hint="See the server's log."
    )


class transaction:  # noqa: N801  # reads as a statement
    """The only place that begins, commits or rolls back."""

    def __init__(self, connection: sqlite3.Connection) -> None:
        self._connection = connection

    def __enter__(self) -> sqlite3.Connection:
        self._connection.execute("BEGIN IMMEDIATE")
        return self._connection

    def __exit__(self, kind: type[BaseException] | None, *_: object) -> None:
        if kind is None:
            try:
                self._connection.execute("COMMIT")
                return
            except sqlite3.Error:
                self._undo()
                raise
        self._undo()

    def _undo(self) -> None:
        # a full disk may have ended it already
        if self._connection.in_transaction:
            self._connection.execute("ROLLBACK")


def connect(path: Path, *, read_only: bool = False) -> sqlite3.Connection:
    """A connection: autocommit, WAL, foreign keys on, rows by name. Full sync: a committed intent
    survives power loss.
    """
    connection = sqlite3.connect(
        f"file:{path}?mode={'ro' if read_only else 'rwc'}",
        uri=True,
        isolation_level=None,
        check_same_thread=False,
    )
    connection.row_factory = sqlite3.Row
    connection.execute("PRAGMA busy_timeout = 5000")
    connection.execute("PRAGMA foreign_keys = ON")
    if not read_only:
        connection.execute("PRAGMA journal_mode = WAL")
        connection.execute("PRAGMA synchronous = FULL")
    return connection


def migrate(connection: sqlite3.Connection) -> None:
    """Make the schema in a new database, or bring an older one forward step by step; refuse one
    that is newer than this program.
    """
    version = int(connection.execute("PRAGMA user_version").fetchone()[0])
    if version > SCHEMA_VERSION:
        raise StoneError(
            f"the database is of version {version}, this program knows {SCHEMA_VERSION}",
            code="schema-newer",
            hint="Start the newer version again, or restore a backup.",
        )
    here = Path(__file__).parent
    steps = (
        [(SCHEMA_VERSION, here / "schema.sql")]
        if version == 0
        else [
            (number, here / "migrations" / f"{number:04d}.sql")
            for number in range(version + 1, SCHEMA_VERSION + 1)
        ]
    )
    if 0 < version < SCHEMA_VERSION:
        _copy_before(connection, str(SCHEMA_VERSION))
    # a table that others refer to can only be made anew without them
    connection.execute("PRAGMA foreign_keys = OFF")
    for number, script in steps:
        with transaction(connection):
            for statement in _statements(script.read_text()):
                connection.execute(statement)
            if connection.execute("PRAGMA foreign_key_check").fetchone() is not None:
                raise StoneError(
                    f"the database could not be upgraded to version {number}: rows refer to what is"
                    " not there",
                    code="schema-broken",
                    hint="Nothing was changed. Restore a backup, and report it.",
                )
            connection.execute(f"PRAGMA user_version = {number}")
    connection.execute("PRAGMA foreign_keys = ON")


def _copy_before(connection: sqlite3.Connection, name: str) -> None:
    """A copy beside the database as it was, so that an upgrade can be gone back on. An empty
    database needs none.
    """
    if connection.execute("SELECT count(*) FROM sqlite_master").fetchone()[0] == 0:
        return
    path = str(connection.execute("PRAGMA database_list").fetchone()["file"])
    if not path:
        return
    target = Path(f"{path}.before-{name}")
    if target.exists():
        # an earlier attempt to upgrade made it
        return
    part = target.with_name(target.name + ".part")
    part.unlink(missing_ok=True)
    os.close(os.open(part, os.O_CREAT | os.O_WRONLY, 0o600))
    with contextlib.closing(sqlite3.connect(part)) as copy:
        connection.backup(copy)
    part.rename(target)
    log.info("the database was copied to %s before it is brought forward", target)


def _statements(script: str) -> list[str]:
    found, text = [], ""
    for line in script.splitlines(keepends=True):
        text += line
        if sqlite3.complete_statement(text):
            found.append(text)
            text = ""
    return found
