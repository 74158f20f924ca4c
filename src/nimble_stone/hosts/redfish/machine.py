"""One bare machine through its controller: facts, power, boot source and virtual media."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Awaitable, Callable, Collection
from dataclasses import dataclass, field
from typing import Any

from nimble_stone.core.errors import RemoteFailed, StoneError
from nimble_stone.core.estate import MachineFacts
from nimble_stone.hosts.redfish import facts, media
from nimble_stone.hosts.redfish.answers import at, on_service, text, words
from nimble_stone.hosts.redfish.service import Peer, Service

KINDS_OF_RESET = (
    "On",
    "ForceOff",
    "GracefulShutdown",
    "ForceRestart",
    "GracefulRestart",
    "PowerCycle",
)


@dataclass
class RedfishMachine:
    """One controller; each call opens a session and gives it back."""

    name: str
    peer: Peer
    user: str
    password: str = field(repr=False)
    pause: Callable[[float], Awaitable[None]] = asyncio.sleep

    def _service(self) -> Service:
        return Service(self.name, self.peer, self.user, self.password, self.pause)

    async def root(self) -> dict[str, Any]:
        """The service root, which needs no login. Raises RemoteFailed when it is none."""
        return await self._service().root()

    async def read_facts(self, now: float, certificate: str = "") -> MachineFacts:
        """Everything the controller says of its machine. `certificate`: what is odd about the one
        it shows. Raises RemoteError.
        """
        async with self._service().session() as service:
            return await facts.read(service, now, certificate)

    async def power(self, kind: str) -> str:
        """ComputerSystem.Reset (DSP0266, actions); the PowerState right before. Raises RemoteFailed
        in the controller's own words.
        """
        async with self._service().session() as service:
            system = await facts.system_of(service)
            reset = at(system, "Actions", "#ComputerSystem.Reset")
            allowed = words(at(reset, "ResetType@Redfish.AllowableValues"))
            if allowed and kind not in allowed:
                raise RemoteFailed(
                    f"{self.name} does not know {kind}; it knows {', '.join(allowed)}",
                    target=self.name,
                    operation=kind,
                )
            target = at(reset, "target")
            path = (
                target
                if isinstance(target, str) and on_service(target)
                else f"{text(system, '@odata.id')}/Actions/ComputerSystem.Reset"
            )
            await service.change("POST", path, {"ResetType": kind}, kind)
            return text(system, "PowerState")

    async def power_state(self) -> str:
        """PowerState now."""
        async with self._service().session() as service:
            return text(await facts.system_of(service), "PowerState")

    async def boot_once(self, target: str) -> None:
        """Boot from `target` (Cd, Pxe, Hdd) the next time only (DSP0268, ComputerSystem.Boot). The
        firmware's mode stays as it is set. Raises RemoteFailed in the controller's own words.
        """
        async with self._service().session() as service:
            system = await facts.system_of(service)
            allowed = words(at(system, "Boot", "BootSourceOverrideTarget@Redfish.AllowableValues"))
            if allowed and target not in allowed:
                raise RemoteFailed(
                    f"{self.name} cannot boot once from {target}; it offers {', '.join(allowed)}",
                    target=self.name,
                    operation="boot override",
                    hint="Set the boot order on the controller's own page.",
                )
            await self._override(service, system, target, "Once")

    async def boot_as_set(self) -> None:
        """Clear the boot override: the machine boots as its firmware is set."""
        async with self._service().session() as service:
            system = await facts.system_of(service)
            if at(system, "Boot", "BootSourceOverrideEnabled") not in (None, "Disabled"):
                await self._override(service, system, "None", "Disabled")

    async def _override(
        self, service: Service, system: dict[str, Any], target: str, enabled: str
    ) -> None:
        boot = {"BootSourceOverrideTarget": target, "BootSourceOverrideEnabled": enabled}
        mode = at(system, "Boot", "BootSourceOverrideMode")
        if enabled == "Once" and isinstance(mode, str):
            # some controllers fall back to Legacy where the mode is not said again
            boot["BootSourceOverrideMode"] = mode
        await service.change(
            "PATCH", text(system, "@odata.id"), {"Boot": boot}, f"boot override {target}"
        )

    async def insert(self, url: str) -> str:
        """Insert a CD image; the slot's id. Raises Conflict when something else is inserted or
        there is no slot, RemoteError.
        """
        async with self._service().session() as service:
            found = await self._slots(service)
            there = [slot for slot in found if slot.inserted and slot.image == url]
            if there:
                return there[0].id
            slot = media.bootable(found, self.name)
            await media.insert(service, slot, url)
            return slot.id

    async def inserted(self) -> list[str]:
        """The images that are inserted now. Raises RemoteError."""
        async with self._service().session() as service:
            return [slot.image for slot in await self._slots(service) if slot.inserted]

    async def eject(self, images: Collection[str]) -> list[str]:
        """Eject these images where they are inserted; the slots' ids. Raises RemoteError."""
        async with self._service().session() as service:
            found = await self._slots(service)
            named = [slot for slot in found if slot.inserted and slot.image in images]
            for slot in named:
                await media.eject(service, slot)
            return [slot.id for slot in named]

    async def _slots(self, service: Service) -> list[media.Slot]:
        system = await facts.system_of(service)
        managers = await service.members(await service.linked(service.home, "Managers"))
        return await media.slots(service, system, managers[0] if managers else None)


async def until(machine: RedfishMachine, wanted: str, seconds: float, pause: Any) -> bool:
    """Whether the machine's power comes to be as wanted within so many seconds; a controller that
    is busy is asked again.
    """
    try:
        async with asyncio.timeout(seconds):
            while True:
                with contextlib.suppress(StoneError):
                    if await machine.power_state() == wanted:
                        return True
                await pause(0.5)
    except TimeoutError:
        return False
