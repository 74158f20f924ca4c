"""A plan copied to another bay: with secrets of its own, for no plan opens those of another."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from nimble_stone.app.application import Application
from nimble_stone.app.aside import aside
from nimble_stone.app.editing import Kits, new_plan, secret_name
from nimble_stone.app.estate import estate_of
from nimble_stone.app.texts import parse_plan
from nimble_stone.core import grants, yaml_text
from nimble_stone.core.errors import Denied, InputError, NotFound
from nimble_stone.core.plan import many
from nimble_stone.core.plan.model import Plan
from nimble_stone.store import records

Path = tuple[str, ...]


async def copy_plan(
    app: Application, kits: Kits, ident: str, name: str, bay: str, mapping: Mapping[str, str]
) -> many.Copied:
    """Keep the plan under another name for another bay. `mapping`: values of the old bay → of the
    new one. Entries of the keyring that belong to the plan itself are kept once more for the copy.
    Raises InputError, NotFound, Conflict.
    """
    row = await app.store.read(records.get_plan, ident)
    estate = await estate_of(app)
    if not estate.bay(bay):
        raise InputError(f"the estate has no bay “{bay}”", code="bay-unknown")
    copied = await aside(many.copy, row.text, name, bay, mapping, estate)
    edits: list[tuple[Path, Any]] = []
    made: dict[str, str] = {}
    for path, reference in _own_secrets(await parse_plan(row.text)):
        if reference not in made:
            made[reference] = await _kept_again(app, ident, name, path[-1], reference)
        edits.append((path, made[reference] or None))
    text = await aside(yaml_text.edit_all, copied.text, edits) if edits else copied.text
    await new_plan(app, kits, text)
    return many.Copied(text, copied.left)


def _own_secrets(plan: Plan) -> Iterator[tuple[Path, str]]:
    """Where a plan names entries that belong to it."""
    mine = f"{grants.PREFIX}plan/{plan.name}/"
    for path, values in plan.levels().items():
        for column, value in values.items():
            if str(value).startswith(mine):
                yield (*path, column), str(value)


async def _kept_again(app: Application, plan: str, name: str, column: str, reference: str) -> str:
    """The copy's own reference; '' for an entry that is lost, which a finding will tell."""
    try:
        value = await app.open_for_plan(plan, reference)
    except (NotFound, Denied):
        return ""
    kind = "certificate" if column.startswith("certificate.") else "password"
    return await app.keep_secret(secret_name(name, "", column), value, kind)
