"""Looking inside a bare machine: a medium is inserted, the machine boots from it once, reports what
it is, and is left as it was found.
"""

from __future__ import annotations

import asyncio
import json
from collections.abc import Sequence
from dataclasses import replace
from functools import partial
from typing import Protocol

from nimble_stone.core import preparation as prep
from nimble_stone.core.errors import Conflict, RemoteFailed, RemoteTimeout
from nimble_stone.core.inspection.job import ANY, DiskName
from nimble_stone.core.machine_sequence import OWN_DRIVES
from nimble_stone.core.package.contents import Contents
from nimble_stone.core.step import Step
from nimble_stone.engine.jobs import Kind
from nimble_stone.engine.preparation.context import Context, Found
from nimble_stone.hosts.api import HostDriver
from nimble_stone.packages import extents, stored
from nimble_stone.ports import Ports
from nimble_stone.ports.media import network_entry
from nimble_stone.store import entries, media, records, runs

ON = ("On", "PoweringOn")
OFF_S = 120.0


async def _offered(c: Context) -> media.Medium | None:
    return await c.ports.store.read(media.of_run, c.run, c.step.host)


async def _come(c: Context) -> bool:
    """Whether the report came."""
    found = await _offered(c)
    return found is not None and found.reported_at > 0


async def _never_acted(c: Context) -> bool:
    return not await c.ports.store.read(runs.acted, c.run, c.step.key)


async def _switched(c: Context) -> bool:
    """Whether this run switched the machine."""
    return await c.ports.store.read(media.switched, c.run, c.step.host)


async def asked_again(ports: Ports, run: str, step: Step) -> bool:
    """Whether a person had the step tried again."""
    return await ports.store.read(runs.entries_of, run, step.key, "retry-asked") > 0


async def ours(c: OnMachine) -> list[str]:
    """The inserted images that were made here."""
    return await c.ports.store.read(media.made_here, await c.host.metal.inserted())


async def _insert(c: Context) -> None:
    """Eject what an attempt before left, then insert a medium at a new address."""
    office = c.ports.media
    trouble = office.trouble() if office else "this server offers no media"
    if office is None or trouble:
        raise Conflict(f"no medium can be offered: {trouble}", code="no-media")
    await c.host.metal.eject(await ours(c))
    if await boots_from_network(c.ports, c.step.host):
        task = _task(c).model_copy(update={"net": True})
        await office.offer(c.run, c.step.host, task)
    else:
        await c.host.metal.insert(await office.offer(c.run, c.step.host, _task(c)))


async def boots_from_network(ports: Ports, machine: str) -> bool:
    """Whether a machine gets what it boots by the network."""
    found = await ports.store.read(records.get_machine, machine)
    return found is not None and found.boots == "network"


async def withdraw(ports: Ports, run: str, machine: str) -> None:
    """Nothing is on offer to a machine any more, by media or by the network."""
    await ports.store.write(media.withdraw, run, machine)
    await ports.store.write(entries.drop_secrets, network_entry(run, machine))
    if ports.media is not None:
        await ports.media.offers_changed()


def _task(c: Context) -> media.Task:
    """What the system on the medium is to do."""
    match action := c.action:
        case prep.WipeDrives():
            return media.Task(kind="wipe", disks=_names(action.drives))
        case prep.WriteImage():
            disks = _with_own(_names((action.drive,)), c.step)
            return media.Task(kind="write", disks=disks, package=action.package)
        case _:
            return media.Task(kind="inspect")


def _names(drives: Sequence[prep.WipeDrive]) -> tuple[DiskName, ...]:
    return tuple(
        DiskName(one.serial, one.size_bytes, tuple(sign.kind for sign in one.holds))
        for one in drives
    )


def _with_own(disks: tuple[DiskName, ...], step: Step) -> tuple[DiskName, ...]:
    """The drive to be written first, and those that the node itself had, whatever they hold."""
    own: dict[str, int] = json.loads(step.detail.get(OWN_DRIVES, "{}"))
    written = tuple(replace(one, kinds=(ANY,)) if one.serial in own else one for one in disks)
    named = {one.serial for one in disks}
    more = (DiskName(one, size, (ANY,)) for one, size in own.items() if one not in named)
    return (*written, *more)


