"""Shared values: reading, keeping, and what a change of them would do."""

from __future__ import annotations

from fastapi import APIRouter
from pydantic import BaseModel, Field

from nimble_stone.app import designing, shared_values
from nimble_stone.app.designing import ChangeLine
from nimble_stone.app.resolved import Resolved
from nimble_stone.app.texts import parse_values
from nimble_stone.core.plan.difference import differences
from nimble_stone.server.deps import TheApplication, TheKits
from nimble_stone.store import designs

router = APIRouter(tags=["shared values"])


class SharedView(BaseModel):
    """Shared values, and the plans that include them, directly or by others."""

    name: str
    title: str
    version: int
    text: str
    values: dict[str, str]
    plans: list[str]
    changed_at: float


class SharedIn(BaseModel):
    version: int | None = None
    text: str = Field(max_length=1 << 20)


class TouchedView(BaseModel):
    """What a change of shared values would do to a plan: the differences it makes there."""

    plan: str
    differences: list[ChangeLine]
    blockers_before: int
    blockers_after: int


@router.get("/values")
async def values_list(app: TheApplication) -> list[SharedView]:
    """All shared values."""
    using = await shared_values.users(app)
    return [await _shared_view(row, using) for row in await app.store.read(designs.shared_values)]


async def _shared_view(row: designs.SharedRow, using: shared_values.Users) -> SharedView:
    values = await parse_values(row.text)
    return SharedView(
        name=row.name,
        title=values.title,
        version=row.version,
        text=row.text,
        values={key: str(value) for key, value in values.values.items()},
        plans=using.get(row.name, []),
        changed_at=row.changed_at,
    )


@router.put("/values/{name}")
async def values_put(name: str, body: SharedIn, app: TheApplication, kits: TheKits) -> SharedView:
    """Keep shared values; every plan that includes them follows."""
    row = await shared_values.keep(app, kits, name, body.text, body.version)
    return await _shared_view(row, await shared_values.users(app))


@router.post("/values/{name}/touches")
async def values_touch(
    name: str, body: SharedIn, app: TheApplication, kits: TheKits
) -> list[TouchedView]:
    """What a change of shared values would do to each plan that includes them. Nothing is changed
    yet.
    """
    return [
        TouchedView(
            plan=one.plan,
            differences=designing.difference_views(differences(one.before.sheet, one.after.sheet)),
            blockers_before=_blockers(one.before),
            blockers_after=_blockers(one.after),
        )
        for one in await shared_values.touched(app, kits, name, body.text)
    ]


def _blockers(resolved: Resolved) -> int:
    return sum(finding.severity == "blocker" for finding in resolved.findings)


@router.delete("/values/{name}")
async def values_remove(name: str, app: TheApplication) -> dict[str, str]:
    """Forget shared values that no plan includes."""
    await shared_values.remove(app, name)
    return {"state": "removed"}
