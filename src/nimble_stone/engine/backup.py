"""Backups of a data folder: one tar file, made while the server runs, checked after writing; and
restoring one.

Format backup/1, a POSIX tar (IEEE 1003.1, ustar) of these members:
    backup.json          what it is, when it was made, which parts it holds, SHA-256 and size of
    every other member
    nimble-stone.db      the database, by SQLite's own backup: what stood in the write-ahead log is
    in it
    keyring.sealed       the keyring's key under a passphrase (see keyring/sealed.py); may be left
    out
    dial.yaml, kits/…    as they lie in the folder
    packages/blobs/…     on request
"""

from __future__ import annotations

import contextlib
import hashlib
import io
import json
import os
import shutil
import sqlite3
import tarfile
import tempfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import IO

from nimble_stone.core.errors import Conflict, FormatError, InputError, NotFound, StoneError
from nimble_stone.keyring import sealed
from nimble_stone.store.connect import SCHEMA_VERSION
from nimble_stone.store.folder import DATABASE, KEYRING_KEY, is_held, prepared

FORMAT = "backup/1"
INDEX, SEALED = "backup.json", "keyring.sealed"
MAX_INDEX = 64 << 20
PIECE = 1 << 20
Seen = Callable[[int], None]
"""Told how many bytes were written or read so far."""


@dataclass(frozen=True)
class Report:
    """What a backup holds."""

    bytes: int
    plans: int
    runs: int
    keyring: bool
    kits: int
    blobs: int
    active_runs: int = 0


def write(
    folder: Path,
    file: Path,
    *,
    made_at: float,
    passphrase: str | None,
    packages: bool,
    seen: Seen = lambda _: None,
) -> Report:
    """Write a backup of a data folder; None as passphrase leaves the keyring out. The file is
    checked before it gets its name.

    Raises NotFound when there is no data folder, Conflict when the file exists, InputError,
    StoneError.
    """
    if not (folder / DATABASE).is_file():
        raise NotFound(
            f"there is no Nimble Stone data in {folder}",
            hint="Give the folder with --data or NIMBLE_STONE_DATA.",
        )
    if file.exists():
        raise Conflict(f"{file} exists already", code="backup-exists", hint="Choose another name.")
    part = file.with_name(file.name + ".part")
    with tempfile.TemporaryDirectory(prefix="backup-", dir=folder) as scratch:
        copy = Path(scratch) / DATABASE
        _copy_database(folder / DATABASE, copy)
        members = dict(_members(folder, copy, packages))
        key = (folder / KEYRING_KEY).read_bytes() if passphrase is not None else None
        try:
            with open(part, "wb", opener=_private) as out:
                _pack(
                    out,
                    members,
                    (
                        sealed.seal(key, passphrase)
                        if key is not None and passphrase is not None
                        else None
                    ),
                    made_at,
                    seen,
                )
                out.flush()
                os.fsync(out.fileno())
            report = check(part, passphrase)
            part.rename(file)
        except OSError as error:
            raise StoneError(
                f"the backup cannot be made: {error.strerror or error} ({error.filename or part})",
                code="backup-not-written",
                hint="A package was perhaps removed meanwhile. Look at the disk; make it again.",
            ) from error
        finally:
            part.unlink(missing_ok=True)
    return report


def check(file: Path, passphrase: str | None) -> Report:
    """Read a backup as if to restore it, without keeping anything. Raises FormatError,
    InputError.
    """
    with tempfile.TemporaryDirectory(prefix="nimble-stone-check-", dir=file.parent) as scratch:
        return _unpack(file, Path(scratch), passphrase, lambda _: None)


def restore(
    file: Path,
    folder: Path,
    *,
    passphrase: Callable[[], str],
    at: float,
    seen: Seen = lambda _: None,
) -> Report:
    """Restore a backup into an empty or missing data folder; all of it or nothing. `passphrase` is
    asked when the backup holds a keyring.

    Sessions end; runs that were under way are put on hold, since their state is unknown
    since.
    Raises Conflict when the folder is not empty, FormatError, InputError.
    """
    if folder.exists() and (is_held(folder) or any(folder.iterdir())):
        raise Conflict(
            f"{folder} is not empty",
            code="folder-not-empty",
            hint="Restore into a new folder: NIMBLE_STONE_DATA=… or --data.",
        )
    folder.parent.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(prefix=".restoring-", dir=folder.parent) as scratch:
        made = Path(scratch) / "data"
        made.mkdir(mode=0o700)
        holds_keyring = SEALED in _index_of(file)["members"]
        report = _unpack(file, made, passphrase() if holds_keyring else None, seen)
        active = _after_restore(made / DATABASE, at)
        if folder.exists():
            folder.rmdir()
        made.rename(folder)
        prepared(folder)
    return Report(
        report.bytes, report.plans, report.runs, report.keyring, report.kits, report.blobs, active
    )


