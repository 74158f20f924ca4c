"""The XML we send to libvirt."""

from __future__ import annotations

from dataclasses import dataclass

from lxml import etree

from nimble_stone.core.estate import Mark
from nimble_stone.hosts.commands import console_log

MARK = "urn:nimble-stone:mark:1"


@dataclass(frozen=True)
class GuestDesign:
    """A guest to be defined. Memory in bytes; volumes are (datastore, volume name)."""

    name: str
    mark: Mark
    domain_type: str
    vcpu: int
    memory_bytes: int
    disks: tuple[tuple[str, str, str], ...]       # datastore, volume, format
    medium: tuple[str, str]
    network: str
    nics: int


def _text(tree: etree._Element) -> str:
    return str(etree.tostring(tree, pretty_print=True, encoding="unicode"))


def _sub(parent: etree._Element, tag: str, text: str = "", **attributes: str) -> etree._Element:
    child = etree.SubElement(parent, tag, {key.rstrip("_"): value for key, value in attributes.items()})
    if text:
        child.text = text
    return child


def volume(name: str, form: str, capacity_bytes: int, allocation_bytes: int = 0) -> str:
    """A storage volume. Raw volumes are fully allocated by default, so the allocation is always said."""
    root = etree.Element("volume")
    _sub(root, "name", name)
    _sub(root, "capacity", str(capacity_bytes), unit="bytes")
    _sub(root, "allocation", str(allocation_bytes), unit="bytes")
    _sub(_sub(root, "target"), "format", type=form)
    return _text(root)


def domain(design: GuestDesign) -> str:
    """A guest: virtio disks and adapters, an IDE CD-ROM (found by every kernel under machine type pc), serial console to a log,
    our mark in the metadata."""
    root = etree.Element("domain", type=design.domain_type)
    _sub(root, "name", design.name)
    mark = etree.SubElement(_sub(root, "metadata"), f"{{{MARK}}}mark", nsmap={"ns": MARK})
    mark.set("run", design.mark.run)
    mark.set("node", design.mark.node)
    mark.set("plan", design.mark.plan)
    _sub(root, "memory", str(design.memory_bytes >> 10), unit="KiB")
    _sub(root, "vcpu", str(design.vcpu))
    machine = _sub(root, "os")
    _sub(machine, "type", "hvm", arch="x86_64", machine="pc")
    _sub(machine, "boot", dev="hd")
    features = _sub(root, "features")
    _sub(features, "acpi")
    _sub(features, "apic")
    _sub(root, "clock", offset="utc")
    devices = _sub(root, "devices")
    for number, (datastore, name, form) in enumerate(design.disks):
        disk = _sub(devices, "disk", type="volume", device="disk")
        _sub(disk, "driver", name="qemu", type=form)
        _sub(disk, "source", pool=datastore, volume=name)
        _sub(disk, "target", dev=f"vd{chr(97 + number)}", bus="virtio")
    cdrom = _sub(devices, "disk", type="volume", device="cdrom")
    _sub(cdrom, "driver", name="qemu", type="raw")
    _sub(cdrom, "source", pool=design.medium[0], volume=design.medium[1])
    _sub(cdrom, "target", dev="hda", bus="ide")
    _sub(cdrom, "readonly")
    for _ in range(max(1, design.nics)):
        nic = _sub(devices, "interface", type="network")
        _sub(nic, "source", network=design.network)
        _sub(nic, "model", type="virtio")
        _sub(nic, "rom", enabled="no")
    serial = _sub(devices, "serial", type="pty")
    _sub(serial, "log", file=console_log(design.name), append="off")
    _sub(serial, "target", port="0")
    _sub(devices, "graphics", type="vnc", port="-1", autoport="yes", listen="127.0.0.1")
    _sub(_sub(devices, "video"), "model", type="vga")
    return _text(root)