async def _boot(c: Context) -> None:
    await boot_from_medium(c.ports, c.run, c.host, c.step)


async def boot_from_medium(ports: Ports, run: str, host: HostDriver, step: Step) -> None:
    """Boot from CD, or from the network, once: switch it on, or restart what is on. Raises Conflict
    when it was switched on since it was looked at, and not by this run: what runs there is not
    ours to stop.
    """
    off = await host.metal.power_state() == "Off"
    expected_off = step.detail["power"] not in ON
    if not off and expected_off and not await ports.store.read(media.switched, run, step.host):
        raise Conflict(
            f"{step.host} was switched on since its controller was read; it is left as it is",
            code="power-changed",
            hint="Roll back and refresh the machine. Then decide whether it may be restarted.",
        )
    found = await ports.store.read(media.of_run, run, step.host)
    await host.metal.boot_once("Pxe" if found is not None and found.task.net else "Cd")
    await ports.store.write(media.booting, run, step.host, ports.clock())
    await host.metal.power("On" if off else "ForceRestart")


class Unpack:
    """The image's data, in a file that machines fetch."""

    async def observe(self, c: Context) -> Found | None:
        """It is there."""
        made = await asyncio.to_thread(extents.find, c.ports.packages, await _contents(c))
        return {"bytes": made.size} if made else None

    async def act(self, c: Context) -> None:
        """Unpack it, once for all runs."""
        contents, loop = await _contents(c), asyncio.get_running_loop()

        def told(done: int, total: int) -> None:
            """From the thread that unpacks: those who watch are woken by the event loop."""
            loop.call_soon_threadsafe(partial(c.tell, sent=done, total=total))

        async with c.ports.lock(f"extents {contents.sha256}"):
            await asyncio.to_thread(extents.make, c.ports.packages, contents, told)

    async def undo(self, c: Context) -> str:
        """It stays for other machines, until the package is removed."""
        return f"{c.step.host}: the unpacked image stays with its package"


async def _contents(c: Context) -> Contents:
    assert isinstance(c.action, prep.WriteImage)
    return stored.contents_of(await c.ports.store.read(records.get_package, c.action.package))


class Insert:
    """The medium, inserted."""

    async def observe(self, c: Context) -> Found | None:
        """One of ours is there, and was offered by this run."""
        if await _come(c):
            return {"way": "reported already"}
        found = await _offered(c)
        if found is None:
            return None
        if found.task.net:
            return {"way": "by network"} if c.acted and found.until else None
        there = await ours(c) if c.acted else []
        return {"slots": len(there)} if there else None

    async def act(self, c: Context) -> None:
        """Insert one."""
        await _insert(c)

    async def undo(self, c: Context) -> str:
        """Eject it, and end its address."""
        if await _never_acted(c):
            return f"{c.step.host}: no medium was inserted"
        await withdraw(c.ports, c.run, c.step.host)
        gone = await c.host.metal.eject(await ours(c))
        return f"{c.step.host}: medium ejected" if gone else f"{c.step.host}: no medium is inserted"


class Boot:
    """The machine, on, with its next start from the medium."""

    async def observe(self, c: Context) -> Found | None:
        """It is on, by this attempt; or it reported; or it read the medium since it was switched,
        and may be off again; or it was off and an attempt before switched it on, which is not done
        twice: something may be written by now.
        """
        if await _come(c):
            return {"way": "reported already"}
        found, was_on = await _offered(c), c.step.detail["power"] in ON
        if found is not None and found.booted:
            return {"way": "has read the medium"}
        if not c.acted and (was_on or found is None or not found.booted_at):
            return None
        state = await c.host.metal.power_state()
        return {"power": state} if state in ON else None

    async def act(self, c: Context) -> None:
        """Boot from CD once."""
        await _boot(c)

    async def undo(self, c: Context) -> str:
        """The boot source as it is set; power as it was found."""
        if not await _switched(c):
            return f"{c.step.host}: its power was not changed"
        await c.host.metal.boot_as_set()
        return f"{c.step.host}: boot source as set; {await _power_as_found(c)}"


