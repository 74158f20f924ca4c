"""The estate and the keyring's names."""

from __future__ import annotations

from typing import Literal

from fastapi import APIRouter
from pydantic import BaseModel, Field

from nimble_stone.core.errors import NotFound
from nimble_stone.core.estate import Estate, EstateFile, Network, Pool
from nimble_stone.engine import survey
from nimble_stone.server.deps import TheWorld
from nimble_stone.server.views import HostView, host_views
from nimble_stone.store import records

router = APIRouter(tags=["estate"])


class EstateView(BaseModel):
    hosts: list[HostView]
    networks: list[Network]
    pools: list[Pool]
    now: float


class Refresh(BaseModel):
    hosts: list[str] = Field(default=[], max_length=2000)


class Secret(BaseModel):
    kind: Literal["password", "key"] = "password"
    value: str = Field(min_length=1, max_length=20_000)


async def _view(world: TheWorld) -> EstateView:
    estate: Estate = await world.store.read(records.load_estate)
    return EstateView(hosts=host_views(estate, set(), await world.store.read(records.pins)), networks=list(estate.networks), pools=list(estate.pools),
                      now=world.clock())


@router.get("/estate")
async def estate(world: TheWorld) -> EstateView:
    """All hosts with their last facts, networks and pools."""
    return await _view(world)


@router.post("/estate")
async def estate_merge(body: EstateFile, world: TheWorld) -> EstateView:
    """Add hosts, networks and pools, or replace them by name."""
    await world.store.write(records.merge_estate, body)
    return await _view(world)


@router.post("/estate/read")
async def estate_read(body: Refresh, world: TheWorld) -> EstateView:
    """Read the named hosts anew, or all."""
    found: Estate = await world.store.read(records.load_estate)
    chosen = [host for host in found.hosts if not body.hosts or host.name in body.hosts]
    await survey.read_hosts(world, chosen, found.facts)
    return await _view(world)


@router.delete("/estate/hosts/{name}/pin")
async def forget_pin(name: str, world: TheWorld) -> EstateView:
    """Forget a pinned host key, after its fingerprint was compared elsewhere."""
    host = (await world.store.read(records.load_estate)).host(name)
    if host is None:
        raise NotFound(f"the estate has no host “{name}”")
    await world.store.write(records.drop_pin, f"{host.address}:{host.port}")
    return await _view(world)


@router.get("/secrets")
async def secret_names(world: TheWorld) -> dict[str, str]:
    """Names and kinds; values never leave."""
    return dict(await world.store.read(records.secret_names))


@router.put("/secrets/{name:path}")
async def put_secret(name: str, body: Secret, world: TheWorld) -> dict[str, str]:
    """Keep a secret."""
    return {"reference": await world.keep_secret(name, body.value, body.kind)}
