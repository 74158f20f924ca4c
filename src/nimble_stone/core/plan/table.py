"""The sheet as rows of text, for spreadsheets: out, and back in as edits. Pure.

Rows out: a header of column ids, a second row of labels, then a row for each node. Rows in: a
header that names columns by id or label, a column
“node” (id or name); cells that cannot be are listed with row and column and kept as they were
typed, all others land.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from nimble_stone.core.errors import InputError
from nimble_stone.core.findings import Edit
from nimble_stone.core.plan.cells import MADE_HERE, is_made_here
from nimble_stone.core.plan.columns import Column
from nimble_stone.core.plan.sheet import Sheet, ip
from nimble_stone.core.secrets_rule import violations
from nimble_stone.core.series import A_WORD, number_of
from nimble_stone.core.ssh_keys import ssh_key_fault

MAX_ROWS, MAX_COLUMNS = 5001, 400
Rows = Sequence[Sequence[str]]


@dataclass(frozen=True)
class Wrong:
    """A cell that did not land: its row (counted from 1, the header included), its column, the text
    as it was typed, and why.
    """

    row: int
    column: str
    text: str
    why: str


@dataclass(frozen=True)
class Landed:
    """Edits for everything that can be, and what cannot. `same`: cells that said what the plan says
    already.
    """

    edits: tuple[Edit, ...]
    wrong: tuple[Wrong, ...]
    same: int


def rows_of(sheet: Sheet) -> list[list[str]]:
    """Header, labels, then every node. Secrets are left out."""
    columns = [column for column in sheet.columns if column.kind != "secret"]
    out = [
        ["node", "role", *(column.id for column in columns)],
        ["Node", "Role", *(column.label for column in columns)],
    ]
    return out + [
        [node.id, node.role, *(node.value(column.id) for column in columns)] for node in sheet.nodes
    ]


def land(rows: Rows, sheet: Sheet) -> Landed:
    """What a table means for a plan. Raises InputError when it has no header that names nodes and
    columns. Cost: O(cells).
    """
    if len(rows) > MAX_ROWS or max((len(row) for row in rows), default=0) > MAX_COLUMNS:
        raise InputError(
            f"the table has more than {MAX_ROWS - 1} rows or {MAX_COLUMNS} columns",
            code="table-large",
            hint="Split it.",
        )
    by_word = {
        word.strip().lower(): column
        for column in sheet.columns
        for word in (column.label, column.id)
    }
    at = next(
        (
            i
            for i, row in enumerate(rows[:5])
            if any(cell.strip().lower() == "node" for cell in row)
        ),
        None,
    )
    if at is None:
        raise InputError(
            "the table has no header with a column “node”",
            code="table-header",
            hint="Export the sheet to see an example.",
        )
    header = [cell.strip().lower() for cell in rows[at]]
    key = header.index("node")
    columns = [by_word.get(word) for word in header]
    nodes = {node.id: node for node in sheet.nodes} | {node.name: node for node in sheet.nodes}
    edits: list[Edit] = []
    wrong = [
        Wrong(at + 1, word, word, "the plan has no such column")
        for i, (word, column) in enumerate(zip(header, columns, strict=True))
        if column is None and i != key and word not in ("", "role")
    ]
    same = 0
    for number, row in enumerate(rows[at + 1 :], at + 2):
        name = row[key].strip() if key < len(row) else ""
        if not any(cell.strip() for cell in row) or name.lower() == "node":
            continue
        node = nodes.get(name)
        if node is None:
            wrong.append(Wrong(number, "node", name, "the plan has no node of that id or name"))
            continue
        for i, text in enumerate(row):
            column = columns[i] if i < len(columns) else None
            value = text.strip()
            if column is None or i == key:
                continue
            if value == node.value(column.id):
                same += 1
            elif why := _fault(column, value):
                wrong.append(Wrong(number, column.id, text, why))
            else:
                edits.append(Edit(path=("nodes", node.id, column.id), value=value or None))
    return Landed(tuple(edits), tuple(wrong), same)


def _fault(column: Column, value: str) -> str:
    """Why a text cannot be a value of the column, '' when it can."""
    if column.kind == "secret":
        return "secrets are typed on the page; tables do not contain them"
    if not value:
        return ""
    if column.kind == "address" and ip(value) is None:
        return "is not an IPv4 address"
    if column.kind == "number" and not value.isdigit():
        return "is not a number"
    if column.kind == "certificate" and not is_made_here(value):
        return f"certificates are brought on the page; a table may say “{MADE_HERE}”"
    if column.kind == "ssh-key" and (fault := ssh_key_fault(value)):
        return fault
    if column.draws and number_of(column.draws, value) is None:
        return f"is not {A_WORD[column.draws]}"
    if column.choices and value not in column.choices:
        return (
            "is not one of"
            f" {', '.join(column.choices[:6])}{' …' if len(column.choices) > 6 else ''}"
        )
    return next(iter(violations(value, column.rule)), "")
