"""A node on a bare machine: its image written by the system on a medium, its configuration on a
second one, and its first boot from its own drive.
"""

from __future__ import annotations

import base64

from nimble_stone.core.errors import Conflict
from nimble_stone.core.machine_sequence import installer_of
from nimble_stone.core.plan.columns import SYSTEM_DRIVE
from nimble_stone.core.plan.sheet import reached
from nimble_stone.engine import jobs
from nimble_stone.engine.preparation import inspecting
from nimble_stone.engine.preparation.context import Context as Preparing
from nimble_stone.engine.preparation.inspecting import ON, ours, switch_off, withdraw
from nimble_stone.engine.steps.context import Context, Found, Kind
from nimble_stone.engine.steps.disks import config_image
from nimble_stone.engine.steps.installing import answers_entry
from nimble_stone.engine.steps.shutting_down import until_off
from nimble_stone.store import entries, media, records, runs
from nimble_stone.store.media import Task


class OnMedium:
    """A step that host preparation knows too: the same work, for a node of a plan."""

    def __init__(self, kind: jobs.Kind) -> None:
        self._kind = kind

    async def observe(self, c: Context) -> Found | None:
        """As it is seen there."""
        return await self._kind.observe(_as_preparation(c))

    async def act(self, c: Context) -> None:
        """As it is done there."""
        await self._kind.act(_as_preparation(c))

    async def undo(self, c: Context) -> str:
        """As it is taken back there."""
        return await self._kind.undo(_as_preparation(c))


def _as_preparation(c: Context) -> Preparing:
    return Preparing(c.ports, c.run.id, c.step, c.host, c.record, c.acted, c.answer)


class Write(OnMedium):
    """The image on the system drive."""

    async def undo(self, c: Context) -> str:
        """What was written stays: a drive is wiped only by name."""
        if not await c.ports.store.read(media.switched, c.run.id, c.step.host):
            return ""
        return (
            f"{c.step.host}: drive {c.node.value(SYSTEM_DRIVE)} keeps what was written; wipe it on"
            " the machine's page"
        )


class Seed:
    """The config ISO in the machine's virtual media, at an address of its own."""

    async def observe(self, c: Context) -> Found | None:
        """This run's is inserted."""
        found = await c.ports.store.read(media.of_run, c.run.id, c.step.host)
        if found is None or found.task.kind != "seed" or not found.until:
            return None
        there = await ours(c) if c.acted else []
        return {"slots": len(there)} if there else None

    async def act(self, c: Context) -> None:
        """Make it, keep it sealed, offer it and insert it."""
        office = c.ports.media
        trouble = office.trouble() if office else "this server offers no media"
        if office is None or trouble:
            raise Conflict(f"no medium can be offered: {trouble}", code="no-media")
        image, name = await config_image(c), _entry(c)
        await c.ports.keep_secret(name, base64.b64encode(image).decode(), "medium")
        # a node that is made anew has a new SSH host key
        if address := reached(c.run.sheet.kit, c.node):
            await c.ports.store.write(records.drop_pins, address)
        await c.host.metal.eject(await ours(c))
        task = Task(kind="seed", secret=name)
        await c.host.metal.insert(await office.offer(c.run.id, c.step.host, task))

    async def undo(self, c: Context) -> str:
        """Eject it, and forget what was on it."""
        if not await c.ports.store.read(runs.acted, c.run.id, c.step.key):
            return ""
        await _remove(c)
        return f"{c.step.host}: config ISO ejected"


SEED = Seed()


OFF = "Off"
"""A machine's PowerState (DSP0268)."""
FROM_DISK = ("seed", "boot")
"""What is on offer to a machine that boots from its own drive: its configuration, or nothing."""


class PowerOn:
    """The machine, on, from its own drive."""

    async def observe(self, c: Context) -> Found | None:
        """It is on, switched by this run to boot from its own drive."""
        found = await c.ports.store.read(media.of_run, c.run.id, c.step.host)
        if found is None or found.task.kind not in FROM_DISK or not found.booted_at:
            return None
        state = await c.host.metal.power_state()
        return {"power": state} if state in ON else None

    async def act(self, c: Context) -> None:
        """Boot from disk once, whatever the firmware tries first. Raises Conflict when it was
        switched on meanwhile, and not by this run.
        """
        if await c.host.metal.power_state() != "Off":
            raise Conflict(
                f"{c.step.host} was switched on before its node was to start; it is left as it is",
                code="power-changed",
                hint="Switch it off, then retry; or roll back.",
            )
        if installer_of(c.run.sheet, c.node) is not None:
            await self._after_installer(c)
        else:
            found = await c.ports.store.read(media.of_run, c.run.id, c.step.host)
            if found is None or found.until < c.ports.clock():
                # on hold for so long that the address of the config ISO ran out
                await SEED.act(c)
        await c.host.metal.boot_once("Hdd")
        await c.ports.store.write(media.booting, c.run.id, c.step.host, c.ports.clock())
        await c.host.metal.power("On")

    async def _after_installer(self, c: Context) -> None:
        """Nothing is on offer from now on, and the answers are forgotten."""
        if c.ports.media is not None:
            await c.ports.media.offer(c.run.id, c.step.host, Task(kind="boot"))
        await c.ports.store.write(entries.drop_secrets, answers_entry(c))

    async def undo(self, c: Context) -> str:
        """Off again, if this run switched it on."""
        found = await c.ports.store.read(media.of_run, c.run.id, c.step.host)
        if found is None or found.task.kind not in FROM_DISK or not found.booted_at:
            return ""
        await switch_off(c)
        await c.host.metal.boot_as_set()
        return f"{c.step.host}: switched off"


async def shut_down_machine(c: Context) -> None:
    """The system on the node's machine shuts down; see `until_off`."""
    metal = c.host.metal

    async def runs() -> bool:
        return await metal.power_state() != OFF

    await until_off(c, runs, lambda: metal.power("GracefulShutdown"), lambda: switch_off(c))


class Unseed:
    """The config ISO ejected, and forgotten: the node has read it."""

    async def observe(self, c: Context) -> Found | None:
        """No medium of ours is inserted, and none is on offer."""
        found = await c.ports.store.read(media.of_run, c.run.id, c.step.host)
        return {} if c.acted and not (found and found.until) and not await ours(c) else None

    async def act(self, c: Context) -> None:
        """Eject it."""
        await _remove(c)

    async def undo(self, c: Context) -> str:
        """It is out already."""
        return ""


async def _remove(c: Context) -> None:
    await withdraw(c.ports, c.run.id, c.step.host)
    await c.host.metal.eject(await ours(c))
    await c.ports.store.write(entries.drop_secrets, _entry(c))


def _entry(c: Context) -> str:
    """Keyring entry of what is on the config ISO."""
    return f"run/{c.run.id}/seed/{c.step.node}/iso"


KINDS: dict[str, Kind] = {
    "unpack": OnMedium(inspecting.KINDS["inspect-unpack"]),
    "insert": OnMedium(inspecting.KINDS["inspect-insert"]),
    "medium-boot": OnMedium(inspecting.KINDS["inspect-boot"]),
    "write": Write(inspecting.KINDS["inspect-report"]),
    "eject": OnMedium(inspecting.KINDS["inspect-end"]),
    "seed": SEED,
    "power-on": PowerOn(),
    "unseed": Unseed(),
}
