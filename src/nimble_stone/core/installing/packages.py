"""Installer ISOs and disk images as packages of a plan: what a kit says of them stands where a
descriptor would tell hardware and sizes.
"""

from __future__ import annotations

import re
from dataclasses import replace

from nimble_stone.core.kit.image import DiskImage
from nimble_stone.core.kit.installer import Installer
from nimble_stone.core.kit.model import Kit, Role
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
from nimble_stone.core.plan.packages import IMAGES, Packages, PackageView
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


def view(sha256: str, product: str, version: str) -> PackageView:
    """An installer ISO as the sheet sees it, before a kit says what it needs."""
    nothing = replace(NO_HARDWARE, name=product, product=product, version=version)
    return PackageView(sha256, nothing, 0, "iso")


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
        if role.image is not None and package is not None and package.format in IMAGES:
            own[role.id] = replace(package, descriptor=_with_hardware(package, role, kit))
        if role.installer is not None and package is not None and package.format == "iso":
            own[role.id] = replace(package, descriptor=_described(package, role.installer))
    return replace(packages, own=own)


def _with_hardware(package: PackageView, role: Role, kit: Kit) -> Descriptor:
    """The descriptor that an image lacks."""
    image = role.image
    assert image is not None
    sizes = tuple(
        Size(one.id, one.label or one.id, "", number == 0, one.vcpu, one.memory_mib << 20)
        for number, one in enumerate(image.sizes)
    )
    own = package.descriptor
    disk = replace(
        own.disks[0], capacity_bytes=max(own.disks[0].capacity_bytes, image.disk_gib * GIB)
    )
    last = max((net.interface for net in kit.networks if _has(net.roles, role)), default=1)
    return replace(
        own,
        sizes=sizes,
        disks=(disk,),
        nics=tuple(Nic("", image.nic) for _ in range(last)),
        controllers=_controllers(image),
        drives=(Drive("disk", "disk", disk.id, "0" if image.bus != "virtio" else "", 0),),
        firmware=image.firmware,
    )


def _has(roles: tuple[str, ...], role: Role) -> bool:
    return not roles or role.id in roles


def _controllers(image: DiskImage) -> tuple[Controller, ...]:
    if image.bus == "scsi":
        return (Controller("0", "scsi", "virtio-scsi"),)
    return (Controller("0", "sata", ""),) if image.bus == "sata" else ()


def _described(package: PackageView, installer: Installer) -> Descriptor:
    memory = installer.memory_gib * GIB
    size = Size("installed", "as installed", "", True, installer.threads, memory)
    disk = Disk("system", "installer", installer.drive_gib * GIB, None, "")
    return replace(package.descriptor, sizes=(size,), disks=(disk,), disk_order=(disk.id,))
