"""Backups: made while the server works, checked, restored into another folder, and refused when
damaged.
"""

from __future__ import annotations

import io
import os
import sqlite3
import subprocess
import tarfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from nimble_stone.cli.client import Client
from nimble_stone.core.errors import Conflict, FormatError, InputError, StoneError
from nimble_stone.engine import backup
from nimble_stone.store.connect import connect, migrate
from tests.store.test_migrations import old_database
from tests.support import spawning
from tests.support.processes import PASSWORD, LabProcess, ServerProcess, ended

PHRASE = "low water at seven"


@pytest.fixture(scope="module")
def saved(
    server: ServerProcess, client: Client, lab: LabProcess, tmp_path_factory: pytest.TempPathFactory
) -> Iterator[tuple[Path, str]]:
    """A backup made while a run is running, and that run."""
    file = tmp_path_factory.mktemp("backup") / "stone.backup"
    done = client.call("POST", "/api/plans/western/run")["run"]
    assert ended(client, done)["state"] == "done"
    client.call("POST", f"/api/runs/{done}/undo", {})
    ended(client, done, states=("undone",))
    lab.turn("all", speed=2)
    run = client.call("POST", "/api/plans/western/run")["run"]
    found = command("backup", str(file), "--packages", "--data", str(server.data), phrase=PHRASE)
    assert found.returncode == 0, found.stderr
    assert "checked. 1 plans, 2 runs" in found.stdout
    lab.turn("all", speed=400)
    yield file, run
    ended(client, run)


def command(*words: str, phrase: str | None = None) -> subprocess.CompletedProcess[str]:
    more = {} if phrase is None else {"NIMBLE_STONE_PASSPHRASE": phrase}
    return spawning.run(words, env={**os.environ, **more})


def content(path: Path, *, without: tuple[str, ...] = ()) -> dict[str, list[Any]]:
    db = sqlite3.connect(f"file:{path}?mode=ro", uri=True)
    names = [
        row[0]
        for row in db.execute("SELECT name FROM sqlite_master WHERE type = 'table' ORDER BY name")
    ]
    found = {
        name: db.execute(f"SELECT * FROM {name}").fetchall()
        for name in names
        if name not in without
    }
    db.close()
    return found


def test_a_restored_server_has_all_that_was_there_and_waits_with_what_was_under_way(
    saved: tuple[Path, str], server: ServerProcess, lab: LabProcess, tmp_path: Path
) -> None:
    file, run = saved
    folder = tmp_path / "restored"
    found = command("restore", str(file), "--data", str(folder), phrase=PHRASE)
    assert found.returncode == 0, found.stderr
    assert "1 runs were running when the backup was made; they are on hold." in found.stdout
    with tarfile.open(file) as archive:
        archive.extract("nimble-stone.db", tmp_path, filter="data")
    changing = ("session", "run", "run_event", "sqlite_sequence")
    assert content(folder / "nimble-stone.db", without=changing) == content(
        tmp_path / "nimble-stone.db", without=changing
    )
    assert (folder / "keyring.key").read_bytes() == (server.data / "keyring.key").read_bytes()
    assert (folder / "keyring.key").stat().st_mode & 0o777 == 0o600
    assert (folder / "dial.yaml").read_text() == (server.data / "dial.yaml").read_text()
    blobs = {path.name: path.read_bytes() for path in (server.data / "packages/blobs").iterdir()}
    assert {path.name: path.read_bytes() for path in (folder / "packages/blobs").iterdir()} == blobs
    made_before = lab.show()
    other = ServerProcess(folder)
    try:
        with pytest.raises(StopIteration):
            next(line for line in other.log.read_text().splitlines() if "Access key" in line)
        client = Client(other.url, server.key)
        states = {row["id"]: row["state"] for row in client.call("GET", "/api/runs")}
        assert states[run] == "held"
        assert sorted(states.values()) == ["held", "undone"]
        assert client.call("GET", "/api/plans/western")["nodes"]
        kinds = [event["kind"] for event in client.call("GET", f"/api/runs/{run}")["events"]]
        assert "restored" in kinds
        assert kinds.count("acting") == kinds[: kinds.index("restored")].count("acting")
    finally:
        other.stop()
    assert set(made_before) == set(lab.show())


def test_another_programs_tar_lists_it_and_no_secret_lies_in_it(
    saved: tuple[Path, str], server: ServerProcess
) -> None:
    file, _ = saved
    names = subprocess.run(
        ["tar", "-tf", str(file)], capture_output=True, text=True, check=True
    ).stdout.split()
    assert names[:3] == ["backup.json", "keyring.sealed", "nimble-stone.db"]
    data = file.read_bytes()
    assert (server.data / "keyring.key").read_bytes() not in data
    assert PASSWORD.encode() not in data
    assert file.stat().st_mode & 0o777 == 0o600


