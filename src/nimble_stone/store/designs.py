"""Plain functions over the tables of designing: shared values, and what plans hold."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping
from dataclasses import dataclass, field

from nimble_stone.core.errors import Conflict, NotFound
from nimble_stone.core.estate import Estate
from nimble_stone.store import records

Db = sqlite3.Connection


@dataclass(frozen=True)
class SharedRow:
    """A file of shared values at its newest version."""

    name: str
    version: int
    text: str
    changed_at: float


@dataclass(frozen=True)
class ClaimRow:
    """A node that a plan means to build: its host (and whether placement chose it), memory in
    bytes, vCPUs.
    """

    plan: str
    node: str
    name: str
    host: str
    computed: bool
    memory_bytes: int
    vcpu: int
    stores: Mapping[str, tuple[int, int]] = field(default_factory=dict)
    """Datastore of the host → bytes at first and when full."""


def shared_values(db: Db) -> list[SharedRow]:
    """All shared values by name."""
    return [SharedRow(*row) for row in db.execute("SELECT * FROM shared_values ORDER BY name")]


def put_shared(db: Db, name: str, text: str, at: float, *, based_on: int | None) -> SharedRow:
    """Store the next version. Raises Conflict when somebody else changed it meanwhile."""
    row = db.execute("SELECT version FROM shared_values WHERE name = ?", (name,)).fetchone()
    version = row["version"] if row else 0
    if based_on is not None and based_on != version:
        raise Conflict(
            f"shared values “{name}” were changed by another user (version {version}, your edit was"
            f" of {based_on})",
            code="values-changed",
            hint="Your text is kept. Check the new version and repeat the edit.",
        )
    db.execute(
        "INSERT INTO shared_values VALUES (?, ?, ?, ?) ON CONFLICT DO UPDATE SET version ="
        " excluded.version, text = excluded.text, changed_at = excluded.changed_at",
        (name, version + 1, text, at),
    )
    return SharedRow(name, version + 1, text, at)


def remove_shared(db: Db, name: str) -> None:
    """Forget shared values. Raises NotFound."""
    if db.execute("DELETE FROM shared_values WHERE name = ?", (name,)).rowcount == 0:
        raise NotFound(f"there are no shared values “{name}”")


def claims(db: Db) -> list[ClaimRow]:
    """What all plans mean to build."""
    return [
        ClaimRow(
            row["plan"],
            row["node"],
            row["name"],
            row["host"],
            bool(row["computed"]),
            row["memory_bytes"],
            row["vcpu"],
            {name: (thin, full) for name, (thin, full) in json.loads(row["stores"]).items()},
        )
        for row in db.execute("SELECT * FROM claim ORDER BY plan, node")
    ]


def members(db: Db) -> list[tuple[str, str, str, bool]]:
    """(member, plan, slot, whether a pool gave it) of everything plans hold."""
    return [
        (row["member"], row["plan"], row["slot"], bool(row["drawn"]))
        for row in db.execute("SELECT member, plan, slot, drawn FROM claim_member")
    ]


@dataclass(frozen=True)
class MemberRow:
    """A member (an address, a number) that a plan holds, for which slot, and whether a pool gave
    it.
    """

    member: str
    slot: str
    drawn: bool


@dataclass(frozen=True)
class Holding:
    """What a plan holds, so that no other plan is given the same."""

    claims: tuple[ClaimRow, ...]
    members: tuple[MemberRow, ...]


def hold(db: Db, plan: str, holding: Holding) -> list[str]:
    """Write anew what a plan holds.

    Answers with members that another plan has taken in the meantime: those are not held.
    """
    db.execute("UPDATE change_count SET number = number + 1 WHERE what = 'claims'")
    db.execute("DELETE FROM claim WHERE plan = ?", (plan,))
    db.execute("DELETE FROM claim_member WHERE plan = ?", (plan,))
    db.executemany(
        "INSERT INTO claim VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
        [
            (
                plan,
                one.node,
                one.name,
                one.host,
                int(one.computed),
                one.memory_bytes,
                one.vcpu,
                json.dumps(one.stores),
            )
            for one in holding.claims
        ],
    )
    return [
        one.member
        for one in holding.members
        if db.execute(
            "INSERT INTO claim_member VALUES (?, ?, ?, ?) ON CONFLICT DO NOTHING",
            (one.member, plan, one.slot, int(one.drawn)),
        ).rowcount
        == 0
    ]


def put_plan(
    db: Db,
    plan: str,
    text: str,
    at: float,
    based_on: int | None,
    holding: Holding | None,
) -> records.PlanRow:
    """The next version of a plan together with what it holds (None: that stays). Raises Conflict
    when somebody else changed the plan meanwhile.
    """
    row = records.put_plan(db, plan, text, at, based_on=based_on)
    if holding is not None:
        hold(db, plan, holding)
    return row


def numbers(db: Db) -> tuple[int, int]:
    """How often the estate, and what plans hold, were changed so far."""
    found = dict(db.execute("SELECT what, number FROM change_count").fetchall())
    return int(found["estate"]), int(found["claims"])


def estate_number(db: Db) -> int:
    """How often the estate was changed so far."""
    return numbers(db)[0]


def held(db: Db) -> tuple[int, list[ClaimRow], list[tuple[str, str, str, bool]]]:
    """What all plans hold: claims and members, and the number of changes they include."""
    return numbers(db)[1], claims(db), members(db)


def estate_with_number(db: Db) -> tuple[int, Estate]:
    """The estate, and the number of changes it includes."""
    return estate_number(db), records.load_estate(db)


def newest_end(db: Db) -> float:
    """When the last rollout ended, 0 when none has."""
    return float(
        db.execute(
            "SELECT coalesce(max(ended_at), 0) AS at FROM run WHERE kind = 'rollout'"
        ).fetchone()["at"]
    )


def step_factors(db: Db, limit: int = 5000) -> list[tuple[str, float]]:
    """(kind of step, seconds taken over seconds expected) of steps that were done in the newest
    rollouts.
    """
    return [
        (row["kind"], row["factor"])
        for row in db.execute(
            "SELECT json_extract(s.value, '$.kind') AS kind, (rs.ended_at - rs.started_at) /"
            " coalesce(nullif(json_extract(s.value, '$.usual_s'), 0), json_extract(s.value,"
            " '$.expected_s')) AS factor FROM (SELECT id, doc FROM run WHERE kind = 'rollout' AND"
            " ended_at IS NOT NULL ORDER BY started_at DESC LIMIT 20) r, json_each(r.doc,"
            " '$.steps') s JOIN run_step rs ON rs.run = r.id AND rs.key = json_extract(s.value,"
            " '$.key') WHERE rs.attempt = 1 AND rs.state = 'done' AND rs.started_at IS NOT NULL AND"
            " rs.ended_at IS NOT NULL AND rs.ended_at > rs.started_at LIMIT ?",
            (limit,),
        )
    ]
