"""Networks of the estate: made, changed, and removed where nothing uses them."""

from __future__ import annotations

from collections.abc import Mapping

from pydantic import ValidationError

from nimble_stone.app.application import Application
from nimble_stone.app.estate import estate_of
from nimble_stone.app.texts import parse_plan
from nimble_stone.core.errors import Conflict, InputError, NotFound
from nimble_stone.core.estate import Estate, EstateFile, Network
from nimble_stone.store import records

HINT = "Your input is kept; correct it."


async def keep(app: Application, given: Mapping[str, object]) -> Estate:
    """Make a network, or replace the one with this name; the estate with it. `given`: the members
    of a Network; empty texts are left out. Raises InputError in words, also for a pool of the
    network that would no longer lie in it.
    """
    network = _network({key: value for key, value in given.items() if value not in ("", None)})
    estate = await estate_of(app)
    outside = [
        pool.name
        for pool in estate.pools
        if pool.network == network.name
        and not (pool.first in network.subnet and pool.last in network.subnet)
    ]
    if outside:
        raise InputError(
            f"{network.subnet} does not contain pool {', '.join(outside[:5])}",
            code="network-pools",
            hint="Change or delete these pools first.",
        )
    await app.store.write(records.merge_estate, EstateFile(networks=(network,)))
    return await estate_of(app)


def _network(given: Mapping[str, object]) -> Network:
    try:
        network = Network.model_validate(given)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(map(str, first["loc"])).replace("_", " ")
        text = str(first["msg"]).removeprefix("Value error, ")
        raise InputError(
            f"{where}: {text}" if where else text, code="network-form", hint=HINT
        ) from error
    if network.gateway not in network.subnet:
        raise InputError(
            f"gateway {network.gateway} is not in {network.subnet}",
            code="network-gateway",
            hint=HINT,
        )
    return network


async def remove(app: Application, name: str) -> Estate:
    """Forget a network that no pool and no plan uses. Raises NotFound, Conflict."""
    estate = await estate_of(app)
    if estate.network(name) is None:
        raise NotFound(f"the estate has no network “{name}”")
    users = [f"pool {pool.name}" for pool in estate.pools if pool.network == name]
    users += [f"pool {one.name}" for one in estate.series if one.network == name]
    for row in await app.store.read(records.plans):
        if (await parse_plan(row.text)).names(name):
            users.append(f"plan {row.id}")
    if users:
        more = f" and {len(users) - 5} more" if len(users) > 5 else ""
        raise Conflict(
            f"network {name} is used by {', '.join(users[:5])}{more}",
            code="network-used",
            hint="Choose another network there first.",
        )
    await app.store.write(records.drop_network, name)
    return await estate_of(app)
