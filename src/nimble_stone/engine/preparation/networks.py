"""Networks of a host."""

from __future__ import annotations

from collections.abc import Sequence

from nimble_stone.core import preparation as prep
from nimble_stone.core.errors import Conflict
from nimble_stone.engine.jobs import Kind
from nimble_stone.engine.preparation.context import Context, Found, Plain
from nimble_stone.hosts.work import Command, Op


class Network(Plain):
    """A network, isolated or over a bridge."""

    async def observe(self, c: Context) -> Found | None:
        """It is defined, started, and leads where it is to lead."""
        action, name = c.action, prep.target(c.action)
        found = await c.host.preparation.network(name)
        if found is None or not found.ready:
            return None
        if isinstance(action, prep.CarryNetwork):
            links = await c.host.preparation.links()
            port, bridge = links.get(action.port), links.get(found.bridge)
            if (
                found.bridge != action.bridge
                or port is None
                or bridge is None
                or port.master != action.bridge
            ):
                return None
            if action.address is not None and str(action.address) not in bridge.addresses:
                return None
            return {"bridge": action.bridge, "port": action.port}
        if not found.isolated:
            raise Conflict(
                f"{c.step.host} has a network {name} with an uplink",
                code="name-taken",
                hint="Choose another name.",
            )
        return {"bridge": found.bridge}

    async def act(self, c: Context) -> None:
        """An interface that is there without our files is not ours."""
        action = c.action
        if isinstance(action, prep.CarryNetwork) and not await super().ours(c):
            links = await c.host.preparation.links()
            if there := [
                name
                for name in (action.bridge, *([action.port] if action.vlan else []))
                if name in links
            ]:
                raise Conflict(
                    f"{c.step.host} has {', '.join(there)} already, and not of this run",
                    code="not-ours",
                    hint="Choose another name for the bridge, or put that in order first.",
                )
        await super().act(c)

    async def _net_ours(self, c: Context) -> bool:
        name = prep.target(c.action)
        found = await c.host.preparation.network(name)
        return found is not None and found.uuid == c.uuid("network", name)

    async def ours(self, c: Context) -> bool:
        """The network by its UUID, or the files of its bridge."""
        return await self._net_ours(c) or (bool(c.work.files) and await super().ours(c))

    async def stays(self, c: Context) -> str:
        """A VM is on it."""
        return await used(c, prep.target(c.action))

    async def undoing(self, c: Context) -> Sequence[Command]:
        """The network where it bears our mark, then the interfaces and files where those do."""
        mine = [Op.DEFINE_NETWORK] if await self._net_ours(c) else []
        if await super().ours(c):
            mine.append(Op.BUILD_BRIDGE)
        return c.work.undo(mine)


class StartNetwork(Plain):
    """A network that is defined is started."""

    async def observe(self, c: Context) -> Found | None:
        """It is started."""
        found = await c.host.preparation.network(prep.target(c.action))
        return {} if found and found.ready else None

    async def stays(self, c: Context) -> str:
        """It is in use by now."""
        return await used(c, prep.target(c.action))


async def used(c: Context, name: str) -> str:
    """Which VMs are on a network, in words; '' when there are none."""
    users = await c.host.preparation.vms_on_network(name)
    return f"VMs are on it: {', '.join(users[:4])}" if users else ""


KINDS: dict[str, Kind] = {
    "isolated-network": Network(),
    "carry-network": Network(),
    "start-network": StartNetwork(),
}
