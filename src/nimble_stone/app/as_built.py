"""The deployment as it was built at an instant, and what changed since another one."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

from nimble_stone.app.application import Application
from nimble_stone.app.deployments import standing
from nimble_stone.core.as_built import LABELS, Changed, Record, compared, record_of
from nimble_stone.core.errors import NotFound
from nimble_stone.engine.frozen import thawed
from nimble_stone.store import runs


@dataclass(frozen=True)
class AsBuilt:
    """The nodes at an instant, and what changed since an earlier one. `labels`: of
    columns.
    """

    records: Mapping[str, Record]
    changed: tuple[Changed, ...]
    labels: Mapping[str, str]


async def at(app: Application, plan: str, instant: float, since: float | None) -> AsBuilt:
    """Instants in seconds. Raises NotFound for a plan that was never rolled out."""
    rows = await app.store.read(runs.of_plan, plan)
    if not rows:
        raise NotFound(
            f"{plan} was never rolled out", hint="See `plan list` for the names of plans."
        )
    newest = await thawed(app.store, await app.store.read(runs.get_run, rows[-1].id))
    labels = {column.id: column.label for column in newest.sheet.columns} | LABELS
    vms = await app.store.read(runs.defined_vms, plan)

    async def records(moment: float) -> dict[str, Record]:
        built = await standing(app, plan, moment)
        return {
            ident: record_of(one, vms.get(one.run, {}).get(ident, ""))
            for ident, one in built.items()
        }

    now = await records(instant)
    changed = [] if since is None else compared(await records(since), now)
    named = [replace(one, label=labels.get(one.label, one.label)) for one in changed]
    return AsBuilt(now, tuple(named), labels)
