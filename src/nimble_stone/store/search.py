"""Finding things by a part of their name: hosts, machines, nodes, addresses, packages, runs."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass
from typing import Literal

Db = sqlite3.Connection
Kind = Literal["host", "machine", "node", "address", "package", "run", "preparation"]
# Each finds rows of (kind, ident, part, name, detail): the thing itself, what of it, how it is
# called, and where it belongs.
_QUERIES = (
    "SELECT kind, name, '', name, json_extract(doc, '$.address') AS detail FROM estate_item"
    " WHERE kind IN ('host', 'machine')"
    " AND (name LIKE :like ESCAPE '\\' OR detail LIKE :like ESCAPE '\\') ORDER BY name",
    "SELECT 'node', plan, node, name, host FROM claim WHERE name LIKE :like ESCAPE '\\'"
    " ORDER BY name",
    "SELECT 'address', plan, slot, member, plan FROM claim_member"
    " WHERE member LIKE :like ESCAPE '\\' ORDER BY member",
    "SELECT 'package', sha256, '', product || ' ' || version AS title, channel FROM package"
    " WHERE title LIKE :like ESCAPE '\\' ORDER BY title",
    "SELECT CASE kind WHEN 'rollout' THEN 'run' ELSE 'preparation' END, id, plan, id, state"
    " FROM run WHERE id LIKE :like ESCAPE '\\' OR plan LIKE :like ESCAPE '\\'"
    " ORDER BY started_at DESC",
)


@dataclass(frozen=True)
class Hit:
    """Something that was found. `part`: of a node or address, which one in plan `ident`; of a run,
    its plan.
    """

    kind: Kind
    ident: str
    part: str
    name: str
    detail: str


def search(db: Db, text: str, most: int) -> list[Hit]:
    """At most `most` of each kind whose name holds the text. Cost: O(rows), by SQLite."""
    safe = text.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")
    given = {"like": f"%{safe}%", "most": most}
    found = []
    for query in _QUERIES:
        for kind, ident, part, name, detail in db.execute(f"{query} LIMIT :most", given):
            found.append(Hit(kind, ident, part, name, detail or ""))
    return found