def _copy_database(source: Path, target: Path) -> None:
    """SQLite's own backup: a consistent copy of a database in use, its log included."""
    try:
        with (
            contextlib.closing(sqlite3.connect(f"file:{source}?mode=ro", uri=True)) as old,
            contextlib.closing(sqlite3.connect(target)) as new,
        ):
            old.backup(new, pages=1024)
    except sqlite3.Error as error:
        raise StoneError(
            f"the database cannot be copied: {error}", code="backup-database"
        ) from error


def _members(folder: Path, database: Path, packages: bool) -> Iterator[tuple[str, Path]]:
    yield DATABASE, database
    if (folder / "dial.yaml").is_file():
        yield "dial.yaml", folder / "dial.yaml"
    for path in sorted((folder / "kits").glob("*.yaml")):
        yield f"kits/{path.name}", path
    if packages:
        for path in sorted((folder / "packages" / "blobs").glob("*")):
            yield f"packages/blobs/{path.name}", path


def _pack(
    out: IO[bytes], members: dict[str, Path], keyring: bytes | None, made_at: float, seen: Seen
) -> None:
    digests = {
        name: {"sha256": _digest(path), "size": path.stat().st_size}
        for name, path in members.items()
    }
    if keyring is not None:
        digests[SEALED] = {"sha256": hashlib.sha256(keyring).hexdigest(), "size": len(keyring)}
    index = {
        "nimble-stone": FORMAT,
        "made_at": made_at,
        "schema": SCHEMA_VERSION,
        "members": digests,
    }
    written = 0
    with tarfile.open(fileobj=out, mode="w", format=tarfile.GNU_FORMAT) as archive:
        _add(archive, INDEX, json.dumps(index, indent=1).encode())
        if keyring is not None:
            _add(archive, SEALED, keyring)
        for name, path in members.items():
            archive.add(path, name, recursive=False, filter=_plain)
            written += path.stat().st_size
            seen(written)


def _add(archive: tarfile.TarFile, name: str, data: bytes) -> None:
    member = tarfile.TarInfo(name)
    member.size, member.mode = len(data), 0o600
    archive.addfile(member, io.BytesIO(data))


def _plain(member: tarfile.TarInfo) -> tarfile.TarInfo:
    member.mode, member.uid, member.gid, member.uname, member.gname = 0o600, 0, 0, "", ""
    return member


def _index_of(file: Path) -> dict[str, dict[str, dict[str, str | int]]]:
    try:
        with tarfile.open(file) as archive:
            first = archive.next()
            if first is None or first.name != INDEX or not first.isfile() or first.size > MAX_INDEX:
                raise FormatError(f"{file} is not a backup of Nimble Stone", code="backup-form")
            data = archive.extractfile(first)
            index = json.loads(data.read() if data else b"")
    except (OSError, tarfile.TarError, ValueError) as error:
        raise FormatError(
            f"{file} cannot be read as a backup: {error}", code="backup-form"
        ) from error
    if (
        not isinstance(index, dict)
        or index.get("nimble-stone") != FORMAT
        or not isinstance(index.get("members"), dict)
    ):
        raise FormatError(
            f"{file} is not a known backup format",
            code="backup-form",
            hint=f"It reads {FORMAT}.",
        )
    if int(index.get("schema", 0)) > SCHEMA_VERSION:
        raise FormatError(
            f"{file} was made by a newer Nimble Stone",
            code="backup-newer",
            hint="Restore it with that version or a later one.",
        )
    return index


