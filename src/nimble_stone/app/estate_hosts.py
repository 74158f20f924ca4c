"""Hosts of the estate: refreshed, changed, and removed where nothing needs them."""

from __future__ import annotations

from collections.abc import Collection, Mapping

from nimble_stone.app.application import Application
from nimble_stone.app.estate import estate_of
from nimble_stone.core.errors import Conflict, NotFound
from nimble_stone.core.estate import Estate, EstateFile, Facts, Host, StoreCare
from nimble_stone.engine import adding, survey
from nimble_stone.store import records


def host_of(estate: Estate, name: str) -> Host:
    """The host with this name. Raises NotFound."""
    host = estate.host(name)
    if host is None:
        raise NotFound(f"the estate has no host “{name}”")
    return host


def facts_of(estate: Estate, name: str) -> Facts:
    """The last facts of a host; empty ones with the reason when it was never read."""
    return estate.facts.get(name, Facts(host=name, trouble="it was never read"))


def cares_of(estate: Estate, facts: Facts) -> list[StoreCare]:
    """Usage limits and protection classes of a host's datastores, shared ones included."""
    shared = {store.shared for store in facts.datastores} - {""}
    return [
        care
        for care in estate.stores
        if care.place.startswith(f"{facts.host}/") or care.place in shared
    ]


async def refresh(app: Application, names: Collection[str]) -> None:
    """Read the named hosts, or all when none is named."""
    estate = await estate_of(app)
    chosen = [host for host in estate.hosts if not names or host.name in names]
    await survey.read_hosts(app, chosen, estate.facts)


async def change(app: Application, name: str, new_name: str, changes: Mapping[str, object]) -> None:
    """Rename a host ('': keeps its name), and replace members of it. Raises NotFound, and Conflict
    when plans or VMs need the name.
    """
    host = host_of(await estate_of(app), name)
    if new_name and new_name != name:
        await _free(app, name, "cannot be renamed")
        await app.store.write(records.rename_host, name, new_name)
        host = host.model_copy(update={"name": new_name})
    changed = host.model_copy(update=dict(changes))
    await app.store.write(records.merge_estate, EstateFile(hosts=(changed,)))


async def remove(app: Application, name: str) -> None:
    """Take a host out of the estate; the host itself is not changed. Raises Conflict when plans or
    VMs need it.
    """
    await _free(app, name, "stays")
    await app.store.write(records.drop_host, name)


async def _free(app: Application, name: str, otherwise: str) -> None:
    if reasons := await adding.needs(app, name):
        raise Conflict(
            f"{name} {otherwise}: {'; '.join(reasons[:5])}",
            code="host-needed",
            hint="Change those plans, or roll back those runs first.",
        )


async def forget_pin(app: Application, name: str) -> None:
    """Forget a host's pinned key, after a person compared its fingerprint elsewhere."""
    host = host_of(await estate_of(app), name)
    await app.store.write(records.drop_pin, f"{host.address}:{host.port}")
