"""Shared values: who includes them, what a change of them would do, and keeping them."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping
from dataclasses import dataclass

from nimble_stone.app.application import Application
from nimble_stone.app.evaluate import evaluate
from nimble_stone.app.plans import keep_claims
from nimble_stone.app.resolved import Resolved
from nimble_stone.app.texts import parse_plan, parse_values, shared_of
from nimble_stone.core.errors import Conflict, InputError, StoneError
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.plan.include import gather
from nimble_stone.core.plan.model import SharedValues
from nimble_stone.store import designs, records
from nimble_stone.store.designs import SharedRow

Kits = Mapping[str, Kit]
Users = Mapping[str, list[str]]
"""Shared values by name → the plans that include them, directly or by others."""


@dataclass(frozen=True)
class Touched:
    """A plan before and after a change of shared values."""

    plan: str
    before: Resolved
    after: Resolved


async def users(app: Application) -> Users:
    """Who includes what. Cost: O(plans × includes)."""
    known = await shared_of(app)
    found: dict[str, list[str]] = {}
    for row in await app.store.read(records.plans):
        names, seen = list((await parse_plan(row.text)).include), set[str]()
        while names:
            name = names.pop()
            if name not in seen:
                seen.add(name)
                found.setdefault(name, []).append(row.id)
                names += known[name].include if name in known else ()
    return found


async def keep(
    app: Application, kits: Kits, name: str, text: str, version: int | None
) -> SharedRow:
    """Keep shared values; every plan that includes them follows. Raises InputError, Conflict."""
    values = await _fitting(app, name, text)
    row = await app.store.write(
        designs.put_shared, values.name, text, app.clock(), based_on=version
    )
    for ident in (await users(app)).get(name, []):
        # a plan that cannot be resolved (its kit is gone) goes on holding what it held
        with contextlib.suppress(StoneError):
            plan = await app.store.read(records.get_plan, ident)
            await keep_claims(app, await evaluate(app, kits, plan.text))
    return row


async def touched(app: Application, kits: Kits, name: str, text: str) -> list[Touched]:
    """What a change would do to each plan that includes the values. Nothing is changed."""
    values = await _fitting(app, name, text)
    found = []
    for ident in (await users(app)).get(name, []):
        plan = (await app.store.read(records.get_plan, ident)).text
        before = await evaluate(app, kits, plan)
        found.append(Touched(ident, before, await evaluate(app, kits, plan, instead=values)))
    return found


async def remove(app: Application, name: str) -> None:
    """Forget shared values that no plan includes. Raises Conflict."""
    plans = (await users(app)).get(name, [])
    others = [
        row.name
        for row in await app.store.read(designs.shared_values)
        if name in (await parse_values(row.text)).include
    ]
    if plans or others:
        raise Conflict(
            f"“{name}” is included by {', '.join([*plans, *others][:5])}",
            code="values-used",
            hint="Remove the include there first.",
        )
    await app.store.write(designs.remove_shared, name)


async def _fitting(app: Application, name: str, text: str) -> SharedValues:
    """The values a text holds, if they can stand under that name without a ring."""
    values = await parse_values(text)
    if values.name != name:
        raise InputError(
            f"the text has the name “{values.name}”, but these are “{name}”", code="values-name"
        )
    gather([name], await shared_of(app) | {name: values})
    return values
