"""Pools and series: drawn member by member, made, changed and given up."""

from __future__ import annotations

from typing import Literal

from fastapi import APIRouter
from pydantic import BaseModel, Field, ValidationError

from nimble_stone.app.application import Application
from nimble_stone.app.claims import claims_of_others
from nimble_stone.app.estate import estate_of
from nimble_stone.app.texts import parse_plan, shared_of
from nimble_stone.core import ledger
from nimble_stone.core.errors import Conflict, InputError, NotFound
from nimble_stone.core.estate import Estate, EstateFile, Pool
from nimble_stone.core.series import Series, listed
from nimble_stone.server.deps import TheApplication
from nimble_stone.store import records

router = APIRouter(tags=["pools"])


class MemberView(BaseModel):
    """An address of a pool: `state` one of free, excluded, reserved, held, found."""

    address: str
    state: Literal["free", "excluded", "reserved", "held", "found"]
    by: str


class PoolView(BaseModel):
    """A pool and each of its addresses (at most 4,096), the free room and its largest gap."""

    name: str
    kind: Literal["ipv4", "ipv6", "mac", "number"]
    network: str
    first: str
    last: str
    size: int
    free: int
    largest_gap: int
    order: Literal["up", "down"]
    excluded: str
    reserved: str
    members: list[MemberView]


class PoolEdit(BaseModel):
    """A pool or series as it is typed. `excluded`: single members and ranges; `reserved`: a
    line each, the member and for whom.
    """

    name: str = Field(min_length=1, max_length=60, pattern=r"^[a-z0-9][a-z0-9.-]*$")
    kind: Literal["ipv4", "ipv6", "mac", "number"]
    network: str = Field(default="", max_length=60)
    first: str = Field(max_length=60)
    last: str = Field(max_length=60)
    order: Literal["up", "down"] = "up"
    excluded: str = Field(default="", max_length=200_000)
    reserved: str = Field(default="", max_length=200_000)


@router.get("/pools")
async def pools(app: TheApplication) -> list[PoolView]:
    """All pools with every address: free, excluded, reserved, held by a plan or run, or found in
    use on the estate.
    """
    return await _view(app)


@router.put("/pools")
async def put_pool(body: PoolEdit, app: TheApplication) -> list[PoolView]:
    """Make a pool, or replace the one with this name. Plans keep what they hold of it as long as it
    still lies in there. Raises InputError.
    """
    estate = await estate_of(app)
    kinds = {pool.name: "ipv4" for pool in estate.pools} | {
        one.name: one.kind for one in estate.series
    }
    if kinds.get(body.name, body.kind) != body.kind:
        raise InputError(
            f"pool “{body.name}” exists already, with another kind",
            code="pool-kind",
            hint="Choose another name.",
        )
    await app.store.write(records.merge_estate, _file(body, estate))
    return await _view(app)


@router.delete("/pools/{name}")
async def drop_pool(name: str, app: TheApplication) -> list[PoolView]:
    """Give a pool up. Raises NotFound, Conflict as long as plans draw from it."""
    estate = await estate_of(app)
    if estate.pool(name) is None and estate.one_series(name) is None:
        raise NotFound(f"the estate has no pool “{name}”")
    users = [
        row.id
        for row in await app.store.read(records.plans)
        if (await parse_plan(row.text)).names(name)
    ]
    users += [
        one.name for one in (await shared_of(app)).values() if name in map(str, one.values.values())
    ]
    if users:
        raise Conflict(
            f"“{name}” is used by"
            f" {', '.join(users[:5])}{f' and {len(users) - 5} more' if len(users) > 5 else ''}",
            code="pool-used",
            hint="Choose another pool there first.",
        )
    await app.store.write(records.drop_pool, name)
    return await _view(app)


async def _view(app: Application) -> list[PoolView]:
    estate = await estate_of(app)
    held = {
        address: claim.plan + (f", run {claim.run}" if claim.run else "")
        for claim in await claims_of_others(app, "")
        for address in claim.addresses
    }
    return [PoolView(**line) for line in ledger.pool_members(estate, held)]


def _file(body: PoolEdit, estate: Estate) -> EstateFile:
    """The pool as a part of an estate file. Raises InputError in words when it is none."""
    reserved: dict[str, str] = {}
    for line in body.reserved.splitlines():
        member, _, whom = line.strip().partition(" ")
        reserved |= {one: whom.strip()[:200] or "reserved" for one in listed(body.kind, member)}
    network = estate.network(body.network)
    if body.kind in ("ipv4", "ipv6") and network is None:
        raise InputError(
            (
                f"the estate has no network “{body.network}”"
                if body.network
                else "no network is chosen that the addresses lie in"
            ),
            code="pool-network",
        )
    made = {
        "name": body.name,
        "network": body.network if body.kind in ("ipv4", "ipv6") else "",
        "first": body.first.strip(),
        "last": body.last.strip(),
        "order": body.order,
        "excluded": listed(body.kind, body.excluded),
        "reserved": reserved,
    }
    try:
        if body.kind == "ipv4":
            pool = Pool.model_validate(made)
            subnet = network.subnet if network else None
            if subnet is not None and not (pool.first in subnet and pool.last in subnet):
                raise InputError(
                    f"{pool.first} to {pool.last} is not in {body.network} ({subnet})",
                    code="pool-outside",
                )
            return EstateFile(pools=(pool,))
        return EstateFile(series=(Series.model_validate(made | {"kind": body.kind}),))
    except ValidationError as error:
        first = error.errors()[0]
        raise InputError(
            str(first["msg"]).removeprefix("Value error, ")
            + (f" ({'.'.join(map(str, first['loc']))})" if first["loc"] else ""),
            code="pool-form",
            hint="Your input is kept; correct it.",
        ) from error
