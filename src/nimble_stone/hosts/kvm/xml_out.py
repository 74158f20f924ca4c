"""The XML we send to libvirt."""

from __future__ import annotations

from lxml import etree

from nimble_stone.core.estate import Mark
from nimble_stone.hosts.api import VmDesign, VmDisk, VmLimits
from nimble_stone.hosts.kvm.commands import console_log

MARK = "urn:nimble-stone:mark:1"
DISK_FORMAT = "qcow2"
EMULATOR_MIB = 128
PERIOD_US = 100_000
"""Of the scheduler, as libvirt's own default."""


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


def mark_text(mark: Mark) -> str:
    """Our mark as an element without a namespace, which the hypervisor gives it."""
    found = etree.Element("mark")
    _marked(found, mark)
    return etree.tostring(found, encoding="unicode")


def _marked(element: etree._Element, mark: Mark) -> None:
    for key, value in (("run", mark.run), ("node", mark.node), ("plan", mark.plan)):
        element.set(key, value)


def domain(design: VmDesign, log: str = "") -> str:
    """A guest with the devices of its design, serial console to a log, our mark in the metadata.
    `log`: where the console is written, '' for libvirt's own place.
    """
    root = etree.Element("domain", type=design.domain_type)
    _sub(root, "name", design.name)
    if design.instead_of:
        _sub(root, "uuid", design.instead_of)
    mark = etree.SubElement(_sub(root, "metadata"), f"{{{MARK}}}mark", nsmap={"ns": MARK})
    _marked(mark, design.mark)
    _sub(root, "memory", str(design.memory_bytes >> 10), unit="KiB")
    _sub(root, "vcpu", str(design.vcpu))
    _cpu_limits(root, design.limits)
    _start(root, design)
    features = _sub(root, "features")
    _sub(features, "acpi")
    _sub(features, "apic")
    if design.secure_boot:
        _sub(features, "smm", state="on")
    _processor(root, features, design)
    _sub(root, "clock", offset="utc")
    devices = _sub(root, "devices")
    models = _controllers(devices, design)
    _disks(devices, design)
    _media(devices, design, len(models))
    _nics(devices, design)
    _further(devices, design)
    serial = _sub(devices, "serial", type="pty")
    _sub(serial, "log", file=log or console_log(design.name), append="off")
    _sub(serial, "target", port="0")
    _sub(devices, "graphics", type="vnc", port="-1", autoport="yes", listen="127.0.0.1")
    _sub(_sub(devices, "video"), "model", type="vga")
    return _text(root)


