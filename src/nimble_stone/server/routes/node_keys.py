"""Host keys and certificates by which deployed nodes are known, and confirming other ones."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Path
from pydantic import BaseModel, Field

from nimble_stone.app import node_keys
from nimble_stone.server.deps import TheApplication

router = APIRouter(tags=["deployments"])
Plan = Annotated[str, Path(max_length=60)]
Node = Annotated[str, Path(max_length=60)]


class NodeKeyView(BaseModel):
    """What is pinned for a port of a node, and what it shows now."""

    port: int
    kind: str = Field(description="“SSH host key” or “certificate”.")
    pinned: str
    shown: str = Field(description="Empty where the node cannot be asked.")
    trouble: str


class NodeKeysView(BaseModel):
    """Those of a node."""

    node: str
    name: str
    address: str
    keys: list[NodeKeyView]


class ConfirmedKey(BaseModel):
    """A fingerprint that a person compared on the node's console."""

    port: int = Field(ge=1, le=65_535)
    fingerprint: str = Field(min_length=1, max_length=200)


class ConfirmedKeys(BaseModel):
    """Those that take the place of what was pinned."""

    keys: list[ConfirmedKey] = Field(min_length=1, max_length=20)


def _view(found: node_keys.NodeKeys) -> NodeKeysView:
    keys = [NodeKeyView(**vars(one)) for one in found.keys]
    return NodeKeysView(node=found.node, name=found.name, address=found.address, keys=keys)


@router.get("/deployments/{plan}/nodes/{node}/keys")
async def node_keys_show(plan: Plan, node: Node, app: TheApplication) -> NodeKeysView:
    """What is pinned for a node, and what it shows now. Nothing is sent to it."""
    return _view(await node_keys.look(app, plan, node))


@router.post("/deployments/{plan}/nodes/{node}/keys")
async def node_keys_confirm(
    plan: Plan, node: Node, body: ConfirmedKeys, app: TheApplication
) -> NodeKeysView:
    """Pin other ones, which must be those that it shows now."""
    confirmed = {one.port: one.fingerprint for one in body.keys}
    return _view(await node_keys.confirm(app, plan, node, confirmed))
