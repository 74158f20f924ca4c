"""Many plans from one table: each row is resolved as if built after those before it, and all are
made at once, with what people would have to do once for each of them: licence and passwords.
"""

from __future__ import annotations

import secrets
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

from nimble_stone.app.application import Application
from nimble_stone.app.aside import aside
from nimble_stone.app.choices import usual_of
from nimble_stone.app.editing import SecretPlace, new_plan, secret_name
from nimble_stone.app.estate import estate_of
from nimble_stone.app.evaluate import evaluate
from nimble_stone.app.licences import accepted
from nimble_stone.app.resolved import Before, Resolved
from nimble_stone.app.texts import shared_of
from nimble_stone.core import secrets_rule, yaml_text
from nimble_stone.core.errors import InputError, StoneError
from nimble_stone.core.findings import Finding
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.plan import many
from nimble_stone.core.plan.beginning import beginning
from nimble_stone.core.plan.columns import Column
from nimble_stone.core.plan.include import gather
from nimble_stone.store import records

Kits = Mapping[str, Kit]


@dataclass(frozen=True)
class Together:
    """What is done for all plans of a table: who accepts their licences ('': they stay as they
    are), and whether missing passwords are generated.
    """

    licence_by: str = ""
    passwords: bool = False


@dataclass(frozen=True)
class Drawn:
    """A row of the table: what came of it, or why it is no plan."""

    row: many.Drawn
    faults: tuple[str, ...]
    resolved: Resolved | None = None
    findings: tuple[Finding, ...] = ()
    """Those that stay when what is done for all plans is done."""
    to_make: tuple[Column, ...] = ()
    """Columns whose password would be made."""


@dataclass
class Table:
    """The rows of a table as plans, in its order."""

    drawn: list[Drawn] = field(default_factory=list)

    @property
    def faulty(self) -> list[Drawn]:
        """Rows that are no plans."""
        return [one for one in self.drawn if one.faults]


async def draw(
    app: Application,
    kits: Kits,
    rows: Sequence[Sequence[str]],
    base: many.Base,
    together: Together,
) -> Table:
    """Every row as a plan, each after those before it. Nothing is kept. Raises InputError for a
    table without a header.
    """
    own = {kit.id: await usual_of(app, kit) for kit in kits.values()}
    base = replace(base, own_packages=own)
    estate = await estate_of(app)
    included = gather(base.include, await shared_of(app))

    def begin(kit: Kit, bay: str) -> dict[str, str]:
        first = beginning(kit, bay, estate)
        return {column: value for column, value in first.items() if column not in included}

    known = {row.id for row in await app.store.read(records.plans)}
    found, before = Table(), Before()
    for row in await aside(many.plans_of, rows, base, kits, begin):
        if row.name in known:
            row = many.Drawn(row.row, row.name, "", (f"plan “{row.name}” exists already",))
        one = await _drawn(app, kits, row, before, together)
        if one.resolved is not None:
            before.add(one.resolved)
        found.drawn.append(one)
    return found


async def _drawn(
    app: Application, kits: Kits, row: many.Drawn, before: Before, together: Together
) -> Drawn:
    if not row.text:
        return Drawn(row, row.faults)
    try:
        resolved = await evaluate(app, kits, row.text, before=before)
        if together.licence_by and resolved.licence:
            given = accepted(resolved.licence, together.licence_by, app.clock())
            text = await aside(yaml_text.edit, row.text, ("licence",), given)
            row = replace(row, text=text)
            resolved = await evaluate(app, kits, text, before=before)
    except StoneError as error:
        return Drawn(row, (*row.faults, str(error)))
    columns = _without_password(resolved) if together.passwords else ()
    made = {column.id for column in columns}
    stay = tuple(
        one for one in resolved.findings if not (one.code == "unanswered" and one.column in made)
    )
    return Drawn(row, row.faults, resolved, stay, columns)


def _without_password(resolved: Resolved) -> tuple[Column, ...]:
    asked = {one.column for one in resolved.findings if one.code == "unanswered"}
    columns = resolved.sheet.columns
    return tuple(one for one in columns if one.kind == "secret" and one.id in asked)


async def make(app: Application, kits: Kits, table: Table) -> list[str]:
    """Keep all plans of a table, if every row is one; their names. Raises InputError."""
    if table.faulty:
        first = table.faulty[0]
        raise InputError(
            f"row {first.row.row}: {first.faults[0]}",
            code="table-faults",
            hint="No plans were created. Fix these rows and try again.",
        )
    made = []
    for one in table.drawn:
        text = one.row.text
        for column in one.to_make:
            value = secrets_rule.made_by(column.rule, secrets.choice)
            name = secret_name(one.row.name, "", column.id)
            reference = await app.keep_secret(name, value)
            text = await aside(yaml_text.edit, text, SecretPlace(column.id).path, reference)
        await new_plan(app, kits, text)
        made.append(one.row.name)
    return made
