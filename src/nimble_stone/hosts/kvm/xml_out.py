"""The XML we send to libvirt."""

from __future__ import annotations

from lxml import etree

from nimble_stone.hosts.api import VmDesign, VmDisk
from nimble_stone.hosts.kvm.commands import console_log

MARK = "urn:nimble-stone:mark:1"
DISK_FORMAT = "qcow2"
EMULATOR_MIB = 128


def _text(tree: etree._Element) -> str:
    return str(etree.tostring(tree, pretty_print=True, encoding="unicode"))


def _sub(parent: etree._Element, tag: str, text: str = "", **attributes: str) -> etree._Element:
    child = etree.SubElement(
        parent, tag, {key.rstrip("_"): value for key, value in attributes.items()}
    )
    if text:
        child.text = text
    return child


def volume(
    name: str, form: str, capacity_bytes: int, allocation_bytes: int = 0, backing_path: str = ""
) -> str:
    """A storage volume, on top of another disk where one is given. Raw volumes are fully allocated
    by default, so the allocation is always said.
    """
    root = etree.Element("volume")
    _sub(root, "name", name)
    _sub(root, "capacity", str(capacity_bytes), unit="bytes")
    _sub(root, "allocation", str(allocation_bytes), unit="bytes")
    _sub(_sub(root, "target"), "format", type=form)
    if backing_path:
        backing = _sub(root, "backingStore")
        _sub(backing, "path", backing_path)
        _sub(backing, "format", type=DISK_FORMAT)
    return _text(root)


def domain(design: VmDesign, log: str = "") -> str:
    """`log`: where the console is written, '' for libvirt's own place. A guest with the devices of
    its design, an IDE CD-ROM (found by every kernel under machine
    type pc), serial console to a log,
    our mark in the metadata."""
    root = etree.Element("domain", type=design.domain_type)
    _sub(root, "name", design.name)
    mark = etree.SubElement(_sub(root, "metadata"), f"{{{MARK}}}mark", nsmap={"ns": MARK})
    mark.set("run", design.mark.run)
    mark.set("node", design.mark.node)
    mark.set("plan", design.mark.plan)
    _sub(root, "memory", str(design.memory_bytes >> 10), unit="KiB")
    _sub(root, "vcpu", str(design.vcpu))
    machine = _sub(root, "os", **({"firmware": "efi"} if design.firmware == "efi" else {}))
    _sub(machine, "type", "hvm", arch="x86_64", machine="pc")
    _sub(machine, "boot", dev="hd")
    features = _sub(root, "features")
    _sub(features, "acpi")
    _sub(features, "apic")
    _processor(root, features, design)
    _sub(root, "clock", offset="utc")
    devices = _sub(root, "devices")
    for number, model in enumerate(design.scsi):
        _sub(devices, "controller", type="scsi", index=str(number), model=model)
    places: dict[tuple[str, int], int] = {}
    for item in design.disks:
        disk = _sub(devices, "disk", type="volume", device="disk")
        _sub(disk, "driver", name="qemu", type=DISK_FORMAT)
        _sub(disk, "source", pool=item.datastore, volume=item.volume)
        _sub(disk, "target", dev=item.target, bus=item.bus)
        if item.bus == "scsi":
            unit = places.get((item.bus, item.controller), 0)
            places[item.bus, item.controller] = unit + 1
            _sub(
                disk,
                "address",
                type="drive",
                controller=str(item.controller),
                bus="0",
                target=str(unit) if _flat(design.scsi, item) else "0",
                unit="0" if _flat(design.scsi, item) else str(unit),
            )
    for item in design.shared:
        disk = _sub(devices, "disk", type="volume", device="disk")
        # what one writes, the others read at once: no cache of any host between
        _sub(disk, "driver", name="qemu", type="raw", cache="none")
        _sub(disk, "source", pool=item.datastore, volume=item.volume)
        _sub(disk, "target", dev=item.target, bus=item.bus)
        _sub(disk, "shareable")
    cdrom = _sub(devices, "disk", type="volume", device="cdrom")
    _sub(cdrom, "driver", name="qemu", type="raw")
    _sub(cdrom, "source", pool=design.medium.datastore, volume=design.medium.volume)
    _sub(cdrom, "target", dev=design.medium.target, bus="ide")
    _sub(cdrom, "readonly")
    macs = (*design.macs, *("" for _ in design.nics[len(design.macs) :]))
    for model, network, mac in zip(design.nics, design.networks, macs, strict=True):
        nic = _sub(devices, "interface", type="network")
        if mac:
            _sub(nic, "mac", address=mac)
        _sub(nic, "source", network=network)
        _sub(nic, "model", type=model)
        _sub(nic, "rom", enabled="no")
    if design.agent:
        channel = _sub(devices, "channel", type="unix")
        _sub(channel, "target", type="virtio", name="org.qemu.guest_agent.0")
    if design.watchdog != "none":
        _sub(devices, "watchdog", model="i6300esb", action=design.watchdog)
    serial = _sub(devices, "serial", type="pty")
    _sub(serial, "log", file=log or console_log(design.name), append="off")
    _sub(serial, "target", port="0")
    _sub(devices, "graphics", type="vnc", port="-1", autoport="yes", listen="127.0.0.1")
    _sub(_sub(devices, "video"), "model", type="vga")
    return _text(root)


def _processor(root: etree._Element, features: etree._Element, design: VmDesign) -> None:
    """The processor, never the emulator's least; what an emulated one may take of the host's memory
    for translated code is bounded.
    """
    if design.domain_type == "qemu":
        _sub(_sub(features, "tcg"), "tb-cache", str(EMULATOR_MIB), unit="MiB")
        _sub(root, "cpu", mode="maximum")
    else:
        _sub(root, "cpu", mode="host-passthrough" if design.host_cpu else "host-model")


def _flat(scsi: tuple[str, ...], item: VmDisk) -> bool:
    """Whether the controller tells its disks apart by target instead of unit (the older ones;
    'lsilogic' uses units).
    """
    return item.controller < len(scsi) and scsi[item.controller] in ("lsisas1068", "vmpvscsi")
