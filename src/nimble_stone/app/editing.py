"""Changing a plan: each change is a new version of its text, resolved before it is kept."""

from __future__ import annotations

import secrets
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from nimble_stone.app.application import Application
from nimble_stone.app.aside import aside
from nimble_stone.app.choices import kit_of, usual_of
from nimble_stone.app.estate import estate_of
from nimble_stone.app.evaluate import evaluate
from nimble_stone.app.licences import accepted
from nimble_stone.app.plans import keep_plan
from nimble_stone.app.resolved import Resolved
from nimble_stone.app.texts import parse_plan
from nimble_stone.core import secrets_rule, yaml_text
from nimble_stone.core.errors import Conflict, InputError
from nimble_stone.core.findings import Edit
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.plan.beginning import beginning
from nimble_stone.core.plan.cells import MADE_HERE
from nimble_stone.core.plan.columns import Column
from nimble_stone.core.runs.states import RunState
from nimble_stone.store import records, runs
from nimble_stone.store.records import PlanRow

Kits = Mapping[str, Kit]


@dataclass(frozen=True)
class Kept:
    """A plan's version as it is stored, and what came of it."""

    row: PlanRow
    resolved: Resolved


async def keep_text(
    app: Application, kits: Kits, ident: str, text: str, version: int | None
) -> Kept:
    """Validate a text, then keep it as the version after `version` (None: whatever is there).
    Raises FormatError, InputError, Conflict.
    """
    plan = await parse_plan(text)
    kit_of(plan, kits)
    if plan.name != ident:
        raise InputError(
            f"the plan's name is “{plan.name}”, but this is plan “{ident}”",
            code="plan-name",
            hint="A plan keeps its name; import it as a new one.",
        )
    resolved = await evaluate(app, kits, text)
    return Kept(await keep_plan(app, resolved, text, version), resolved)


async def new_plan(app: Application, kits: Kits, text: str) -> Kept:
    """Keep a plan under a name that is free. Raises Conflict, and what `keep_text` raises."""
    plan = await parse_plan(text)
    kit_of(plan, kits)
    if any(row.id == plan.name for row in await app.store.read(records.plans)):
        raise Conflict(
            f"plan “{plan.name}” exists already",
            code="plan-exists",
            hint="Choose another name.",
        )
    return await keep_text(app, kits, plan.name, text, 0)


async def first_text(
    app: Application, kits: Kits, *, name: str, kit: str, bay: str, packages: Mapping[str, str]
) -> str:
    """The text a new plan begins with. `packages`: role ('' for the plan's own) → title; roles that
    are not named get what is usual. Raises InputError.
    """
    if kit not in kits:
        raise InputError("choose a kit", code="kit-unknown")
    chosen = kits[kit]
    newest = await usual_of(app, chosen) | {
        role: title for role, title in packages.items() if title
    }
    roles: dict[str, dict[str, Any]] = {}
    for role in chosen.roles:
        count = {} if role.count.per_host else {"count": role.count.usual}
        roles[role.id] = count | ({"package": newest[role.id]} if role.id in newest else {})
    # Names of packages and bays come from outside: the writer quotes what needs it.
    return yaml_text.write(
        {
            "nimble-stone": "plan/1",
            "name": name,
            "kit": chosen.id,
            "package": newest.get("", ""),
            "bay": bay,
            "values": beginning(chosen, bay, await estate_of(app)),
            "roles": {ident: block for ident, block in roles.items() if block},
        }
    )


async def edit(
    app: Application, kits: Kits, ident: str, version: int, edits: Sequence[Edit]
) -> Kept:
    """Apply small changes, all or none, to the version that a person saw. What others changed
    elsewhere meanwhile stays. Raises Conflict when they changed the same.
    """
    row = await app.store.read(records.get_plan, ident)
    if version != row.version:
        theirs = await aside(
            yaml_text.changed_paths,
            await app.store.read(records.plan_version, ident, version),
            row.text,
        )
        if clash := yaml_text.clashes((change.path for change in edits), theirs):
            raise Conflict(
                f"plan “{ident}” was changed by another user, also at"
                f" {_places(clash)} (version {row.version}, your edit was of {version})",
                code="plan-changed",
                hint="Your edit is kept. Check the new version and repeat it.",
            )
    # it touches nothing that another user changed: both stand
    return await keep_text(app, kits, ident, await _edited(row.text, edits), row.version)


async def attempt(app: Application, kits: Kits, ident: str, edits: Sequence[Edit]) -> Kept:
    """What changes would bring, as long as they are only being typed or dragged. Nothing is kept
    and nothing is held: the row is the plan's as it stands.
    """
    row = await app.store.read(records.get_plan, ident)
    return Kept(row, await evaluate(app, kits, await _edited(row.text, edits)))


