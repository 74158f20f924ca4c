"""What a management controller says of its machine (DSP0266, DSP0268). Whatever is missing is noted
as missing.
"""

from __future__ import annotations

from typing import Any

from nimble_stone.core.errors import RemoteFailed
from nimble_stone.core.estate import Drive, Firmware, MachineFacts, MediaSlot, Nic, Processor
from nimble_stone.hosts.redfish.answers import at, number, text, words
from nimble_stone.hosts.redfish.media import slots
from nimble_stone.hosts.redfish.service import MOST, Service


async def system_of(service: Service) -> dict[str, Any]:
    """The one system of the controller. Raises RemoteFailed when it knows none."""
    systems = await service.members(await service.linked(service.home, "Systems"))
    if not systems:
        raise RemoteFailed(
            f"{service.name}: its controller knows no system",
            target=service.name,
            operation="GET Systems",
            hint="See whether this is the controller of a single machine.",
        )
    return systems[0]


async def read(service: Service, now: float, certificate: str) -> MachineFacts:
    """All facts, within a session. Raises RemoteError."""
    system = await system_of(service)
    chassis = _first(await service.members(await service.linked(service.home, "Chassis")))
    manager = _first(await service.members(await service.linked(service.home, "Managers")))
    processors = await service.members(await service.linked(system, "Processors"))
    nics = await service.members(await service.linked(system, "EthernetInterfaces"))
    drives = await _drives(service, system)
    media = await slots(service, system, manager)
    there = {
        "processors": processors,
        "drives": drives,
        "network adapters": nics,
        "virtual media": media,
        "memory": at(system, "MemorySummary", "TotalSystemMemoryGiB"),
        "health": at(system, "Status", "Health"),
        "boot options": at(system, "Boot"),
        "chassis": chassis,
    }
    reset = at(system, "Actions", "#ComputerSystem.Reset")
    memory_gib = number(at(system, "MemorySummary", "TotalSystemMemoryGiB"))
    return MachineFacts(
        machine=service.name,
        read_at=now,
        tried_at=now,
        system=text(system, "@odata.id"),
        maker=text(system, "Manufacturer") or text(chassis, "Manufacturer"),
        model=text(system, "Model") or text(chassis, "Model"),
        serial=text(system, "SerialNumber") or text(chassis, "SerialNumber"),
        uuid=text(system, "UUID"),
        power=text(system, "PowerState"),
        health=str(at(system, "Status", "Health") or "")[:40],
        memory_bytes=int(memory_gib * (1 << 30)),
        processors=tuple(
            _processor(one) for one in processors if text(one, "ProcessorType") in ("", "CPU")
        ),
        drives=tuple(_drive(one) for one in drives),
        nics=tuple(_nic(one) for one in nics),
        boot_now=str(at(system, "Boot", "BootSourceOverrideTarget") or "")[:40],
        boot_enabled=str(at(system, "Boot", "BootSourceOverrideEnabled") or "")[:40],
        boot_options=words(at(system, "Boot", "BootSourceOverrideTarget@Redfish.AllowableValues")),
        resets=words(at(reset, "ResetType@Redfish.AllowableValues")),
        media=tuple(
            MediaSlot(id=one.id, kinds=one.kinds, image=one.image, inserted=one.inserted)
            for one in media
        ),
        firmware=await _firmware(service, system, manager),
        redfish=text(service.home, "RedfishVersion"),
        certificate=certificate,
        missing=tuple(name for name, value in there.items() if not value),
    )


async def _drives(service: Service, system: dict[str, Any]) -> list[dict[str, Any]]:
    found = []
    for storage in await service.members(await service.linked(system, "Storage")):
        listed = storage.get("Drives")
        for link in (listed if isinstance(listed, list) else [])[:MOST]:
            drive = await service.linked({"drive": link}, "drive")
            if drive is not None:
                found.append(drive)
    return found


async def _firmware(
    service: Service,
    system: dict[str, Any],
    manager: dict[str, Any] | None,
) -> tuple[Firmware, ...]:
    inventory = await service.linked(
        await service.linked(service.home, "UpdateService"), "FirmwareInventory"
    )
    found = [
        Firmware(name=text(item, "Name") or text(item, "Id"), version=text(item, "Version"))
        for item in await service.members(inventory)
    ]
    names = {item.name for item in found}
    if "BIOS" not in names and text(system, "BiosVersion"):
        found.append(Firmware(name="BIOS", version=text(system, "BiosVersion")))
    if "Controller" not in names and text(manager, "FirmwareVersion"):
        found.append(Firmware(name="Controller", version=text(manager, "FirmwareVersion")))
    return tuple(found)


def _processor(data: dict[str, Any]) -> Processor:
    return Processor(
        model=text(data, "Model"),
        cores=int(number(data.get("TotalCores"))),
        threads=int(number(data.get("TotalThreads"))),
    )


def _drive(data: dict[str, Any]) -> Drive:
    return Drive(
        name=text(data, "Name") or text(data, "Id"),
        size_bytes=int(number(data.get("CapacityBytes"))),
        kind=text(data, "MediaType"),
        protocol=text(data, "Protocol"),
        serial=text(data, "SerialNumber"),
        health=str(at(data, "Status", "Health") or "")[:40],
    )


def _nic(data: dict[str, Any]) -> Nic:
    links = {"LinkUp": True, "LinkDown": False, "NoLink": False}
    return Nic(
        name=text(data, "Name") or text(data, "Id"),
        mac=text(data, "PermanentMACAddress") or text(data, "MACAddress"),
        speed_mbit=int(number(data.get("SpeedMbps"))),
        link=links.get(text(data, "LinkStatus")),
    )


def _first(items: list[dict[str, Any]]) -> dict[str, Any] | None:
    return items[0] if items else None
