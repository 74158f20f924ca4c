"""Former system disks of upgraded nodes: which there are, and removing them."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Path
from pydantic import BaseModel, Field

from nimble_stone.app import former
from nimble_stone.server.deps import TheApplication

router = APIRouter(tags=["deployments"])
Plan = Annotated[str, Path(max_length=60)]


class FormerDiskView(BaseModel):
    """A disk, or config ISO, that a node no longer uses. Bytes as they lie on the datastore."""

    node: str
    name: str
    host: str
    datastore: str
    volume: str
    physical_bytes: int
    made_by: str = Field(description="The run that it is from.")
    needed_by: str = Field(description="The run whose rollback needs it.")


class FormerDisks(BaseModel):
    """Those of a deployment, or those that were removed."""

    plan: str
    disks: list[FormerDiskView]


class Removing(BaseModel):
    """A decision to remove them."""

    confirm: str = Field(max_length=60, description="The plan's name.")


def _view(plan: str, found: list[former.FormerDisk]) -> FormerDisks:
    return FormerDisks(plan=plan, disks=[FormerDiskView(**vars(one)) for one in found])


@router.get("/deployments/{plan}/former")
async def deployment_former(plan: Plan, app: TheApplication) -> FormerDisks:
    """Former system disks that lie on the hosts. Nothing is changed."""
    return _view(plan, await former.look(app, plan))


@router.post("/deployments/{plan}/former")
async def deployment_former_remove(plan: Plan, body: Removing, app: TheApplication) -> FormerDisks:
    """Delete them; upgrades that need them can no longer be rolled back."""
    return _view(plan, list(await former.remove(app, plan, body.confirm)))
