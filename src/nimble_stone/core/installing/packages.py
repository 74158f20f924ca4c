"""Installer ISOs and disk images as packages of a plan: what a kit says of them stands where a
descriptor would tell hardware and sizes.
"""

from __future__ import annotations

import re
from dataclasses import replace

from nimble_stone.core.kit.hardware import Hardware
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.kit.roles import Role
from nimble_stone.core.package import descriptor
from nimble_stone.core.package.model import (
    Controller,
    Descriptor,
    Disk,
    Drive,
    Envelope,
    Nic,
    Size,
)
from nimble_stone.core.plan.packages import IMAGES, KERNELS, Packages, PackageView
from nimble_stone.core.units import GIB

_VERSION = re.compile(r"[ _-]+v?(?=\d)")
NO_HARDWARE = Descriptor(
    name="",
    product="",
    vendor="",
    version="",
    files=(),
    disks=(),
    disk_order=(),
    networks=(),
    sizes=(),
    nics=(),
    questions=(),
    licences=(),
    transports=(),
)


def named(label: str) -> tuple[str, str]:
    """Product and version in a volume label: “KEELSON_2_1_0” is KEELSON, 2.1.0; “Debian 12.5.0
    amd64 n” is Debian, 12.5.0 amd64 n. The version is '' where the label has none.
    """
    parts = _VERSION.split(label.strip(), maxsplit=1)
    version = parts[1] if len(parts) > 1 else ""
    return parts[0], version if " " in version else version.replace("_", ".")


def view(sha256: str, product: str, version: str, size: int = 0) -> PackageView:
    """An installer ISO as the sheet sees it, before a kit says what it needs."""
    nothing = replace(NO_HARDWARE, name=product, product=product, version=version)
    return PackageView(sha256, nothing, 0, "iso", file_bytes=size)


def image_view(
    sha256: str, product: str, version: str, disk: Disk, thin_bytes: int, form: str
) -> PackageView:
    """A disk image as the sheet sees it, before a kit says what hardware it gets."""
    one_disk = replace(
        NO_HARDWARE,
        name=product,
        product=product,
        version=version,
        disks=(disk,),
        disk_order=(disk.id,),
        transports=("iso",),
    )
    return PackageView(sha256, one_disk, thin_bytes, form)


def kernel_view(
    sha256: str, product: str, version: str, disks: list[Disk], thin_bytes: int
) -> PackageView:
    """A kernel set as the sheet sees it, before a kit says what hardware it gets."""
    named = replace(
        NO_HARDWARE,
        name=product,
        product=product,
        version=version,
        disks=tuple(disks),
        disk_order=tuple(disk.id for disk in disks),
        transports=("iso",),
    )
    return PackageView(sha256, named, thin_bytes, "kernel")


def set_view(package: PackageView, read: Envelope) -> PackageView:
    """A package of several systems as the sheet sees it: what each asks is asked once."""
    plain = [descriptor.of_system(read, one) for one in read.systems]
    systems = tuple(replace(one, questions=(*one.questions, *read.questions)) for one in plain)
    asked = {q.key: q for one in systems for q in one.questions}
    own = replace(package.descriptor, questions=tuple(asked.values()))
    return replace(
        package,
        descriptor=own,
        systems=systems,
        startup=descriptor.startups(read.collection),
    )


def _system(package: PackageView, one: Descriptor) -> PackageView:
    """One system of a package; its disks take their share of the package's bytes."""
    sizes = {file.id: file.size or 0 for file in one.files}
    files = {disk.id: sizes.get(disk.file_id, 0) for disk in one.disks}
    share = sum(files.get(ident, 0) for ident in one.disk_order) / max(1, sum(files.values()))
    named = replace(one, product=package.descriptor.product, version=package.descriptor.version)
    return replace(
        package, descriptor=named, thin_bytes=round(package.thin_bytes * min(1.0, share))
    )


def as_kit_says(packages: Packages, kit: Kit) -> Packages:
    """The packages, with what the kit says of the installers and images of its roles."""
    own = dict(packages.own)
    for role in kit.roles:
        package = packages.of(role.id)
        system = package.system(role.system) if package else None
        if package is not None and system is not None:
            own[role.id] = _system(package, system)
        if role.image is not None and package is not None and package.format in (*IMAGES, *KERNELS):
            own[role.id] = replace(package, descriptor=_with_hardware(package, role, kit))
        if role.installer is not None and package is not None and package.format == "iso":
            own[role.id] = replace(package, descriptor=_described(package, role, kit))
    return replace(packages, own=own)


def _with_hardware(package: PackageView, role: Role, kit: Kit) -> Descriptor:
    """The descriptor that an image or a kernel set lacks."""
    image, own = role.image, package.descriptor
    assert image is not None
    disks = [
        replace(one, capacity_bytes=max(one.capacity_bytes, image.disk_gib * GIB))
        for one in own.disks
    ]
    if not disks and image.disk_gib:
        # a kernel with nothing but its ramdisk may have an empty disk
        disks = [Disk("system", "", image.disk_gib * GIB, None, "")]
    return hardware(replace(own, disks=tuple(disks)), image, _interfaces(role, kit))


def _interfaces(role: Role, kit: Kit) -> int:
    """How many interfaces nodes of a role have."""
    return max((net.interface for net in kit.networks if _has(net.roles, role)), default=1)


def hardware(own: Descriptor, given: Hardware, interfaces: int) -> Descriptor:
    """A package's descriptor, with its disks, as a VM with that hardware."""
    sizes = tuple(
        Size(one.id, one.label or one.id, "", number == 0, one.vcpu, one.memory_mib << 20)
        for number, one in enumerate(given.sizes)
    )
    controller = "0" if given.bus != "virtio" else ""
    return replace(
        own,
        sizes=sizes,
        disk_order=tuple(disk.id for disk in own.disks),
        nics=tuple(Nic("", given.nic) for _ in range(interfaces)),
        controllers=_controllers(given),
        drives=tuple(
            Drive("disk", "disk", disk.id, controller, slot) for slot, disk in enumerate(own.disks)
        ),
        firmware=given.firmware,
    )


def _has(roles: tuple[str, ...], role: Role) -> bool:
    return not roles or role.id in roles


def _controllers(image: Hardware) -> tuple[Controller, ...]:
    if image.bus == "scsi":
        return (Controller("0", "scsi", "virtio-scsi"),)
    return (Controller("0", "sata", ""),) if image.bus == "sata" else ()


def _described(package: PackageView, role: Role, kit: Kit) -> Descriptor:
    """What an installer's machines need at least; or its VMs get."""
    installer = role.installer
    assert installer is not None
    if installer.vm is not None:
        disk = Disk("system", "", installer.vm.disk_gib * GIB, None, "")
        own = replace(package.descriptor, disks=(disk,), transports=("iso",))
        return hardware(own, installer.vm, _interfaces(role, kit))
    memory = installer.memory_gib * GIB
    size = Size("installed", "as installed", "", True, installer.threads, memory)
    disk = Disk("system", "installer", installer.drive_gib * GIB, None, "")
    return replace(package.descriptor, sizes=(size,), disks=(disk,), disk_order=(disk.id,))
