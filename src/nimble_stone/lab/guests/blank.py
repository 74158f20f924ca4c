"""A stand-in VM with a blank disk that starts from an installer's ISO."""

from __future__ import annotations

import io
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from lxml import etree

from nimble_stone.lab.controllers import installer
from nimble_stone.lab.controllers.machine import BmcKnobs
from nimble_stone.lab.hypervisor.state import LabGuest, LabHost, Volumes


@dataclass
class BlankVm:
    """What an installer sees of it, and what it leaves behind."""

    macs: tuple[str, ...]
    drives: tuple[str, ...] = ("vda",)
    serial: str = ""
    knobs: BmcKnobs = field(default_factory=BmcKnobs)
    log: list[str] = field(default_factory=list)
    written: dict[str, str] = field(default_factory=dict)
    label: dict[str, str] = field(default_factory=dict)
    node: dict[str, Any] = field(default_factory=dict)


def media(guest: LabGuest, host: LabHost, volumes: Volumes) -> list[bytes]:
    """What is in its CD-ROM drives, in order; [] for a guest with a system on its disk."""
    root = etree.fromstring(guest.xml.encode())
    if guest.data.get("installed") or not root.findall("devices/disk[@device='cdrom']/boot"):
        return []
    found = []
    for source in root.findall("devices/disk[@device='cdrom']/source"):
        store = host.ground.stores[str(source.get("pool"))]
        volume = volumes.of(store.place(host.plan.name))[str(source.get("volume"))]
        found.append(Path(volume.file).read_bytes())
    return found


async def install(
    guest: LabGuest, images: list[bytes], trouble: str, speed: Callable[[], float]
) -> str:
    """Install from the first ISO, with the answers of the last. The last line of the installer;
    the guest keeps what was installed. Raises OSError, ValueError and aiohttp's errors.
    """
    macs = etree.fromstring(guest.xml.encode()).findall("devices/interface/mac")
    vm = BlankVm(tuple(str(one.get("address")) for one in macs))
    vm.knobs.installer = trouble
    first, second = io.BytesIO(images[0]), io.BytesIO(images[-1]) if len(images) > 1 else None
    await installer.install(vm, first, second, speed)
    if vm.written:
        guest.data["installed"] = {"label": vm.label, "values": vm.node["values"]}
        # an installer that has nobody to tell that it is done switches off
        guest.running = any(line.startswith("the end") for line in vm.log)
    return vm.log[-1] if vm.log else "installed, switching off"
