"""The Redfish resources of a stand-in controller (DSP0268), as its machine is now."""

from __future__ import annotations

import uuid as uuids
from collections.abc import Collection
from typing import TYPE_CHECKING, Any

from nimble_stone.core.units import GIB
from nimble_stone.lab.controllers.habits import FOREIGN_IMAGE

if TYPE_CHECKING:
    from nimble_stone.lab.controllers.machine import LabMachine

Documents = dict[str, dict[str, Any]]
ROOT = "/redfish/v1"
SYSTEM = f"{ROOT}/Systems/1"
RESETS = ["On", "ForceOff", "GracefulShutdown", "ForceRestart", "PowerCycle"]


def documents(machine: LabMachine) -> Documents:
    """All resources of a controller, by path."""
    plan, odd, habits = machine.plan, machine.plan.odd, set(machine.knobs.habits)
    serial = machine.serial
    tree: dict[str, dict[str, Any]] = {}

    def put(path: str, kind: str, **values: Any) -> str:
        tree[path] = {
            "@odata.id": path,
            "@odata.type": f"#{kind}",
            "Id": path.rsplit("/", 1)[-1],
            "Name": values.pop("Name", path.rsplit("/", 1)[-1]),
            **values,
        }
        return path

    def group(path: str, kind: str, members: list[str]) -> dict[str, str]:
        tree[path] = collection(path, kind, members)
        return {"@odata.id": path}

    processors = [
        put(
            f"{SYSTEM}/Processors/CPU{n}",
            "Processor.v1_9_0.Processor",
            ProcessorType="CPU",
            Model="Stonework 9374F",
            TotalCores=plan.cores // 2,
            TotalThreads=plan.cores,
            Status={"Health": "OK", "State": "Enabled"},
        )
        for n in (1, 2)
    ]
    drives = [
        put(
            f"{ROOT}/Chassis/1/Drives/{n}",
            "Drive.v1_10_0.Drive",
            Name=f"bay {n}",
            CapacityBytes=plan.drive_bytes,
            MediaType="SSD" if n < 2 else plan.drive_kind,
            Protocol="NVMe" if plan.drive_kind == "SSD" else "SAS",
            SerialNumber=f"{serial}D{n}",
            Status={"Health": "Warning" if odd.get("worn") == n else "OK"},
        )
        for n in range(plan.drives)
    ]
    nics = [
        put(
            f"{SYSTEM}/EthernetInterfaces/{n}",
            "EthernetInterface.v1_6_0.EthernetInterface",
            Name=f"port {n}",
            PermanentMACAddress=plan.mac(n),
            MACAddress=plan.mac(n),
            SpeedMbps=25000,
            LinkStatus="LinkUp" if n < 3 else "NoLink",
        )
        for n in range(1, plan.ports + 1)
    ]
    media_home = SYSTEM if "media-at-system" in habits else f"{ROOT}/Managers/1"
    images = {"CD1": machine.image or (FOREIGN_IMAGE if "foreign-image" in habits else "")}
    if "second-slot" in habits:
        images["CD2"] = machine.second
    media = [
        put(
            f"{media_home}/VirtualMedia/{slot}",
            "VirtualMedia.v1_3_0.VirtualMedia",
            Name="Virtual CD",
            MediaTypes=["CD", "DVD"],
            Image=image or None,
            Inserted=bool(image),
            **_media_actions(f"{media_home}/VirtualMedia/{slot}", habits),
        )
        for slot, image in images.items()
    ]
    listed = {"VirtualMedia": group(f"{media_home}/VirtualMedia", "VirtualMediaCollection", media)}
    bios = odd.get("bios", "2.4.1")
    firmware = [
        put(
            f"{ROOT}/UpdateService/FirmwareInventory/{name}",
            "SoftwareInventory.v1_3_0.SoftwareInventory",
            Name=name,
            Version=version,
        )
        for name, version in (("BIOS", bios), ("Controller", "1.18.3"), ("Adapter", "22.31.6"))
    ]
    storage = put(
        f"{SYSTEM}/Storage/1",
        "Storage.v1_8_0.Storage",
        Drives=[{"@odata.id": path} for path in drives],
    )
    sparse = bool(odd.get("sparse"))
    no_media = sparse or bool(odd.get("no_media"))
    system: dict[str, Any] = {
        "Manufacturer": "Holm Instruments",
        "Model": plan.model,
        "SerialNumber": serial,
        "UUID": str(uuids.uuid5(uuids.NAMESPACE_DNS, plan.name)),
        "HostName": plan.name,
        "PowerState": machine.power,
        "SystemType": "Physical",
        "Processors": group(f"{SYSTEM}/Processors", "ProcessorCollection", processors),
        "EthernetInterfaces": group(
            f"{SYSTEM}/EthernetInterfaces", "EthernetInterfaceCollection", nics
        ),
        "Actions": {
            "#ComputerSystem.Reset": {
                "target": f"{SYSTEM}/Actions/ComputerSystem.Reset",
                "ResetType@Redfish.AllowableValues": RESETS,
            }
        },
        "Boot": _boot(machine, habits),
    }
    if not sparse:
        system |= {
            "MemorySummary": {
                "TotalSystemMemoryGiB": plan.memory_bytes // GIB,
                "Status": {"Health": "OK"},
            },
            "Status": {"State": "Enabled", "Health": "OK"},
            "BiosVersion": bios,
            "Storage": group(f"{SYSTEM}/Storage", "StorageCollection", [storage]),
        }
    if "media-at-system" in habits:
        system |= listed
    put(SYSTEM, "ComputerSystem.v1_13_0.ComputerSystem", Name="System", **system)
    put(
        f"{ROOT}/Chassis/1",
        "Chassis.v1_14_0.Chassis",
        Name="Chassis",
        ChassisType="RackMount",
        Manufacturer="Holm Instruments",
        Model=plan.model,
        SerialNumber=serial,
        Status={"Health": "OK"},
    )
    put(
        f"{ROOT}/Managers/1",
        "Manager.v1_10_0.Manager",
        Name="Controller",
        ManagerType="BMC",
        FirmwareVersion="1.18.3",
        **({} if no_media or "media-at-system" in habits else listed),
    )
    put(
        f"{ROOT}/SessionService",
        "SessionService.v1_1_8.SessionService",
        Name="Sessions",
        ServiceEnabled=True,
        Sessions={"@odata.id": f"{ROOT}/SessionService/Sessions"},
    )
    root: dict[str, Any] = {
        "RedfishVersion": "1.11.0",
        "UUID": str(uuids.uuid5(uuids.NAMESPACE_DNS, f"bmc.{plan.name}")),
        "Systems": group(f"{ROOT}/Systems", "ComputerSystemCollection", [SYSTEM]),
        "Chassis": group(f"{ROOT}/Chassis", "ChassisCollection", [f"{ROOT}/Chassis/1"]),
        "Managers": group(f"{ROOT}/Managers", "ManagerCollection", [f"{ROOT}/Managers/1"]),
        "SessionService": {"@odata.id": f"{ROOT}/SessionService"},
        "Links": {"Sessions": {"@odata.id": f"{ROOT}/SessionService/Sessions"}},
    }
    if not sparse:
        put(
            f"{ROOT}/UpdateService",
            "UpdateService.v1_8_0.UpdateService",
            Name="Updates",
            FirmwareInventory=group(
                f"{ROOT}/UpdateService/FirmwareInventory",
                "SoftwareInventoryCollection",
                firmware,
            ),
        )
        root["UpdateService"] = {"@odata.id": f"{ROOT}/UpdateService"}
    put(ROOT, "ServiceRoot.v1_9_0.ServiceRoot", Name="Root", **root)
    tree[ROOT]["Id"] = "RootService"
    return tree


