"""Where a stand-in node lives: as a VM on a stand-in host, or on a stand-in machine."""

from __future__ import annotations

import io
from pathlib import Path
from typing import Protocol

import asyncssh
import pycdlib
from lxml import etree

from nimble_stone.core.package import environment
from nimble_stone.lab.guests import blank, cloud
from nimble_stone.lab.guests.label import label_of
from nimble_stone.lab.hypervisor.state import LabGuest, LabHost, Volumes


class Hypervisor(Protocol):
    """A node that VMs may live on. `data_bytes`: what its data drives hold together."""

    data_bytes: int

    def login(self) -> asyncssh.SSHServer:
        """Who is let in by SSH."""

    async def process(self, process: asyncssh.SSHServerProcess[bytes]) -> None:
        """Carry out a command."""

    def offer(self, name: str, share: str, capacity_bytes: int) -> None:
        """Give it a datastore that its neighbours have too."""


class Home(Protocol):
    """What a node needs of the place it lives in."""

    @property
    def place(self) -> str:
        """The name of the host or machine."""

    def save(self) -> None:
        """Keep what the node's disk holds."""

    async def values(self, guest: LabGuest) -> dict[str, str]:
        """The environment on its config medium. Raises LookupError, OSError, FormatError or the ISO
        library's errors.
        """

    def media(self, guest: LabGuest) -> list[bytes]:
        """ISOs that it starts from while its disk is blank; [] where it starts from its disk."""

    def label(self, guest: LabGuest) -> dict[str, str]:
        """{product, version} of its system disk; {} where it bears no label."""

    def network(self, guest: LabGuest) -> str:
        """The network of its first interface, '' where it has none."""

    def hypervisor(self, name: str, address: str, password: str, drives: str) -> Hypervisor | None:
        """The node as a host for VMs; None where it cannot be one."""


class OnHost:
    """A VM's home."""

    def __init__(self, host: LabHost, volumes: Volumes) -> None:
        self._host, self._volumes = host, volumes

    @property
    def place(self) -> str:
        """The host."""
        return self._host.plan.name

    def save(self) -> None:
        """With all that the host has."""
        self._host.save()

    async def values(self, guest: LabGuest) -> dict[str, str]:
        """From its CD-ROM, or as an installer left them on its disk."""
        if installed := guest.data.get("installed"):
            return dict(installed["values"])
        for disk in etree.fromstring(guest.xml.encode()).findall("devices/disk"):
            source = disk.find("source")
            if disk.get("device") == "cdrom" and source is not None:
                store = self._host.ground.stores[str(source.get("pool"))]
                volume = self._volumes.of(store.place(self.place))[str(source.get("volume"))]
                image = Path(volume.file).read_bytes()
                return read_environment(image) or cloud.read_seed(image, _macs(guest))
        raise LookupError("the guest has no CD-ROM")

    def media(self, guest: LabGuest) -> list[bytes]:
        """What it starts from as long as its disk is blank."""
        return blank.media(guest, self._host, self._volumes)

    def label(self, guest: LabGuest) -> dict[str, str]:
        """Of the disk it was defined with, or of what was installed there."""
        if installed := guest.data.get("installed"):
            return dict(installed["label"])
        return label_of(guest, self._host, self._volumes)

    def network(self, guest: LabGuest) -> str:
        """As it was defined."""
        source = etree.fromstring(guest.xml).find("devices/interface/source")
        return "" if source is None else str(source.get("network"))

    def hypervisor(self, name: str, address: str, password: str, drives: str) -> None:
        """VMs in VMs are not for stand-ins."""


def _macs(guest: LabGuest) -> tuple[str, ...]:
    """Of its interfaces, as it was defined."""
    found = etree.fromstring(guest.xml.encode()).findall("devices/interface/mac")
    return tuple(str(one.get("address")) for one in found)


def read_environment(image: bytes) -> dict[str, str]:
    """The environment on a config ISO. Raises FormatError or the ISO library's errors."""
    iso = pycdlib.PyCdlib()
    iso.open_fp(io.BytesIO(image))
    try:
        out = io.BytesIO()
        iso.get_file_from_iso_fp(out, rr_path="/ovf-env.xml")
        return environment.parse(out.getvalue())
    finally:
        iso.close()
