"""Waiting for what a node does by itself: its address, its start, its services."""

from __future__ import annotations

import json

from nimble_stone.core import console_keys, reply
from nimble_stone.core.errors import CertificateChanged, HostKeyChanged, RemoteError, RemoteFailed
from nimble_stone.core.kit.calls import Call
from nimble_stone.core.kit.service import Service
from nimble_stone.core.plan.sheet import reached
from nimble_stone.core.reply import Reply
from nimble_stone.engine.filling import fill_command
from nimble_stone.engine.preparation.inspecting import ON
from nimble_stone.engine.speaking import Speaker
from nimble_stone.engine.steps.context import Context, Found, Kind
from nimble_stone.engine.steps.told import unmet
from nimble_stone.store import records, runs


async def still_there(c: Context) -> None:
    """Raises RemoteFailed when the guest that is waited for has stopped, or is no longer there; so
    when the bare machine is off.
    """
    if c.node.on_machine:
        if not await _runs(c):
            raise RemoteFailed(
                f"{c.host.name} is off",
                target=c.host.name,
                code="machine-off",
                hint="Find out who switched it off. Retry switches it on again.",
            )
        return
    vm = await c.host.vms.find(c.node.name)
    if vm is None or not vm.is_of(c.run.made_by(c.node.id)):
        raise RemoteFailed(
            f"VM {c.node.name} is no longer on {c.host.name}",
            target=c.host.name,
            code="guest-gone",
            hint="It was removed. Retry makes it again.",
        )
    if not await c.host.vms.running(c.node.name):
        raise RemoteFailed(
            f"VM {c.node.name} on {c.host.name} has stopped",
            target=c.host.name,
            code="guest-stopped",
            hint="Check its console. Retry starts the VM again.",
        )


async def _runs(c: Context) -> bool:
    """Whether the node's VM runs, or its machine is on."""
    if c.node.on_machine:
        return await c.host.metal.power_state() in ON
    return await c.host.vms.running(c.node.name)


class _Waiting:
    """What waiting for a guest has in common."""

    async def act(self, c: Context) -> None:
        """Nothing to do but wait. A guest that was found stopped is started again on retry."""
        if await _runs(c):
            return
        if c.node.on_machine:
            await c.host.metal.power("On")
        else:
            await c.host.vms.start(c.node.name)

    async def undo(self, c: Context) -> str:
        """Nothing was made; a lease runs out by itself."""
        return ""


class Learn(_Waiting):
    """The address that the node was given by DHCP, as its host sees it: by lease, by the guest's
    own agent, or by its neighbour table.
    """

    async def observe(self, c: Context) -> Found | None:
        """An address of the service network at the first interface. A new guest has a new SSH host
        key: an earlier one's at this address is forgotten.
        """
        known = c.run.sheet.by_id[c.node.id].value("address")
        if known:
            return {"address": known}
        for seen in await c.host.vms.addresses(c.node.name):
            address, prefix = seen.address, seen.prefix
            if any(
                address == other
                for node, _, other in c.run.sheet.addresses()
                if node is None or node.id != c.node.id
            ):
                # another one of this very plan: an old entry of the host's table
                continue
            await c.ports.store.write(records.drop_pins, address)
            values = {"address": address} | ({"prefix": prefix} if prefix else {})
            await c.ports.store.write(runs.learn, c.run.id, c.node.id, values)
            c.run.learn(c.node.id, values)
            return {"address": address, "way": address}
        if c.acted:
            await still_there(c)
        return None


class Boot(_Waiting):
    """The node answers on its address."""

    async def observe(self, c: Context) -> Found | None:
        """Its service port accepts connections. Raises RemoteFailed when the guest has stopped
        meanwhile.
        """
        door = await c.door(c.node)
        if await door.port_open(c.run.sheet.kit.service.port):
            return {}
        if c.acted:
            await still_there(c)
        return None


async def _status(c: Context, service: Service) -> Reply:
    """What the node says of itself; an empty answer while it says nothing."""
    try:
        if service.ssh:
            told = await (await c.door(c.node)).told(await fill_command(c, service.ssh))
            return Reply(200, json.dumps(told).encode())
        return await Speaker(c, c.record).send(Call(path=service.path, login=False))
    except (HostKeyChanged, CertificateChanged):
        # this never gets better by waiting
        raise
    except RemoteError as error:
        c.tell(words=c.ports.blank(str(error))[:200])
        return Reply(0)


class HostKeys(_Waiting):
    """The node's SSH host key, as its system writes it to the serial console."""

    async def observe(self, c: Context) -> Found | None:
        """It is known."""
        place = f"{reached(c.run.sheet.kit, c.node)}:22"
        if c.acted:
            text = await c.host.vms.console(c.node.name)
            if found := console_keys.fingerprint(text):
                await c.ports.store.write(records.drop_pin, place)
                await c.ports.store.write(records.put_pin, place, found, c.ports.clock())
                return {"key": found}
            await still_there(c)
        return None


class Services(_Waiting):
    """The node's services say that they are ready."""

    async def observe(self, c: Context) -> Found | None:
        """The status has the members the kit calls ready. Raises RemoteFailed when it has those
        that mean it never will.
        """
        service = c.run.sheet.kit.service
        status = await _status(c, service)
        lacks = unmet(status, service.ready)
        if not lacks:
            return {"version": (reply.read(status, service.says("version")) or "")[:60]}
        if service.failed and not unmet(status, service.failed):
            told = _members(status)
            raise RemoteFailed(
                f"{c.node.name} says that it failed: {told[:300]}",
                target=c.node.name,
                code="node-failed",
                hint="See its console. Correct the plan, roll back and start again.",
            )
        if status.status:
            c.tell(words=c.ports.blank(lacks))
        if c.acted:
            await still_there(c)
        return None


def _members(answer: Reply) -> str:
    """What an answer says, for people."""
    data = answer.json()
    if not isinstance(data, dict):
        return answer.text.strip()
    return "; ".join(f"{key}: {value}" for key, value in data.items() if value)


class Delay:
    """The pause that a package wants between two of its systems."""

    async def observe(self, c: Context) -> Found | None:
        """It is over, counted from when it was first waited for."""
        if "until" not in c.answer:
            return None
        left = float(c.answer["until"]) - c.ports.clock()
        return {"seconds": c.step.detail["seconds"]} if left <= 0 else None

    async def act(self, c: Context) -> None:
        """Note when it is over; a server that was killed waits once more."""
        seconds = float(c.step.detail["seconds"]) * c.ports.pace
        c.answer.setdefault("until", c.ports.clock() + seconds)

    async def undo(self, c: Context) -> str:
        """Nothing was made."""
        return ""


KINDS: dict[str, Kind] = {
    "delay": Delay(),
    "learn": Learn(),
    "boot": Boot(),
    "host-keys": HostKeys(),
    "services": Services(),
}