class Report:
    """What the machine says of itself."""

    async def observe(self, c: Context) -> Found | None:
        """It came. Raises RemoteFailed when what came cannot be of this machine."""
        found = await _offered(c)
        if found is None:
            return None
        if found.reported_at:
            return {"way": "report received"}
        if found.trouble and (c.acted or not await asked_again(c.ports, c.run, c.step)):
            raise RemoteFailed(
                f"{c.step.host}: {found.trouble}",
                target=c.step.host,
                hint="Retry boots it once more. If the report is right, roll back.",
                code="report-refused",
            )
        office = c.ports.media
        sent = office.sent(c.run, c.step.host) if office else None
        c.tell(fetched=found.fetched_at > 0, **(sent or {}))
        return None

    async def act(self, c: Context) -> None:
        """It comes by itself. When a person asks again, the machine boots from a new medium."""
        if await asked_again(c.ports, c.run, c.step):
            await _insert(c)
            await _boot(c)

    async def undo(self, c: Context) -> str:
        """What was reported stays known."""
        return f"{c.step.host}: what it reported stays"


class End:
    """The medium ejected, the machine as it was found."""

    async def observe(self, c: Context) -> Found | None:
        """No medium of ours is inserted, nothing is on offer, and power is as it was."""
        found, was_on = await _offered(c), c.step.detail["power"] in ON
        if found is not None and found.until:
            return None
        # what is on may be the system of the medium: only a restart of this attempt tells
        if (was_on and not c.acted) or await ours(c):
            return None
        state = await c.host.metal.power_state()
        as_found = state in ON if was_on else state == "Off"
        return {"power": state} if as_found else None

    async def act(self, c: Context) -> None:
        """Eject, forget the boot source, and switch it as it was."""
        await withdraw(c.ports, c.run, c.step.host)
        await c.host.metal.eject(await ours(c))
        await c.host.metal.boot_as_set()
        await _power_as_found(c)

    async def undo(self, c: Context) -> str:
        """Nothing is left to take back."""
        return f"{c.step.host}: nothing is left of the inspection"


class OnMachine(Protocol):
    """A step on a bare machine."""

    ports: Ports
    step: Step
    host: HostDriver


async def switch_off(c: OnMachine) -> None:
    """Cut its power, and watch until it is off. Raises RemoteTimeout when it does not come
    about.
    """
    if await c.host.metal.power_state() == "Off":
        return
    await c.host.metal.power("ForceOff")
    end = c.ports.monotonic() + OFF_S
    while await c.host.metal.power_state() != "Off":
        if c.ports.monotonic() > end:
            raise RemoteTimeout(
                f"{c.step.host} accepted ForceOff and is not off after {OFF_S:g} s",
                target=c.step.host,
                hint="Check the machine, then roll back again.",
            )
        await c.ports.pause(max(0.05, c.ports.pace))


async def until_on(c: OnMachine, run: str) -> None:
    """Watch until a machine that was switched on to boot from a run's medium is on, or was: it may
    be off again before a slow controller says so, and has fetched the medium since. Raises
    RemoteTimeout.
    """
    end = c.ports.monotonic() + OFF_S
    while await c.host.metal.power_state() not in ON:
        medium = await c.ports.store.read(media.of_run, run, c.step.host)
        if medium is not None and medium.booted:
            return
        if c.ports.monotonic() > end:
            raise RemoteTimeout(
                f"{c.step.host} was told to switch on and is not on after {OFF_S:g} s",
                target=c.step.host,
                hint="Check the machine, then retry.",
            )
        await c.ports.pause(max(0.05, c.ports.pace))


async def _power_as_found(c: Context) -> str:
    """Switch it as it was before the run; in words."""
    state, was_on = await c.host.metal.power_state(), c.step.detail["power"] in ON
    if was_on:
        # from its own disks again: the system on the medium is of no use any more
        await c.host.metal.power("On" if state == "Off" else "ForceRestart")
        return "on again, from its own disks"
    await switch_off(c)
    return "off, as it was found"


KINDS: dict[str, Kind] = {
    "inspect-unpack": Unpack(),
    "inspect-insert": Insert(),
    "inspect-boot": Boot(),
    "inspect-report": Report(),
    "inspect-end": End(),
}
