"""What a guest on this hypervisor gets for the hardware a publisher describes, and every difference
between the two.

What can be given as it is, is kept: the publisher tested with it. What cannot is mapped to the
nearest thing or dropped, and said so.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from nimble_stone.core.package.model import Controller, Descriptor, Drive, Severity

Bus = Literal["virtio", "scsi", "sata", "ide"]
# publisher's word → (model here, whether it is the same device)
_SCSI: dict[str, tuple[str, bool]] = {
    "lsilogicsas": ("lsisas1068", True),
    "virtualscsi": ("vmpvscsi", True),
    "pvscsi": ("vmpvscsi", True),
    "virtio-scsi": ("virtio-scsi", True),
    "virtioscsi": ("virtio-scsi", True),
    "virtio": ("virtio-scsi", True),
    "lsilogic": ("lsilogic", False),
}
_NIC: dict[str, tuple[str, bool]] = {
    "e1000": ("e1000", True),
    "e1000e": ("e1000e", True),
    "vmxnet3": ("vmxnet3", True),
    "pcnet32": ("pcnet", True),
    "pcnet": ("pcnet", True),
    "virtio": ("virtio", True),
    "virtionet": ("virtio", True),
    "virtio-net": ("virtio", True),
    "rtl8139": ("rtl8139", True),
}
MAX_ON_IDE = 3


@dataclass(frozen=True)
class Difference:
    """One device: what the publisher describes, what the guest gets, and why they differ. `weight`
    tells how much it may matter.
    """

    outcome: Literal["kept", "mapped", "dropped", "added"]
    device: str
    was: str
    becomes: str
    why: str
    weight: Severity


@dataclass(frozen=True)
class DiskPlace:
    """A disk of the guest: which, on which bus, under which name, on which controller (index among
    those of its bus).
    """

    ref: str
    bus: Bus
    target: str
    controller: int


@dataclass(frozen=True)
class Guest:
    """The devices the guest gets. `controllers`: model of each SCSI controller, by index."""

    disks: tuple[DiskPlace, ...]
    controllers: tuple[str, ...]
    nics: tuple[str, ...]
    firmware: Literal["bios", "efi"]
    config_target: str
    differences: tuple[Difference, ...]


@dataclass(frozen=True)
class ExtraDisk:
    """A disk laid on top of the package: its name in volumes, the bus it hangs on, its size in
    bytes.
    """

    ref: str
    bus: Bus
    capacity_bytes: int


def adapt(own: Descriptor, extra: tuple[ExtraDisk, ...] = ()) -> Guest:
    """The guest for a package's virtual system, with extra disks after its own. Pure;
    O(devices).
    """
    found: list[Difference] = []
    models: list[str] = []
    index: dict[str, int] = {}
    by_id = {c.instance: c for c in own.controllers}
    for controller in own.controllers:
        _controller(controller, models, index, found)
    places: list[tuple[str, Bus, int]] = []
    shared = {disk.id for disk in own.disks if disk.shared}
    for drive in own.drives:
        if drive.kind != "disk" or drive.content != "disk":
            _other_drive(drive, found)
            continue
        bus, place = _bus(by_id.get(drive.controller), index)
        if drive.ref in shared:
            found.append(
                Difference(
                    "mapped",
                    f"disk {drive.ref}",
                    "shared between systems",
                    "own disk",
                    "each node gets its own disks",
                    "caution",
                )
            )
        places.append((drive.ref, bus, place))
    for item in extra:
        if item.bus == "scsi" and not models:
            models.append("virtio-scsi")
        places.append((item.ref, item.bus, 0))
        found.append(
            Difference(
                "added",
                f"disk {item.ref}",
                "",
                f"{item.bus}, empty",
                "added to the package by the plan",
                "note",
            )
        )
    nics = tuple(_nic(number, nic.kind, found) for number, nic in enumerate(own.nics)) or (
        "virtio",
    )
    if not own.nics:
        found.append(
            Difference(
                "added",
                "network interface 1",
                "",
                "virtio",
                "the package describes none; a node needs one",
                "note",
            )
        )
    firmware: Literal["bios", "efi"] = "efi" if own.firmware == "efi" else "bios"
    if own.firmware:
        found.append(Difference("kept", "firmware", own.firmware, firmware, "", "note"))
    if own.families:
        found.append(
            Difference(
                "mapped",
                "machine",
                ", ".join(own.families)[:80],
                "this hypervisor's standard machine",
                "no other kind is offered here",
                "note",
            )
        )
    found.append(
        Difference(
            "added",
            "config ISO",
            "",
            "IDE CD-ROM",
            "contains the node's values: OVF environment and NoCloud seed",
            "note",
        )
    )
    disks, config = _named(places, found)
    return Guest(disks, tuple(models), nics, firmware, config, tuple(found))


def _why(same: bool, asked: str, left_open: str, other: str) -> str:
    """Why a device is another one than was asked for, '' when it is the same."""
    if same:
        return ""
    return other if asked else left_open


def _controller(
    controller: Controller, models: list[str], index: dict[str, int], found: list[Difference]
) -> None:
    word = controller.model.lower()
    name = (
        f"{controller.kind.upper() if controller.kind != 'other' else 'other'} controller"
        f" {controller.instance}"
    )
    if controller.kind == "scsi":
        model, same = _SCSI.get(word, ("virtio-scsi", False))
        index[controller.instance] = len(models)
        models.append(model)
        found.append(
            Difference(
                "kept" if same else "mapped",
                name,
                controller.model or "any",
                model,
                _why(
                    same,
                    word,
                    "the publisher leaves the model open",
                    f"“{controller.model}” is not supported here; the VM needs a driver for the"
                    " replacement",
                ),
                "note" if same or not word else "caution",
            )
        )
    elif controller.kind in ("ide", "sata"):
        found.append(
            Difference(
                "kept",
                name,
                controller.model or controller.kind.upper(),
                controller.kind.upper(),
                "",
                "note",
            )
        )
    elif controller.kind == "nvme":
        found.append(
            Difference(
                "mapped",
                name,
                controller.model or "NVMe",
                "virtio",
                "NVMe is not supported here; the VM needs a virtio driver",
                "caution",
            )
        )
    else:
        found.append(
            Difference(
                "dropped",
                name,
                controller.model or controller.kind,
                "",
                "not used by a rollout",
                "note",
            )
        )


def _bus(controller: Controller | None, index: dict[str, int]) -> tuple[Bus, int]:
    if controller is None or controller.kind in ("nvme", "usb", "other"):
        return "virtio", 0
    if controller.kind == "scsi":
        return "scsi", index[controller.instance]
    return ("sata", 0) if controller.kind == "sata" else ("ide", 0)


def _other_drive(drive: Drive, found: list[Difference]) -> None:
    name = {"cdrom": "CD-ROM drive", "floppy": "floppy drive", "disk": "disk drive"}[drive.kind]
    if drive.content == "file":
        found.append(
            Difference(
                "dropped",
                name,
                f"with file {drive.ref}",
                "",
                "media inside packages are not put in",
                "caution",
            )
        )
    else:
        found.append(Difference("dropped", name, "empty", "", "nothing is in it", "note"))


def _nic(number: int, kind: str, found: list[Difference]) -> str:
    words = kind.split()
    known = next((_NIC[word.lower()] for word in words if word.lower() in _NIC), None)
    model, same = known or ("virtio", False)
    other = f"“{kind[:40]}” is not supported here; the VM needs a virtio driver"
    why = _why(same, kind.strip(), "the publisher leaves the kind open", other)
    found.append(
        Difference(
            "kept" if same else "mapped",
            f"network interface {number + 1}",
            kind or "any",
            model,
            why,
            "note" if same or not words else "caution",
        )
    )
    return model


def _named(
    places: list[tuple[str, Bus, int]], found: list[Difference]
) -> tuple[tuple[DiskPlace, ...], str]:
    """Device names per bus; what does not fit on the IDE bus beside the config ISO goes
    to SATA.
    """
    prefix = {"virtio": "vd", "scsi": "sd", "sata": "sd", "ide": "hd"}
    counts: dict[str, int] = {}
    disks = []
    for ref, wanted, controller in places:
        bus: Bus = wanted
        if bus == "ide" and counts.get("hd", 0) >= MAX_ON_IDE:
            bus = "sata"
            found.append(
                Difference(
                    "mapped",
                    f"disk {ref}",
                    "IDE",
                    "SATA",
                    "the IDE bus has four places and one is used by the config ISO",
                    "caution",
                )
            )
        number = counts.get(prefix[bus], 0)
        counts[prefix[bus]] = number + 1
        disks.append(DiskPlace(ref, bus, prefix[bus] + _letters(number), controller))
    return tuple(disks), "hd" + _letters(counts.get("hd", 0))


def next_target(guest: Guest) -> str:
    """The name of one more disk on the virtio bus."""
    return "vd" + _letters(sum(place.bus == "virtio" for place in guest.disks))


def _letters(number: int) -> str:
    text = ""
    number += 1
    while number:
        number, rest = divmod(number - 1, 26)
        text = chr(97 + rest) + text
    return text