async def undo(app: Application, kits: Kits, ident: str, version: int) -> Kept:
    """Undo the one change that made a version (undoing that in turn is redo). What others changed
    elsewhere since stays. Raises Conflict when the same was changed again.
    """
    if version < 2:
        raise InputError("the first version has no earlier version", code="nothing-before")
    row = await app.store.read(records.get_plan, ident)
    before, after = [
        await app.store.read(records.plan_version, ident, number)
        for number in (version - 1, version)
    ]
    text, again = await aside(yaml_text.taken_back, before, after, row.text)
    if again:
        raise Conflict(
            f"this was changed again at {_places(again)}",
            code="changed-since",
            hint="Nothing was undone. Check the value and change it by hand.",
        )
    return await keep_text(app, kits, ident, text, row.version)


async def keep_typed_secret(
    app: Application, kits: Kits, ident: str, version: int, place: SecretPlace, value: str
) -> Kept:
    """Keep a typed secret in the keyring; the plan gets the reference. Raises InputError for one
    that breaks its column's rule.
    """
    row = await app.store.read(records.get_plan, ident)
    column = _secret_column(await evaluate(app, kits, row.text), place.column)
    if lacks := secrets_rule.violations(value, column.rule):
        raise InputError(
            f"{column.label} {lacks[0]}",
            code="secret-weak",
            hint="Type a longer or more varied one. The old value is kept.",
        )
    reference = await app.keep_secret(secret_name(ident, place.node, place.column), value)
    text = await aside(yaml_text.edit, row.text, place.path, reference)
    return await keep_text(app, kits, ident, text, version)


async def renew(app: Application, kits: Kits, ident: str, version: int, column: str) -> Kept:
    """Let a secret or a certificate of the whole plan be another one: a secret that keeps its
    column's rule is made, a certificate is made once more. Deployed nodes get it with the next
    run, as their kit says. Raises InputError for other columns.
    """
    row = await app.store.read(records.get_plan, ident)
    found = (await evaluate(app, kits, row.text)).sheet.columns
    wanted = next((one for one in found if one.id == column), None)
    if wanted is not None and wanted.kind == "certificate":
        now = datetime.fromtimestamp(app.clock(), UTC)
        value = f"{MADE_HERE}, {now:%Y-%m-%d %H:%M:%S}"
        edits = [Edit(path=("values", column), value=value)]
        return await edit(app, kits, ident, version, edits)
    value = await made_secret(app, kits, ident, column)
    return await keep_typed_secret(app, kits, ident, version, SecretPlace(column), value)


async def made_secret(app: Application, kits: Kits, ident: str, column: str) -> str:
    """A secret that keeps a column's rule, to be looked at and then kept."""
    row = await app.store.read(records.get_plan, ident)
    found = _secret_column(await evaluate(app, kits, row.text), column)
    return secrets_rule.made_by(found.rule, secrets.choice)


@dataclass(frozen=True)
class SecretPlace:
    """Where a plan refers to a secret: a column, of one node or ('') of all."""

    column: str
    node: str = ""

    @property
    def path(self) -> tuple[str, ...]:
        """Where in the plan's text."""
        return ("nodes", self.node, self.column) if self.node else ("values", self.column)


def secret_name(ident: str, node: str, column: str) -> str:
    """A name of its own for each secret that is kept: a run under way, an older version and
    another person's edit keep the one they know.
    """
    return f"plan/{ident}/{node + '/' if node else ''}{column}/{secrets.token_hex(4)}"


async def accept_licence(app: Application, kits: Kits, ident: str, version: int, by: str) -> Kept:
    """Accept the licence of the plan's packages in a person's name."""
    row = await app.store.read(records.get_plan, ident)
    resolved = await evaluate(app, kits, row.text)
    if not resolved.licence:
        raise InputError("the package has no licence text", code="no-licence")
    given = accepted(resolved.licence, by, app.clock())
    text = await aside(yaml_text.edit, row.text, ("licence",), given)
    return await keep_text(app, kits, ident, text, version)


async def remove(app: Application, ident: str) -> None:
    """Remove a plan whose cluster does not exist (any more); its runs keep their record. Raises
    Conflict.
    """
    found = await app.store.read(runs.runs, ident)
    standing = [run.id for run in found if run.state != RunState.UNDONE]
    if standing:
        raise Conflict(
            f"Plan {ident} is not deleted: what run {standing[0]} built from it still exists.",
            code="plan-built",
            hint="Roll the run back first.",
        )
    await app.store.write(records.remove_plan, ident)


async def _edited(text: str, edits: Sequence[Edit]) -> str:
    return await aside(yaml_text.edit_all, text, [(one.path, one.value) for one in edits])


def _places(paths: Iterable[tuple[str, ...]]) -> str:
    return ", ".join(sorted({".".join(path) for path in paths})[:4])


def _secret_column(resolved: Resolved, ident: str) -> Column:
    for column in resolved.sheet.columns:
        if column.id == ident and column.kind == "secret":
            return column
    raise InputError("this column has no secret", code="not-secret")
