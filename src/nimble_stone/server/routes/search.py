"""Finding anything by a part of its name."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query
from pydantic import BaseModel

from nimble_stone.server.deps import TheApplication
from nimble_stone.store import search as found

router = APIRouter(tags=["search"])
MOST = 8
"""Of each kind."""


class HitView(BaseModel):
    """Something that was found. `part`: of a node or address, which one in plan `ident`; of a run,
    its plan.
    """

    kind: found.Kind
    ident: str
    part: str
    name: str
    detail: str


@router.get("/search")
async def search(
    text: Annotated[str, Query(min_length=2, max_length=100)], app: TheApplication
) -> list[HitView]:
    """Hosts, machines, nodes, addresses, packages and runs whose name holds the text, at most 8 of
    each.
    """
    return [HitView(**vars(hit)) for hit in await app.store.read(found.search, text, MOST)]