def _boot(machine: LabMachine, habits: set[str]) -> dict[str, Any]:
    boot: dict[str, Any] = {
        "BootSourceOverrideTarget": machine.boot["target"],
        "BootSourceOverrideEnabled": machine.boot["enabled"],
    }
    if "boot-mode" in habits:
        boot["BootSourceOverrideMode"] = "UEFI"
    if "no-allowable" not in habits:
        sources = ["None", "Pxe", "Cd", "Hdd", "BiosSetup"]
        boot["BootSourceOverrideTarget@Redfish.AllowableValues"] = sources
    return boot


def collection(path: str, kind: str, members: list[str]) -> dict[str, Any]:
    return {
        "@odata.id": path,
        "@odata.type": f"#{kind}.{kind}",
        "Name": kind,
        "Members@odata.count": len(members),
        "Members": [{"@odata.id": m} for m in members],
    }


def _media_actions(slot: str, habits: Collection[str]) -> dict[str, Any]:
    """How a medium is inserted and ejected; nothing where the slot itself is changed."""
    if "change-media" in habits:
        return {}
    insert: dict[str, Any] = {"target": f"{slot}/Actions/VirtualMedia.InsertMedia"}
    if "transfer-protocol" in habits:
        insert["TransferProtocolType@Redfish.AllowableValues"] = ["HTTP", "HTTPS"]
    eject = {"target": f"{slot}/Actions/VirtualMedia.EjectMedia"}
    return {"Actions": {"#VirtualMedia.InsertMedia": insert, "#VirtualMedia.EjectMedia": eject}}