def _unpack(file: Path, folder: Path, passphrase: str | None, seen: Seen) -> Report:
    wanted = _index_of(file)["members"]
    total, got = 0, set()
    try:
        with tarfile.open(file) as archive:
            archive.next()
            while (member := archive.next()) is not None:
                known = wanted.get(member.name)
                if (
                    known is None
                    or not member.isfile()
                    or member.size != known["size"]
                    or not _is_ours(member.name)
                ):
                    raise FormatError(
                        f"{file}: “{member.name[:80]}” is not what the backup's index says",
                        code="backup-damaged",
                    )
                source = archive.extractfile(member)
                assert source is not None
                if _extract(source, folder / member.name) != known["sha256"]:
                    raise FormatError(
                        f"{file}: “{member.name[:80]}” is damaged (SHA-256 differs)",
                        code="backup-damaged",
                    )
                got.add(member.name)
                total += member.size
                seen(total)
    except (OSError, tarfile.TarError) as error:
        raise FormatError(
            f"{file} cannot be read completely: {error}", code="backup-damaged"
        ) from error
    if missing := sorted(set(wanted) - got):
        raise FormatError(f"{file} ends early: {missing[0]} is missing", code="backup-damaged")
    if SEALED in got:
        key = sealed.unseal((folder / SEALED).read_bytes(), passphrase or "")
        (folder / SEALED).unlink()
        with open(folder / KEYRING_KEY, "wb", opener=_private) as out:
            out.write(key)
    return _report(folder, file.stat().st_size, got)


def _is_ours(name: str) -> bool:
    """Whether a name is one that a backup may hold: nothing leads out of the folder."""
    if name in (DATABASE, SEALED, "dial.yaml"):
        return True
    kind, _, rest = name.rpartition("/")
    return (
        kind in ("kits", "packages/blobs")
        and rest not in ("", ".", "..")
        and "\\" not in rest
        and "\0" not in rest
    )


def _extract(source: IO[bytes], path: Path) -> str:
    path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    digest = hashlib.sha256()
    with open(path, "wb", opener=_private) as out:
        while piece := source.read(PIECE):
            digest.update(piece)
            out.write(piece)
        os.fsync(out.fileno())
    return digest.hexdigest()


def _report(folder: Path, size: int, names: set[str]) -> Report:
    try:
        with contextlib.closing(
            sqlite3.connect(f"file:{folder / DATABASE}?mode=ro", uri=True)
        ) as db:
            told = str(db.execute("PRAGMA integrity_check").fetchone()[0])
            if told != "ok":
                raise FormatError(
                    f"the database in the backup is damaged: {told[:200]}", code="backup-damaged"
                )
            plans, runs = (
                int(count)
                for count in db.execute(
                    "SELECT (SELECT count(*) FROM plan), (SELECT count(*) FROM run)"
                ).fetchone()
            )
    except sqlite3.Error as error:
        raise FormatError(
            f"the database in the backup cannot be read: {error}", code="backup-damaged"
        ) from error
    return Report(
        size,
        plans,
        runs,
        (folder / KEYRING_KEY).exists(),
        sum(name.startswith("kits/") for name in names),
        sum(name.startswith("packages/") for name in names),
    )


def _after_restore(database: Path, at: float) -> int:
    """End sessions and hold what was under way; how many runs that were."""
    with contextlib.closing(sqlite3.connect(database, isolation_level=None)) as db:
        db.execute("BEGIN IMMEDIATE")
        db.execute("DELETE FROM session")
        active = [
            row[0]
            for row in db.execute(
                "SELECT id FROM run WHERE state IN ('running', 'trouble', 'proving')"
            )
        ]
        for run in active:
            db.execute("UPDATE run SET state = 'held' WHERE id = ?", (run,))
            db.execute(
                "INSERT INTO run_event (run, at, step, kind, payload) VALUES (?, ?, '',"
                " 'restored', ?)",
                (run, at, json.dumps({"state": "held"})),
            )
        db.execute("COMMIT")
    return len(active)


def _digest(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def _private(path: str, flags: int) -> int:
    return os.open(path, flags, 0o600)


def room_for(folder: Path, packages: bool) -> int:
    """About how many bytes a backup takes."""
    names = [
        folder / DATABASE,
        folder / f"{DATABASE}-wal",
        *((folder / "packages" / "blobs").glob("*") if packages else ()),
    ]
    total = 0
    for path in names:
        # a package may go meanwhile
        with contextlib.suppress(FileNotFoundError):
            total += path.stat().st_size
    return total


def ensure_room(folder: Path, file: Path, packages: bool) -> None:
    """Raises InputError when the backup would not fit beside its check."""
    need, free = 2 * room_for(folder, packages), shutil.disk_usage(file.parent).free
    if need > free:
        raise InputError(
            f"{file.parent} has {free >> 20} MiB free; the backup and its check take {need >> 20}"
            " MiB.",
            code="disk-full",
            hint="Choose another place.",
        )