def test_what_cannot_be_restored_leaves_nothing(saved: tuple[Path, str], tmp_path: Path) -> None:
    file, _ = saved
    for number, (phrase, expected) in enumerate(
        ((None, "No passphrase"), ("wrong phrase", "Wrong passphrase"))
    ):
        found = command("restore", str(file), "--data", str(tmp_path / f"r{number}"), phrase=phrase)
        assert found.returncode == 2
        assert expected in found.stderr
    data = bytearray(file.read_bytes())
    data[len(data) // 2] ^= 1
    damaged = tmp_path / "damaged"
    damaged.write_bytes(bytes(data))
    cut = tmp_path / "cut"
    cut.write_bytes(bytes(data[: len(data) // 3]))
    for bad in (damaged, cut):
        with pytest.raises(FormatError):
            backup.restore(bad, tmp_path / "r", passphrase=lambda: PHRASE, at=1.0)
    assert sorted(path.name for path in tmp_path.iterdir()) == ["cut", "damaged"]


def test_a_folder_in_use_and_a_file_that_is_there_stay(
    saved: tuple[Path, str], server: ServerProcess, tmp_path: Path
) -> None:
    file, _ = saved
    with pytest.raises(Conflict, match="is not empty"):
        backup.restore(file, server.data, passphrase=lambda: PHRASE, at=1.0)
    with pytest.raises(Conflict, match="exists already"):
        backup.write(server.data, file, made_at=1.0, passphrase=None, packages=False)
    short = command("backup", str(tmp_path / "b"), "--data", str(server.data), phrase="short")
    assert "at least 8" in short.stderr
    assert list(tmp_path.iterdir()) == []


@pytest.mark.parametrize(
    "name", ["../outside.yaml", "kits/../../outside.yaml", "/etc/outside", "keyring.key", "kits/.."]
)
def test_a_backup_that_leads_out_of_the_folder_is_refused(tmp_path: Path, name: str) -> None:
    import hashlib
    import json

    file = tmp_path / "evil"
    index = {
        "nimble-stone": "backup/1",
        "schema": 1,
        "members": {name: {"sha256": hashlib.sha256(b"x").hexdigest(), "size": 1}},
    }
    with tarfile.open(file, "w") as archive:
        for member, data in (("backup.json", json.dumps(index).encode()), (name, b"x")):
            info = tarfile.TarInfo(member)
            info.size = len(data)
            archive.addfile(info, io.BytesIO(data))
    with pytest.raises(FormatError):
        backup.restore(file, tmp_path / "r", passphrase=lambda: PHRASE, at=1.0)
    assert [path.name for path in tmp_path.iterdir()] == ["evil"]


def test_a_backup_without_the_keyring_says_so(server: ServerProcess, tmp_path: Path) -> None:
    found = command("backup", str(tmp_path / "b"), "--without-keyring", "--data", str(server.data))
    assert "without the keyring" in found.stdout
    report = backup.restore(tmp_path / "b", tmp_path / "r", passphrase=lambda: "", at=1.0)
    assert (report.keyring, report.blobs) == (False, 0)
    assert not (tmp_path / "r" / "keyring.key").exists()


def test_a_package_that_goes_meanwhile_is_told_in_words(tmp_path: Path) -> None:
    folder, file = tmp_path / "data", tmp_path / "stone.backup"
    blobs = folder / "packages" / "blobs"
    blobs.mkdir(parents=True)
    db = connect(folder / backup.DATABASE)
    migrate(db)
    db.close()
    # listed, and not there when it is read
    (blobs / ("0" * 64)).symlink_to(blobs / "gone")
    with pytest.raises(StoneError, match="the backup cannot be made: No such file"):
        backup.write(folder, file, made_at=1.0, passphrase=None, packages=True)
    assert not file.exists()
    assert backup.room_for(folder, packages=True) > 0


def test_a_clean_stop_folds_the_log_in(tmp_path: Path) -> None:
    server = ServerProcess(tmp_path / "data")
    client = server.client()
    client.call("PUT", "/api/secrets/one", {"value": "x"})
    assert (server.data / "nimble-stone.db-wal").stat().st_size > 0
    server.stop()
    assert not (server.data / "nimble-stone.db-wal").exists()
    assert content(server.data / "nimble-stone.db")["secret"]


def test_a_database_is_copied_before_it_is_brought_forward(tmp_path: Path) -> None:
    path = tmp_path / "nimble-stone.db"
    db = old_database(path)
    db.execute("INSERT INTO meta VALUES ('access-key', 'of before')")
    migrate(db)
    copies = list(tmp_path.glob("*.before-*"))
    assert len(copies) == 1
    assert copies[0].stat().st_mode & 0o777 == 0o600
    old = sqlite3.connect(copies[0])
    assert old.execute("PRAGMA user_version").fetchone()[0] == 1
    assert old.execute("SELECT value FROM meta").fetchone()[0] == "of before"
    old.close()
    migrate(connect(tmp_path / "new.db"))
    assert not list(tmp_path.glob("new.db.before-*"))


def test_a_passphrase_opens_only_its_own_seal() -> None:
    from nimble_stone.keyring import sealed

    text = sealed.seal(b"k" * 32, PHRASE)
    assert sealed.unseal(text, PHRASE) == b"k" * 32
    with pytest.raises(InputError, match="Wrong passphrase"):
        sealed.unseal(text, PHRASE + "x")
    for bad in (
        b"",
        b"[]",
        b"{}",
        text.replace(b"scrypt", b"script"),
        text.replace(b"65536", b"99999"),
    ):
        with pytest.raises(FormatError):
            sealed.unseal(bad, PHRASE)