def _cpu_limits(root: etree._Element, limits: VmLimits) -> None:
    """Shares, and the most of each processor's time."""
    if not limits.cpu_shares and not limits.cpu_percent:
        return
    tune = _sub(root, "cputune")
    if limits.cpu_shares:
        _sub(tune, "shares", str(limits.cpu_shares))
    if limits.cpu_percent:
        _sub(tune, "period", str(PERIOD_US))
        _sub(tune, "quota", str(PERIOD_US * limits.cpu_percent // 100))


def _start(root: etree._Element, design: VmDesign) -> None:
    """Machine, firmware and what it starts from: its disk, and while that is blank the medium."""
    firmware = {"firmware": "efi"} if design.firmware == "efi" else {}
    machine = _sub(root, "os", **firmware)
    _sub(machine, "type", "hvm", arch="x86_64", machine=design.machine)
    if design.secure_boot:
        wanted = _sub(machine, "firmware")
        _sub(wanted, "feature", enabled="yes", name="enrolled-keys")
        _sub(wanted, "feature", enabled="yes", name="secure-boot")
    if design.kernel is not None:
        _sub(machine, "kernel", design.kernel.kernel)
        if design.kernel.ramdisk:
            _sub(machine, "initrd", design.kernel.ramdisk)
        _sub(machine, "cmdline", design.kernel.args)
        return
    # libvirt sorts drives by their names: with two CD-ROMs, the devices themselves say the order
    if not design.boots_media:
        _sub(machine, "boot", dev="hd")


def _controllers(devices: etree._Element, design: VmDesign) -> tuple[str, ...]:
    """SCSI controllers; a machine without IDE gets one for its CD-ROMs."""
    models = design.scsi if design.machine == "pc" else (*design.scsi, "virtio-scsi")
    for number, model in enumerate(models):
        _sub(devices, "controller", type="scsi", index=str(number), model=model)
    return models


def _disks(devices: etree._Element, design: VmDesign) -> None:
    places: dict[tuple[str, int], int] = {}
    for number, item in enumerate(design.disks):
        disk = _sub(devices, "disk", type="volume", device="disk")
        _sub(disk, "driver", name="qemu", type=DISK_FORMAT)
        _sub(disk, "source", pool=item.datastore, volume=item.volume)
        _sub(disk, "target", dev=item.target, bus=item.bus)
        if design.boots_media and number == 0:
            _sub(disk, "boot", order="1")
        _speed(disk, design.limits)
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


def further_disk(item: VmDisk, limits: VmLimits) -> str:
    """The document of a disk that a VM gets later."""
    disk = etree.Element("disk", type="volume", device="disk")
    _sub(disk, "driver", name="qemu", type=DISK_FORMAT)
    _sub(disk, "source", pool=item.datastore, volume=item.volume)
    _sub(disk, "target", dev=item.target, bus=item.bus)
    _speed(disk, limits)
    return _text(disk)


def _speed(disk: etree._Element, limits: VmLimits) -> None:
    if not limits.disk_mib_s and not limits.disk_iops:
        return
    tune = _sub(disk, "iotune")
    if limits.disk_mib_s:
        _sub(tune, "total_bytes_sec", str(limits.disk_mib_s << 20))
    if limits.disk_iops:
        _sub(tune, "total_iops_sec", str(limits.disk_iops))


def _media(devices: etree._Element, design: VmDesign, controllers: int) -> None:
    """CD-ROMs: IDE, found by every kernel under machine type pc; where there is no IDE, on the last
    SCSI controller.
    """
    for unit, medium in enumerate((*design.installs, design.medium)):
        cdrom = _sub(devices, "disk", type="volume", device="cdrom")
        _sub(cdrom, "driver", name="qemu", type="raw")
        _sub(cdrom, "source", pool=medium.datastore, volume=medium.volume)
        if design.machine == "pc":
            _sub(cdrom, "target", dev=medium.target, bus="ide")
        else:
            _sub(cdrom, "target", dev=f"sd{chr(ord('z') - unit)}", bus="scsi")
        _sub(cdrom, "readonly")
        if design.boots_media and unit == 0:
            _sub(cdrom, "boot", order="2")
        if design.machine != "pc":
            place = {"controller": str(controllers - 1), "bus": "0", "target": "0"}
            _sub(cdrom, "address", type="drive", unit=str(unit), **place)


def _nics(devices: etree._Element, design: VmDesign) -> None:
    macs = (*design.macs, *("" for _ in design.nics[len(design.macs) :]))
    for model, network, mac in zip(design.nics, design.networks, macs, strict=True):
        nic = _sub(devices, "interface", type="network")
        if mac:
            _sub(nic, "mac", address=mac)
        _sub(nic, "source", network=network)
        if design.limits.net_mbit:
            # libvirt counts in units of 1,000 bytes a second
            rate = str(design.limits.net_mbit * 125)
            bandwidth = _sub(nic, "bandwidth")
            _sub(bandwidth, "inbound", average=rate)
            _sub(bandwidth, "outbound", average=rate)
        _sub(nic, "model", type=model)
        _sub(nic, "rom", enabled="no")


def _further(devices: etree._Element, design: VmDesign) -> None:
    if design.tpm:
        tpm = _sub(devices, "tpm", model="tpm-crb")
        _sub(tpm, "backend", type="emulator", version="2.0")
    if design.agent:
        channel = _sub(devices, "channel", type="unix")
        _sub(channel, "target", type="virtio", name="org.qemu.guest_agent.0")
    if design.watchdog != "none":
        _sub(devices, "watchdog", model="i6300esb", action=design.watchdog)


def _processor(root: etree._Element, features: etree._Element, design: VmDesign) -> None:
    """The processor, never the emulator's least; what an emulated one may take of the host's memory
    for translated code is bounded.
    """
    if design.domain_type == "qemu":
        _sub(_sub(features, "tcg"), "tb-cache", str(EMULATOR_MIB), unit="MiB")
        _sub(root, "cpu", mode="maximum")
    elif design.host_cpu:
        _sub(root, "cpu", mode="host-passthrough")
    elif design.processor:
        cpu = _sub(root, "cpu", mode="custom", match="exact", check="partial")
        _sub(cpu, "model", design.processor, fallback="forbid")
    else:
        _sub(root, "cpu", mode="host-model")


def _flat(scsi: tuple[str, ...], item: VmDisk) -> bool:
    """Whether the controller tells its disks apart by target instead of unit (the older ones;
    'lsilogic' uses units).
    """
    return item.controller < len(scsi) and scsi[item.controller] in ("lsisas1068", "vmpvscsi")
