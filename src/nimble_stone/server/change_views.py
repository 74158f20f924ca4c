"""What a run would change of a deployment, as pages and the terminal show it."""

from __future__ import annotations

from pydantic import BaseModel, Field

from nimble_stone.app.resolved import Resolved


class ChangedNode(BaseModel):
    """A node that is added, removed, or both."""

    node: str
    name: str
    role: str
    host: str
    run: str = Field(default="", description="The run that made it, where it stands.")


class DiffersView(BaseModel):
    """A value that is planned otherwise than it was built."""

    node: str
    name: str
    column: str
    label: str
    was: str
    now: str


class ChangesView(BaseModel):
    """What a run would do. `stands`: whether anything of the plan stands."""

    stands: bool
    nodes: int = Field(default=0, description="How many nodes stand.")
    adds: list[ChangedNode] = []
    removes: list[ChangedNode] = []
    differs: list[DiffersView] = []
    forecast_s: float = 0.0
    differing: list[str] = Field(
        default=[], description="Nodes that were found otherwise than they were built."
    )


def changes_view(found: Resolved) -> ChangesView:
    """All of it. Cost: O(nodes)."""
    changes = found.changes
    if changes is None:
        return ChangesView(stands=False)
    planned = found.sheet.by_id
    adds = [
        ChangedNode(
            node=ident,
            name=planned[ident].name,
            role=planned[ident].role,
            host=planned[ident].value("host"),
        )
        for ident in changes.adds
    ]
    removes = [
        ChangedNode(
            node=ident,
            name=changes.standing[ident].node.name,
            role=changes.standing[ident].node.role,
            host=changes.standing[ident].node.value("host"),
            run=changes.standing[ident].run,
        )
        for ident in changes.removes
    ]
    return ChangesView(
        stands=True,
        nodes=len(changes.standing),
        adds=adds,
        removes=removes,
        differs=[DiffersView(**vars(one)) for one in changes.differs],
        forecast_s=found.forecast.end_s if changes.any else 0.0,
    )
