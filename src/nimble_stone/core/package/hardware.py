"""Virtual hardware (DSP0243 §8): resource allocation items of 1.x and of 2.x, per deployment
option.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

from nimble_stone.core.package import units
from nimble_stone.core.package.model import Amount, Controller, Drive, Hardware, Nic
from nimble_stone.core.package.reading import Reading
from nimble_stone.core.package.xml_tree import Element

ITEMS = ("Item", "StorageItem", "EthernetPortItem")
MAX_VCPU, MAX_MEMORY = 4096, 64 << 40
_PROCESSOR, _MEMORY, _NIC = "3", "4", "10"
_DRIVES: dict[str, Literal["disk", "cdrom", "floppy"]] = {
    "14": "floppy",
    "15": "cdrom",
    "16": "cdrom",
    "17": "disk",
    "31": "disk",
    "32": "disk",
}
_CONTROLLERS: dict[str, Literal["scsi", "ide"]] = {
    "5": "ide",
    "6": "scsi",
    "7": "scsi",
    "8": "scsi",
}
_NAMES = {
    "1": "other device",
    "9": "InfiniBand adapter",
    "11": "network adapter of another kind",
    "12": "expansion slot",
    "13": "device",
    "18": "tape drive",
    "19": "storage extent",
    "20": "storage device",
    "21": "serial port",
    "22": "parallel port",
    "24": "graphics adapter",
    "25": "FireWire controller",
    "26": "partition",
    "27": "partition",
    "28": "power supply",
    "29": "fan",
    "30": "switch port",
    "33": "Ethernet connection",
    "34": "WLAN adapter",
    "35": "sound card",
}
_SILENT = {"21", "24"}  # every guest gets a serial console and a screen


def read(
    section: Element,
    options: Sequence[str],
    disks: frozenset[str],
    files: frozenset[str],
    networks: frozenset[str],
    reading: Reading,
) -> tuple[Hardware, ...]:
    """The hardware for each option, in the given order ('' alone: no options are offered). Findings
    are noted once.
    """
    items = [item for item in section.children if item.name in ITEMS]
    if len(items) > 2_000:
        reading.notice(
            "blocker",
            "ovf-items",
            f"{len(items)} hardware items; at most 2,000 are read",
            section,
            "8.1",
        )
        items = items[:2_000]
    _check(items, frozenset(options), reading)
    built = []
    for number, option in enumerate(options):
        # the same items again: the same findings
        quiet = reading if number == 0 else Reading(reading.texts, reading.others)
        built.append(_hardware(section, items, option, disks, files, networks, quiet))
        if number and (
            found := [n for n in quiet.found if n.severity == "blocker" and n not in reading.found]
        ):
            reading.found += found
    return tuple(built)


def _check(items: list[Element], options: frozenset[str], reading: Reading) -> None:
    seen: set[tuple[str, str, str]] = set()
    known = {item.child_text("InstanceID") or item.child_text("InstanceId") for item in items}
    for item in items:
        ident = item.child_text("InstanceID") or item.child_text("InstanceId")
        if not ident:
            reading.notice("caution", "ovf-item", "a hardware item has no InstanceID", item, "8.1")
        if not item.child_text("ResourceType"):
            reading.notice(
                "caution",
                "ovf-item",
                f"hardware item {ident or '?'} has no ResourceType and is not used",
                item,
                "8.1",
            )
        for option in (item.attribute("configuration") or "").split() or [""]:
            if option and option not in options:
                reading.notice(
                    "caution",
                    "ovf-option",
                    f"hardware item {ident} is for option “{option[:60]}”, which is not described",
                    item,
                    "9.8",
                )
            key = (ident, option, item.attribute("bound") or "normal")
            if ident and key in seen:
                reading.notice(
                    "caution",
                    "ovf-item",
                    f"two hardware items share InstanceID {ident[:40]}",
                    item,
                    "8.1",
                )
            seen.add(key)
        parent = item.child_text("Parent")
        if parent and parent not in known:
            reading.notice(
                "caution",
                "ovf-parent",
                f"hardware item {ident} hangs on item {parent[:40]}, which does not exist",
                item,
                "8.3",
            )
        if parent and parent == ident:
            reading.notice(
                "caution",
                "ovf-parent",
                f"hardware item {ident[:40]} is its own parent",
                item,
                "8.3",
            )
        bound = item.attribute("bound")
        if bound not in (None, "normal", "min", "max"):
            reading.notice(
                "caution",
                "ovf-bound",
                f"the bound “{str(bound)[:20]}” is not normal, min or max",
                item,
                "8.4",
            )


def _places(items: list[Element], reading: Reading) -> None:
    """Two drives at one address of one controller; controllers that hang on each other."""
    parents = {
        item.child_text("InstanceID") or item.child_text("InstanceId"): item.child_text("Parent")
        for item in items
    }
    taken: set[tuple[str, str]] = set()
    for item in items:
        kind, ident = (
            item.child_text("ResourceType"),
            item.child_text("InstanceID") or item.child_text("InstanceId"),
        )
        place = (item.child_text("Parent"), item.child_text("AddressOnParent"))
        if kind in _DRIVES and all(place):
            if place in taken:
                reading.notice(
                    "caution",
                    "ovf-address",
                    f"two drives are at address {place[1][:20]} of item {place[0][:40]}",
                    item,
                    "8.3",
                )
            taken.add(place)
        above = parents.get(ident, "")
        if above and above != ident and parents.get(above) == ident and ident < above:
            reading.notice(
                "caution",
                "ovf-parent",
                f"hardware items {ident[:40]} and {above[:40]} are each other's parent",
                item,
                "8.3",
            )


def _valid(items: list[Element], option: str, bound: str = "normal") -> list[Element]:
    """The items that hold for an option: its own ones win over common ones of the same InstanceID.
    Order is kept.
    """
    chosen: dict[str, Element] = {}
    for number, item in enumerate(items):
        if (item.attribute("bound") or "normal") != bound:
            continue
        ident = item.child_text("InstanceID") or item.child_text("InstanceId") or f"#{number}"
        own = (item.attribute("configuration") or "").split()
        if (option in own) or (
            not own and (ident not in chosen or not chosen[ident].attribute("configuration"))
        ):
            chosen[ident] = item
    return list(chosen.values())


def _hardware(
    section: Element,
    items: list[Element],
    option: str,
    disks: frozenset[str],
    files: frozenset[str],
    networks: frozenset[str],
    reading: Reading,
) -> Hardware:
    valid = _valid(items, option)
    _places(valid, reading)
    by_kind: dict[str, list[Element]] = {}
    for item in valid:
        by_kind.setdefault(item.child_text("ResourceType"), []).append(item)
    said = f" for option “{option}”" if option else ""
    vcpu = _amount(items, option, _PROCESSOR, reading, "the number of vCPUs", MAX_VCPU)
    memory = _amount(items, option, _MEMORY, reading, "the memory", MAX_MEMORY)
    if vcpu.normal is None:
        reading.notice(
            "blocker", "ovf-hardware", f"no sensible number of vCPUs is given{said}", section, "8.3"
        )
    if memory.normal is None:
        reading.notice(
            "blocker",
            "ovf-hardware",
            f"no sensible amount of memory is given{said}",
            section,
            "8.3",
        )
    controllers = tuple(c for item in valid if (c := _controller(item)) is not None)
    drives = tuple(d for item in valid if (d := _drive(item, disks, files, reading)) is not None)
    nics = tuple(_nic(item, networks, reading) for item in by_kind.get(_NIC, []))
    used = {
        id(item)
        for item in valid
        if _controller(item)
        or item.child_text("ResourceType") in (_PROCESSOR, _MEMORY, _NIC, *_DRIVES)
    }
    others = tuple(
        _other(item, reading)
        for item in valid
        if id(item) not in used and item.child_text("ResourceType") not in ("", *_SILENT)
    )
    cores = next(
        (
            reading.number(
                c.text, item, "cores per socket", low=1, high=MAX_VCPU, severity="caution"
            )
            for item in by_kind.get(_PROCESSOR, [])
            for c in item.all("CoresPerSocket")
        ),
        None,
    )
    if cores and vcpu.normal and vcpu.normal % cores:
        reading.notice(
            "caution",
            "ovf-cores",
            f"{vcpu.normal} vCPUs cannot be divided into sockets of {cores} cores",
            section,
        )
    return Hardware(option, vcpu, memory, cores, controllers, drives, nics, others)


def _amount(
    items: list[Element], option: str, kind: str, reading: Reading, what: str, most: int
) -> Amount:
    """The sum over all items of a kind, per bound; memory in bytes."""
    sums: dict[str, int | None] = {}
    for bound in ("normal", "min", "max"):
        for item in _valid(items, option, bound):
            if item.child_text("ResourceType") == kind:
                value = _quantity(item, "VirtualQuantity", kind, reading, what, most)
                sums[bound] = (
                    (sums.get(bound) or 0) + value if value is not None else sums.get(bound)
                )
                if bound == "normal":
                    for field in ("Reservation", "Limit"):
                        extra = _quantity(item, field, kind, reading, what, 1 << 62)
                        if extra is not None:
                            sums[field] = (sums.get(field) or 0) + extra
    normal, least, highest = sums.get("normal"), sums.get("min"), sums.get("max")
    if (normal is not None and least is not None and least > normal) or (
        normal is not None and highest is not None and highest < normal
    ):
        reading.notice(
            "caution",
            "ovf-range",
            f"{what} ({normal}) is outside its own range ({least} to {highest})",
            items[0],
            "8.4",
        )
    return Amount(normal, least, highest, sums.get("Reservation"), sums.get("Limit"))


def _quantity(
    item: Element, field: str, kind: str, reading: Reading, what: str, most: int
) -> int | None:
    value = reading.number(
        item.child_text(field), item, what, low=1 if field == "VirtualQuantity" else 0, high=1 << 60
    )
    if value is None or kind != _MEMORY:
        if value is not None and field == "VirtualQuantity" and value > most:
            reading.notice(
                "blocker", "ovf-hardware", f"{what} is {value}; at most {most} is believed", item
            )
            return None
        return value
    text = _unit_of(item, field)
    unit = units.bytes_per(text) if text else 1 << 20
    if unit is None:
        reading.notice(
            "blocker", "ovf-unit", f"the unit “{text[:40]}” is not understood", item, "8.3"
        )
        return None
    if not text and field == "VirtualQuantity":
        reading.notice(
            "caution", "ovf-unit", "the memory has no unit; it is read as MiB", item, "8.3"
        )
    if field == "VirtualQuantity" and not 1 << 20 <= value * unit <= most:
        reading.notice(
            "blocker",
            "ovf-hardware",
            f"{what} is {value * unit} bytes; 1 MiB to 64 TiB is believed",
            item,
        )
        return None
    return value * unit


def _unit_of(item: Element, field: str) -> str:
    """The unit of a field (CIM_ResourceAllocationSettingData): VirtualQuantity has its own, or
    counts allocation units; all else is in the latter.
    """
    own, allocation = item.child_text("VirtualQuantityUnits"), item.child_text("AllocationUnits")
    if own.strip().lower() == "count":
        own = ""
    if field == "VirtualQuantity":
        return own or allocation
    return allocation or own


def _controller(item: Element) -> Controller | None:
    kind, model = item.child_text("ResourceType"), item.child_text("ResourceSubType")
    ident, word = item.child_text("InstanceID") or item.child_text("InstanceId"), model.lower()
    if kind in _CONTROLLERS:
        return Controller(ident, _CONTROLLERS[kind], model)
    # “other storage device”: what packages call their controllers of newer kinds
    if kind == "20":
        return Controller(ident, "nvme" if "nvme" in word else "sata", model)
    if kind == "23":
        return Controller(ident, "usb", model)
    return None


def _drive(
    item: Element, disks: frozenset[str], files: frozenset[str], reading: Reading
) -> Drive | None:
    kind = _DRIVES.get(item.child_text("ResourceType"))
    if kind is None:
        return None
    host = item.child_text("HostResource")
    path = host.removeprefix("ovf:").lstrip("/").split("/")
    content: Literal["disk", "file", ""] = ""
    ref = path[-1]
    if host and path[0] == "disk" and len(path) == 2:
        content = "disk"
        if ref not in disks:
            reading.notice(
                "blocker",
                "ovf-disk",
                f"a drive uses disk “{ref[:60]}”, which is not described",
                item,
                "9.1",
            )
            return None
    elif host and path[0] == "file" and len(path) == 2:
        content = "file"
        if ref not in files:
            reading.notice(
                "blocker",
                "ovf-file",
                f"a drive uses file “{ref[:60]}”, which is not listed",
                item,
                "7.1",
            )
            return None
    elif host:
        ident = path[-1]
        if ident in disks:
            content = "disk"
            reading.notice(
                "caution",
                "ovf-host-resource",
                f"“{host[:60]}” is not of the form ovf:/disk/id",
                item,
                "8.3",
            )
        else:
            reading.notice(
                "blocker" if kind == "disk" else "note",
                "ovf-host-resource",
                f"“{host[:60]}” names nothing of this package",
                item,
                "8.3",
            )
            return None
    slot = reading.number(
        item.child_text("AddressOnParent"), item, "AddressOnParent", severity="note"
    )
    return Drive(kind, content, ref if content else "", item.child_text("Parent"), slot)


def _nic(item: Element, networks: frozenset[str], reading: Reading) -> Nic:
    name = item.child_text("Connection")
    if not name:
        reading.notice("note", "ovf-connection", "a network adapter names no network", item, "8.3")
    elif name not in networks:
        reading.notice(
            "caution",
            "ovf-connection",
            f"a network adapter wants network “{name[:60]}”, which the package does not describe",
            item,
            "9.2",
        )
    automatic = item.child_text("AutomaticAllocation").lower()
    return Nic(
        name,
        item.child_text("ResourceSubType"),
        item.child_text("ElementName"),
        automatic not in ("false", "0"),
    )


def _other(item: Element, reading: Reading) -> str:
    kind, model = item.child_text("ResourceType"), item.child_text("ResourceSubType")
    name = _NAMES.get(kind)
    required = (item.attribute("required") or "true").strip().lower() in ("true", "1")
    text = f"{name or f'device of type {kind[:20]}'}{f' ({model[:40]})' if model else ''}"
    if name is None and item.attribute("required") is not None and required:
        reading.notice(
            "blocker",
            "ovf-device-required",
            f"a device of type {kind[:20]} is required by the package and is unknown here",
            item,
            "8.3",
        )
    elif name is None:
        reading.notice(
            "note",
            "ovf-device",
            f"resource type {kind[:20]} is unknown",
            item,
            "8.3",
        )
    reading.notice(
        "note",
        "ovf-device-dropped",
        f"the VM will have no {text}{'' if required else ' (the package can do without)'}",
        item,
        "8.3",
    )
    return text
