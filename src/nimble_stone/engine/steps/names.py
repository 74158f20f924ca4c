"""Name records of a node or a virtual address: created with our mark, and removed only by it."""

from __future__ import annotations

from nimble_stone.core import names
from nimble_stone.core.errors import Conflict
from nimble_stone.core.estate import Mark
from nimble_stone.core.names import Named
from nimble_stone.engine import naming
from nimble_stone.engine.steps.context import Context, Found, Kind
from nimble_stone.reach.names import Change, Condition, NameDoor, Record


def _named(c: Context) -> Named:
    virtual = c.step.detail.get("virtual")
    return names.of_virtual(c.node, virtual) if virtual else names.of_node(c.node)


def _mark(c: Context) -> str:
    """The mark: a virtual address is no node's."""
    node = c.step.detail.get("virtual") or c.node.id
    return names.mark_text(Mark(run=c.run.id, node=node, plan=c.run.sheet.plan.name))


def _forward(named: Named, mark: str) -> list[Record]:
    found = [Record(named.name, names.kind_of(one), one, named.ttl) for one in named.addresses]
    return [*found, Record(named.mark_name, "TXT", mark, named.ttl)]


def _backward(named: Named) -> list[Record]:
    return [Record(names.reverse(one), "PTR", named.name, named.ttl) for one in named.addresses]


async def _there(server: NameDoor, record: Record) -> bool:
    return record.text in await server.read(record.name, record.kind)


class Records:
    """A, AAAA and PTR. The name's own zone is changed first: it holds the mark."""

    async def observe(self, c: Context) -> Found | None:
        """All are there, with our mark. Raises Conflict for a name or an address that is
        somebody else's.
        """
        named, server = _named(c), await naming.door_of(c.ports, c.node)
        if not await _there(server, Record(named.mark_name, "TXT", _mark(c))):
            if there := await naming.taken(server, named):
                raise _foreign(there)
            return None
        for record in (*_forward(named, _mark(c)), *_backward(named)):
            if not await _there(server, record):
                return None
        return {"name": named.name, "addresses": list(named.addresses)}

    async def act(self, c: Context) -> None:
        """Add what is missing, on condition that nobody has made it meanwhile."""
        named, mark = _named(c), _mark(c)
        server = await naming.door_of(c.ports, c.node)
        ours = Condition(named.mark_name, "TXT", mark)
        if await _there(server, Record(named.mark_name, "TXT", mark)):
            conditions = [ours]
        else:
            free = ("A", "AAAA", "CNAME")
            conditions = [Condition(named.name, kind) for kind in free]
            conditions.append(Condition(named.mark_name, "TXT"))
        zone = await server.zone_of(named.name)
        await server.update(zone, [Change(one) for one in _forward(named, mark)], conditions)
        for record in _backward(named):
            if await _there(server, record):
                continue
            zone = await server.zone_of(record.name)
            await server.update(zone, [Change(record)], [Condition(record.name, "PTR")])

    async def undo(self, c: Context) -> str:
        """Remove what bears this run's mark; the way back first, the mark last."""
        named, mark = _named(c), _mark(c)
        server = await naming.door_of(c.ports, c.node)
        if not await _there(server, Record(named.mark_name, "TXT", mark)):
            return ""
        for record in _backward(named):
            zone = await server.zone_of(record.name)
            await server.update(zone, [Change(record, "remove")])
        await server.update(
            await server.zone_of(named.name),
            [Change(one, "remove") for one in _forward(named, mark)],
            [Condition(named.mark_name, "TXT", mark)],
        )
        return f"name records of {named.name} removed"


def _foreign(there: str) -> Conflict:
    return Conflict(
        f"{there}; it was not created by this rollout and is left unchanged",
        code="name-taken",
        hint="Choose another name, or let the record be removed; then retry.",
    )


KINDS: dict[str, Kind] = {"names": Records()}
