"""Media on offer to bare machines: one-time addresses, kept by their digest, and the reports that
came by them.
"""

from __future__ import annotations

import hashlib
import sqlite3
from collections.abc import Sequence
from dataclasses import dataclass
from urllib.parse import urlsplit

from nimble_stone.core.estate import MachineFacts
from nimble_stone.core.inspection.job import DiskName
from nimble_stone.core.inspection.report import Inspection
from nimble_stone.core.models import Fixed
from nimble_stone.store import records

Db = sqlite3.Connection


class Task(Fixed):
    """What the machine is to do: inspect, wipe these disks, or write the image of a package (its
    SHA-256) to the one that is named. A seed is its node's configuration, kept in the keyring as
    `secret`; so are the answers (path → text) of an installer, which are on a second medium if
    there is a `label`. “boot” offers nothing: the machine boots from its own drive. `net`: it boots
    from the network; nothing is inserted. `boots`: kernel and ramdisks of an installer, by path.
    """

    kind: str
    disks: tuple[DiskName, ...] = ()
    package: str = ""
    secret: str = ""
    paths: tuple[str, ...] = ()
    label: str = ""
    step: str = ""
    net: bool = False
    boots: tuple[str, ...] = ()


@dataclass(frozen=True)
class Medium:
    """A medium on offer. `until`, `fetched_at`, `reported_at`, `booted_at`: seconds since 1970,
    the last three 0 when that has not been; `trouble`: what was wrong with a report, in words.
    """

    run: str
    machine: str
    task: Task
    until: float
    fetched_at: float
    reported_at: float
    trouble: str
    booted_at: float = 0.0

    @property
    def booted(self) -> bool:
        """Whether the machine fetched it since it was switched to boot from it."""
        return 0.0 < self.booted_at < self.fetched_at


def digest(token: str) -> str:
    """What a token is kept as."""
    return hashlib.sha256(token.encode()).hexdigest()


def offer(db: Db, token: str, run: str, machine: str, task: Task, until: float) -> None:
    """Put a medium on offer; earlier ones of that run for the machine are withdrawn, but still
    known as ours.
    """
    withdraw(db, run, machine)
    db.execute(
        "INSERT INTO medium (token_sha256, run, machine, task, until) VALUES (?, ?, ?, ?, ?)",
        (digest(token), run, machine, task.model_dump_json(), until),
    )


def withdraw(db: Db, run: str, machine: str) -> None:
    """Nothing is fetched or reported by it any more; that a report came stays known."""
    db.execute("UPDATE medium SET until = 0 WHERE run = ? AND machine = ?", (run, machine))


def find(db: Db, token: str) -> Medium | None:
    """The medium of a token."""
    row = db.execute("SELECT * FROM medium WHERE token_sha256 = ?", (digest(token),)).fetchone()
    return _medium(row) if row else None


def of_run(db: Db, run: str, machine: str) -> Medium | None:
    """The newest medium of a run for a machine."""
    row = db.execute(
        "SELECT * FROM medium WHERE run = ? AND machine = ? ORDER BY rowid DESC", (run, machine)
    ).fetchone()
    return _medium(row) if row else None


def on_net(db: Db, now: float) -> list[Medium]:
    """What machines that boot from the network may fetch now, the newest first."""
    return [
        _medium(row)
        for row in db.execute(
            "SELECT * FROM medium WHERE until > ? AND json_extract(task, '$.net')"
            " ORDER BY rowid DESC",
            (now,),
        )
    ]


def made_here(db: Db, images: Sequence[str]) -> list[str]:
    """Those of the images whose address was made here, for whichever run; the address of the
    server may have changed since.
    """
    return [image for image in images if find(db, _token(image)) is not None]


def _token(image: str) -> str:
    """The token in the address of a medium: the last folder of its path."""
    return urlsplit(image).path.rpartition("/")[0].rpartition("/")[2]


def booting(db: Db, run: str, machine: str, at: float) -> None:
    """The machine is about to be switched so that it boots from the medium."""
    db.execute(
        "UPDATE medium SET booted_at = ? WHERE run = ? AND machine = ? AND until > 0",
        (at, run, machine),
    )


def switched(db: Db, run: str, machine: str) -> bool:
    """Whether a run switched the machine, or was about to."""
    row = db.execute(
        "SELECT 1 FROM medium WHERE run = ? AND machine = ? AND booted_at IS NOT NULL",
        (run, machine),
    ).fetchone()
    return row is not None


def wrote(db: Db, run: str, machine: str) -> bool:
    """Whether a machine reported that it wrote and read back the image of a run, or an installer
    that it is done.
    """
    row = db.execute(
        "SELECT 1 FROM medium WHERE run = ? AND machine = ? AND reported_at > 0"
        " AND json_extract(task, '$.kind') IN ('write', 'install')",
        (run, machine),
    ).fetchone()
    return row is not None


def fetched(db: Db, token: str, at: float) -> None:
    """It was asked for. The first time counts, and the first since the machine was switched so that
    it boots from it: some controllers ask as soon as it is inserted.
    """
    db.execute(
        "UPDATE medium SET fetched_at = ? WHERE token_sha256 = ?"
        " AND (fetched_at IS NULL OR fetched_at <= booted_at)",
        (at, digest(token)),
    )


def reported(db: Db, token: str, inside: Inspection, trouble: str = "") -> None:
    """A report came by this medium: the machine's facts hold it from now on. With `trouble` what
    was to be done was not done.
    """
    done = None if trouble else inside.read_at
    db.execute(
        "UPDATE medium SET reported_at = ?, trouble = ? WHERE token_sha256 = ?",
        (done, trouble[:400], digest(token)),
    )
    row = db.execute(
        "SELECT doc FROM machine_facts WHERE machine = ?", (inside.machine,)
    ).fetchone()
    if row:
        facts = MachineFacts.model_validate_json(row["doc"])
        records.put_machine_facts(db, facts.model_copy(update={"inside": inside}))


def installed(db: Db, token: str, at: float) -> None:
    """The installer on this medium told that it is done."""
    db.execute(
        "UPDATE medium SET reported_at = ?, trouble = '' WHERE token_sha256 = ?",
        (at, digest(token)),
    )


def installed_on(db: Db, run: str, machine: str, at: float) -> None:
    """The installer of a run is done on a machine, as that was seen."""
    db.execute(
        "UPDATE medium SET reported_at = ? WHERE run = ? AND machine = ? AND until > 0",
        (at, run, machine),
    )


def refused(db: Db, token: str, trouble: str) -> None:
    """A report came that cannot be true."""
    db.execute(
        "UPDATE medium SET trouble = ? WHERE token_sha256 = ?", (trouble[:400], digest(token))
    )


def _medium(row: sqlite3.Row) -> Medium:
    return Medium(
        row["run"],
        row["machine"],
        Task.model_validate_json(row["task"]),
        row["until"],
        row["fetched_at"] or 0.0,
        row["reported_at"] or 0.0,
        row["trouble"],
        row["booted_at"] or 0.0,
    )
