"""Settings of nodes that stand get other values, as the kit says: the node is told, or it starts
with another config ISO.
"""

from __future__ import annotations

from dataclasses import replace

from nimble_stone.core.errors import LoginRefused, RemoteFailed
from nimble_stone.core.kit.changing import WAS, Changing
from nimble_stone.core.plan.sheet import Node
from nimble_stone.engine.filling import value
from nimble_stone.engine.frozen import FrozenRun
from nimble_stone.engine.peers import At, Credential, NodePeer
from nimble_stone.engine.speaking import Speaker
from nimble_stone.engine.steps import vms
from nimble_stone.engine.steps.context import Context, Found, Kind, our_vm
from nimble_stone.engine.steps.disks import Medium
from nimble_stone.engine.steps.returning import back, restored_of
from nimble_stone.engine.steps.told import lacking
from nimble_stone.engine.steps.waiting import still_there
from nimble_stone.store import records


def _with(run: FrozenRun, node: Node) -> FrozenRun:
    """The run with one of its nodes as it is at another time."""
    nodes = tuple(node if one.id == node.id else one for one in run.sheet.nodes)
    return replace(run, sheet=replace(run.sheet, nodes=nodes))


def _former(c: Context) -> Node:
    assert c.run.change is not None
    return c.run.change.before(c.node.id)


class Change:
    """The node has been told its new settings."""

    async def observe(self, c: Context) -> Found | None:
        """The kit's own question tells."""
        return {} if await self._is(c, c.node, _former(c)) else None

    async def act(self, c: Context) -> None:
        """Tell it. Raises RemoteFailed where the answer is not as it should be."""
        await self._tell(c, c.node, _former(c))

    async def undo(self, c: Context) -> str:
        """It is told its former settings; one whose VM was removed meanwhile is told nothing.
        Raises RemoteFailed where they are not taken.
        """
        now, was = c.node, _former(c)
        if not now.on_machine and await our_vm(c, c.maker) is None:
            return ""
        if not await self._is(c, was, now):
            await self._tell(c, was, now)
            if not await self._is(c, was, now):
                raise RemoteFailed(
                    f"{now.name} keeps its new settings; “{_changing(c).label}” is not undone",
                    target=now.name,
                    hint="See the transcript. Rolling back again asks again.",
                )
        return f"{now.name}: {_changing(c).label} rolled back"

    async def _is(self, c: Context, wanted: Node, other: Node) -> bool:
        one, at = _changing(c), At(c.ports, _with(c.run, wanted), wanted)
        assert one.observe is not None
        known = await _values_of(c, one, other)
        speaker = Speaker(at, c.record, await _in_force(c, one), NodePeer(at))
        if _changes_password(c, one):
            speaker.forget()
        try:
            answer = await speaker.send(one.observe, known=known)
        except (LoginRefused, RemoteFailed) as error:
            if one.login != "former":
                raise
            # the new password is not taken yet
            c.tell(words=c.ports.blank(str(error))[:200])
            return False
        if lacks := await lacking(at, answer, one.observe, known):
            c.tell(words=c.ports.blank(lacks))
            return False
        return True

    async def _tell(self, c: Context, wanted: Node, other: Node) -> None:
        await still_there(c)
        one, at = _changing(c), At(c.ports, _with(c.run, wanted), wanted)
        assert one.call is not None
        known = await _values_of(c, one, other)
        former = one.login == "former"
        login = await (_password_of(c, other) if former else _in_force(c, one))
        speaker = Speaker(at, c.record, login, NodePeer(at))
        if _changes_password(c, one):
            speaker.forget()
        answer = await speaker.send(one.call, known=known)
        if lacks := await lacking(at, answer, one.call, known):
            raise RemoteFailed(
                f"{c.node.name} does not take “{one.label}”: {c.ports.blank(lacks)}",
                target=c.node.name,
                hint="See the transcript. Retry sends it again.",
            )


def _changing(c: Context) -> Changing:
    wanted = c.step.detail["changing"]
    return next(one for one in c.run.sheet.kit.changing if one.id == wanted)


async def _values_of(c: Context, one: Changing, node: Node) -> dict[str, str]:
    """What templates mean by values of before."""
    at = At(c.ports, _with(c.run, node), node)
    found = {f"{WAS}{column}": await value(at, column) for column in one.values}
    for column in c.run.sheet.columns:
        if column.kind == "secret" and (secret := found.get(f"{WAS}{column.id}")):
            c.ports.hide(secret)
    return found


async def _in_force(c: Context, one: Changing) -> Credential | None:
    """Who logs in whatever the change is; None where it may be the password itself, so that it
    depends on what is asked for. Passwords are the first to change, and the last to be rolled back.
    """
    return None if _changes_password(c, one) else await _password_of(c, c.node)


def _changes_password(c: Context, one: Changing) -> bool:
    return c.run.sheet.kit.admin_password in one.values


async def _password_of(c: Context, node: Node) -> Credential:
    kit = c.run.sheet.kit
    password = await c.ports.open_for_plan(c.run.sheet.plan.name, node.value(kit.admin_password))
    c.ports.hide(password)
    return Credential(kit.admin, password)


class Reconfigure:
    """The node has another config ISO, and is off: it reads it when it starts."""

    def __init__(self) -> None:
        self._medium = Medium()

    async def observe(self, c: Context) -> Found | None:
        """Its ISO is the one that this attempt sent whole."""
        return await self._medium.observe(c)

    async def act(self, c: Context) -> None:
        """Have its system shut down, then send the ISO. Raises Conflict for a VM that is not ours,
        RemoteFailed where it does not shut down.
        """
        if await our_vm(c, c.maker) is None:
            raise RemoteFailed(
                f"VM {c.node.name} is not on {c.host.name}",
                target=c.host.name,
                code="guest-gone",
                hint="Make the node again.",
            )
        if await c.host.vms.running(c.node.name):
            await vms.shut_down(c)
        await self._medium.act(c)

    async def undo(self, c: Context) -> str:
        """It has its former settings, and runs. A VM that was removed meanwhile is not brought
        back.
        """
        former = replace(c, run=_with(c.run, _former(c)), answer={})
        if await our_vm(c, c.maker) is None:
            return ""
        place, store = f"{restored_of(c.run.id)}{c.step.key}", c.ports.store
        if not await store.read(records.get_meta, place):
            await self.act(former)
            await store.write(records.put_meta, place, "yes")
        if not await c.host.vms.running(c.node.name):
            await c.host.vms.start(c.node.name)
        await back(former)
        return f"{c.node.name} has its former settings again"


KINDS: dict[str, Kind] = {"change": Change(), "reconfigure": Reconfigure()}
