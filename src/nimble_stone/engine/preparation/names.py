"""Name records and time servers of a host."""

from __future__ import annotations

from nimble_stone.core import preparation as prep
from nimble_stone.engine.jobs import Kind
from nimble_stone.engine.preparation.context import Context, Found, Plain


class Names(Plain):
    """Name records in the hosts file."""

    async def _missing(self, c: Context, action: prep.AddNames) -> tuple[prep.NameRecord, ...]:
        known = await c.host.preparation.name_records()
        return tuple(
            record
            for record in action.records
            if not set(record.names) <= known.get(str(record.address), frozenset())
        )

    async def observe(self, c: Context) -> Found | None:
        """Every record is there."""
        action = c.action
        assert isinstance(action, prep.AddNames)
        return None if await self._missing(c, action) else {"records": len(action.records)}

    async def act(self, c: Context) -> None:
        """Append those that are missing."""
        action = c.action
        assert isinstance(action, prep.AddNames)
        wanted = action.model_copy(update={"records": await self._missing(c, action)})
        for command in c.host.preparation.work(wanted, c.run).act():
            await c.host.preparation.send(command)


class Time(Plain):
    """A time server."""

    async def observe(self, c: Context) -> Found | None:
        """It is among the sources of the host's clock, by the name it was given."""
        action = c.action
        assert isinstance(action, prep.TimeSource)
        there = action.server in await c.host.preparation.time_servers()
        return {"server": action.server} if there else None


KINDS: dict[str, Kind] = {"names": Names(), "time-source": Time()}
