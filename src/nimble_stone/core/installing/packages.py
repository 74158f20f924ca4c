"""Installer ISOs as packages of a plan: what a kit says of the installer stands where a descriptor
would tell hardware and sizes.
"""

from __future__ import annotations

import re
from dataclasses import replace

from nimble_stone.core.kit.installer import Installer
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.package.model import Descriptor, Disk, Size
from nimble_stone.core.plan.packages import Packages, PackageView
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
    descriptor = replace(NO_HARDWARE, name=product, product=product, version=version)
    return PackageView(sha256, descriptor, 0, "iso")


def as_kit_says(packages: Packages, kit: Kit) -> Packages:
    """The packages, with what the kit says of the installers of its roles."""
    own = dict(packages.own)
    for role in kit.roles:
        package = packages.of(role.id)
        if role.installer is not None and package is not None and package.format == "iso":
            own[role.id] = replace(package, descriptor=_described(package, role.installer))
    return replace(packages, own=own)


def _described(package: PackageView, installer: Installer) -> Descriptor:
    memory = installer.memory_gib * GIB
    size = Size("installed", "as installed", "", True, installer.threads, memory)
    disk = Disk("system", "installer", installer.drive_gib * GIB, None, "")
    return replace(package.descriptor, sizes=(size,), disks=(disk,), disk_order=(disk.id,))
