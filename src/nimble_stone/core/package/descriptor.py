"""OVF descriptors (DMTF DSP0243 1.0 and 1.1; a single virtual system) → `Descriptor`.

Every number that is later used to allocate or seek is bounded here. What is unknown but optional becomes a note.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from lxml import etree

from nimble_stone.core.errors import FormatError
from nimble_stone.core.package import xml_safe
from nimble_stone.core.package.model import Descriptor, Disk, FileRef, NetworkWish, Nic, Question, Size

OVF = "http://schemas.dmtf.org/ovf/envelope/1"
RASD = "http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData"
MAX_CAPACITY = 64 << 40
MAX_LICENCE = 512 << 10
_KNOWN = {"References", "DiskSection", "NetworkSection", "DeploymentOptionSection", "VirtualSystem", "Strings"}
_KNOWN_IN_SYSTEM = {"Info", "Name", "ProductSection", "EulaSection", "VirtualHardwareSection", "OperatingSystemSection",
                    "AnnotationSection", "StartupSection", "InstallSection"}
_UNIT = re.compile(r"^\s*byte\s*(?:\*\s*(\d+)(?:\s*\^\s*(\d+))?)?\s*$")
_OLD_UNITS = {"kilobytes": 1 << 10, "megabytes": 1 << 20, "gigabytes": 1 << 30, "bytes": 1}


def parse(data: bytes) -> Descriptor:
    """Read a descriptor. Raises FormatError with line, element and clause of the first thing that is wrong."""
    root = xml_safe.parse(data, "the descriptor")
    if etree.QName(root).localname != "Envelope" or etree.QName(root).namespace != OVF:
        raise FormatError("the descriptor is not an OVF 1.x envelope", code="ovf-envelope", place=xml_safe.place(root),
                          clause="DSP0243 7.1", hint="Export the appliance as OVF 1.x.")
    systems = _all(root, "VirtualSystem")
    if len(systems) != 1 or _all(root, "VirtualSystemCollection"):
        raise FormatError(f"the package holds {len(systems) or 'a collection of'} virtual systems; exactly one can be rolled out",
                          code="ovf-systems", clause="DSP0243 7.2")
    system, notes = systems[0], list(_unknown(root, _KNOWN))
    notes += _unknown(system, _KNOWN_IN_SYSTEM)
    files = tuple(_file(item) for item in _all(root, "References/File"))
    if len({f.id for f in files}) != len(files):
        raise FormatError("two file references share one id", code="ovf-file", clause="DSP0243 7.1")
    disks = tuple(_disk(item, {f.id for f in files}) for item in _all(root, "DiskSection/Disk"))
    hardware = _one(system, "VirtualHardwareSection")
    product = _first(system, "ProductSection")
    sizes = _sizes(root, hardware)
    return Descriptor(
        name=_attr(system, "id"),
        product=_child(product, "Product") or _child(system, "Name") or _attr(system, "id"),
        vendor=_child(product, "Vendor"),
        version=_child(product, "Version") or _child(product, "FullVersion"),
        files=files, disks=disks, disk_order=_disk_order(hardware, {d.id for d in disks}),
        networks=tuple(NetworkWish(_attr(item, "name"), _child(item, "Description"))
                       for item in _all(root, "NetworkSection/Network")),
        sizes=sizes, nics=_nics(hardware),
        questions=tuple(_questions(system)),
        licences=tuple(_licence(item) for item in _all(system, "EulaSection")),
        transports=tuple(_attr(hardware, "transport").split()),
        notes=tuple(notes),
    )


def _all(element: etree._Element, path: str) -> list[etree._Element]:
    return element.findall("/".join(f"{{{OVF}}}{part}" for part in path.split("/")))


def _first(element: etree._Element, name: str) -> etree._Element | None:
    found = _all(element, name)
    return found[0] if found else None


def _one(element: etree._Element, name: str) -> etree._Element:
    found = _first(element, name)
    if found is None:
        raise FormatError(f"the virtual system has no {name}", code="ovf-missing", place=xml_safe.place(element),
                          clause="DSP0243 8.1")
    return found


def _attr(element: etree._Element, name: str) -> str:
    return str(element.get(f"{{{OVF}}}{name}") or "")


def _child(element: etree._Element | None, name: str) -> str:
    return xml_safe.text(_first(element, name)) if element is not None else ""


def _rasd(item: etree._Element, name: str) -> str:
    return xml_safe.text(item.find(f"{{{RASD}}}{name}"))


def _unknown(element: etree._Element, known: set[str]) -> Iterator[str]:
    for child in element:
        name = etree.QName(child)
        if name.namespace == OVF and name.localname in known:
            continue
        if _attr(child, "required").lower() in ("", "true", "1") and _first(child, "Info") is not None:
            raise FormatError(f"section “{name.localname}” is unknown here and marked as required", code="ovf-section",
                              place=xml_safe.place(child), clause="DSP0243 7.1")
        yield f"{xml_safe.place(child)}: section “{name.localname}” is not used"


def _integer(text: str, element: etree._Element, what: str, *, low: int = 0, high: int = 1 << 62) -> int:
    if not re.fullmatch(r"\d{1,19}", text.strip()) or not low <= int(text) <= high:
        raise FormatError(f"{what} is “{text[:40]}”; expected a whole number from {low} to {high}", code="ovf-number",
                          place=xml_safe.place(element))
    return int(text)


def _unit(text: str, element: etree._Element, default: int) -> int:
    """Bytes per unit of an allocation unit string (DSP0004 programmatic unit, or the older words)."""
    if not text.strip():
        return default
    if text.strip().lower() in _OLD_UNITS:
        return _OLD_UNITS[text.strip().lower()]
    match = _UNIT.match(text)
    if not match:
        raise FormatError(f"the unit “{text[:40]}” is not understood", code="ovf-unit", place=xml_safe.place(element),
                          clause="DSP0004 annex C")
    base, power = int(match[1] or 1), int(match[2] or 1)
    if base > 1 << 40 or power > 50:
        raise FormatError(f"the unit “{text[:40]}” is beyond reason", code="ovf-unit", place=xml_safe.place(element))
    return int(base ** power)


def _file(item: etree._Element) -> FileRef:
    href = _attr(item, "href")
    if not href or "/" in href or "\\" in href or href in (".", ".."):
        raise FormatError(f"file reference “{href[:80]}” does not name a file inside the package", code="ovf-file",
                          place=xml_safe.place(item), clause="DSP0243 7.1")
    if _attr(item, "compression") not in ("", "identity") or _attr(item, "chunkSize"):
        raise FormatError(f"“{href}” is packed or cut into chunks, which is not read yet", code="ovf-file-kind",
                          place=xml_safe.place(item))
    size = _attr(item, "size")
    return FileRef(_attr(item, "id"), href, _integer(size, item, "the file size", high=1 << 50) if size else None)


def _disk(item: etree._Element, files: set[str]) -> Disk:
    unit = _unit(_attr(item, "capacityAllocationUnits"), item, 1)
    capacity = _integer(_attr(item, "capacity"), item, "the disk capacity", low=1) * unit
    if capacity > MAX_CAPACITY:
        raise FormatError("the disk is larger than 64 TiB", code="ovf-disk", place=xml_safe.place(item))
    file_id = _attr(item, "fileRef")
    if file_id and file_id not in files:
        raise FormatError(f"the disk refers to file “{file_id}”, which is not listed", code="ovf-disk", place=xml_safe.place(item),
                          clause="DSP0243 9.1")
    populated = _attr(item, "populatedSize")
    return Disk(_attr(item, "diskId"), file_id, capacity, _integer(populated, item, "populatedSize") if populated else None,
                _attr(item, "format"))


def _items(hardware: etree._Element, kind: str, option: str) -> list[etree._Element]:
    """The items of one resource type that hold for a deployment option: its own ones win over common ones."""
    common, own = {}, {}
    for item in _all(hardware, "Item"):
        if _rasd(item, "ResourceType") != kind:
            continue
        options = _attr(item, "configuration").split()
        if not options:
            common[_rasd(item, "InstanceID")] = item
        elif option in options:
            own[_rasd(item, "InstanceID")] = item
    return list({**common, **own}.values())


def _sizes(root: etree._Element, hardware: etree._Element) -> tuple[Size, ...]:
    options = _all(root, "DeploymentOptionSection/Configuration")
    if not options:
        vcpu, memory = _hardware_of(hardware, "")
        return (Size("", "as packaged", "", True, vcpu, memory),)
    flags = [_attr(option, "default").lower() in ("true", "1") for option in options]
    if not any(flags):
        flags[0] = True
    sizes = []
    for option, default in zip(options, flags, strict=True):
        ident = _attr(option, "id")
        vcpu, memory = _hardware_of(hardware, ident)
        sizes.append(Size(ident, _child(option, "Label") or ident, _child(option, "Description"), default, vcpu, memory))
    return tuple(sizes)


def _hardware_of(hardware: etree._Element, option: str) -> tuple[int, int]:
    vcpu = sum(_integer(_rasd(i, "VirtualQuantity"), i, "the number of vCPUs", low=1, high=1024) for i in _items(hardware, "3", option))
    memory = sum(_integer(_rasd(i, "VirtualQuantity"), i, "the memory", low=1, high=1 << 40)
                 * _unit(_rasd(i, "AllocationUnits"), i, 1 << 20) for i in _items(hardware, "4", option))
    if not vcpu or not 1 << 20 <= memory <= 64 << 40:
        raise FormatError(f"no sensible vCPU count and memory are given{f' for option “{option}”' if option else ''}",
                          code="ovf-hardware", place=xml_safe.place(hardware), clause="DSP0243 8.3")
    return vcpu, memory


def _disk_order(hardware: etree._Element, known: set[str]) -> tuple[str, ...]:
    order = []
    for item in _all(hardware, "Item"):
        if _rasd(item, "ResourceType") != "17":
            continue
        ident = _rasd(item, "HostResource").rsplit("/", 1)[-1]
        if ident not in known:
            raise FormatError(f"a drive uses disk “{ident}”, which is not described", code="ovf-disk", place=xml_safe.place(item),
                              clause="DSP0243 9.1")
        order.append(ident)
    return tuple(order)


def _nics(hardware: etree._Element) -> tuple[Nic, ...]:
    seen: dict[str, Nic] = {}
    for item in _all(hardware, "Item"):
        if _rasd(item, "ResourceType") == "10":
            seen.setdefault(_rasd(item, "InstanceID"), Nic(_rasd(item, "Connection"), _rasd(item, "ResourceSubType")))
    return tuple(seen.values())


def _licence(section: etree._Element) -> str:
    text = _child(section, "License")
    if len(text) > MAX_LICENCE:
        raise FormatError("the licence text is longer than 512 KiB", code="ovf-licence", place=xml_safe.place(section))
    return text


def _questions(system: etree._Element) -> Iterator[Question]:
    seen: set[str] = set()
    for section in _all(system, "ProductSection"):
        category = ""
        for child in section:
            name = etree.QName(child).localname
            if name == "Category":
                category = xml_safe.text(child)
            elif name == "Property":
                question = _question(child, section, category)
                if question.key in seen:
                    raise FormatError(f"property “{question.key}” stands twice", code="ovf-property", place=xml_safe.place(child))
                seen.add(question.key)
                yield question


def _question(item: etree._Element, section: etree._Element, category: str) -> Question:
    key = ".".join(part for part in (_attr(section, "class"), _attr(item, "key"), _attr(section, "instance")) if part)
    if not _attr(item, "key"):
        raise FormatError("a property has no key", code="ovf-property", place=xml_safe.place(item), clause="DSP0243 9.5")
    low, high, choices = _qualifiers(_attr(item, "qualifiers"))
    return Question(
        key=key, label=_child(item, "Label") or key, description=_child(item, "Description"), category=category,
        type=_attr(item, "type") or "string", default=_attr(item, "value"),
        secret=_attr(item, "password").lower() in ("true", "1"),
        asked=_attr(item, "userConfigurable").lower() in ("true", "1"),
        minimum=low, maximum=high, choices=choices)


def _qualifiers(text: str) -> tuple[int | None, int | None, tuple[str, ...]]:
    """MinLen, MaxLen, MinValue, MaxValue and ValueMap (DSP0243 §9.5, table 6)."""
    bounds = {name.lower(): int(value) for name, value in re.findall(r"(M(?:in|ax)(?:Len|Value))\(\s*(\d{1,18})\s*\)", text)}
    listed = re.search(r"ValueMap\s*\{([^}]*)\}", text)
    choices = tuple(re.findall(r'"([^"]*)"', listed[1])) if listed else ()
    return bounds.get("minlen", bounds.get("minvalue")), bounds.get("maxlen", bounds.get("maxvalue")), choices
