"""What runs on a stand-in machine that boots from its own drive: the node whose image was written
there. It reads the config medium at its first boot and keeps what it read.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass

import aiohttp

from nimble_stone.lab.controllers.built_host import BuiltHost
from nimble_stone.lab.controllers.machine import LabMachine
from nimble_stone.lab.guests.home import read_environment
from nimble_stone.lab.guests.label import MARK, PLACE
from nimble_stone.lab.guests.room import GuestRoom
from nimble_stone.lab.hypervisor.state import LabGuest

MOST_CONFIG = 16 << 20
CHANGED = "changed since it was written"


NETWORKS = ("survey", "storage")
"""What stand-in machines are plugged into, as the scenario's plans use their ports."""


@dataclass(frozen=True)
class Wanted:
    """A hypervisor host that a machine is to be. `new`: nothing is kept from before."""

    machine: LabMachine
    name: str
    address: str
    password: str
    networks: tuple[str, ...]
    data: tuple[str, ...]
    """Serial numbers of its data drives."""
    new: bool


class Installed:
    """The node of one machine, at home on it. `build` makes a hypervisor host of it."""

    def __init__(
        self,
        machine: LabMachine,
        room: GuestRoom,
        keep: Callable[[LabMachine], None],
        build: Callable[[Wanted], BuiltHost],
    ) -> None:
        self._machine, self._room, self._keep, self._build = machine, room, keep, build
        self._host: BuiltHost | None = None

    def boot(self) -> None:
        """From the drive; nothing happens where no image was written."""
        if self._machine.written:
            machine = self._machine
            # a system that runs changes its drive: it is no longer the image that was written
            machine.written = dict.fromkeys(machine.written, CHANGED)
            self._room.start(
                self, LabGuest(machine.plan.name, machine.uuid, "", True, data=machine.node)
            )

    def halt(self) -> None:
        """The power is gone."""
        self._room.stop(self.place, self._machine.plan.name)
        if self._host is not None:
            self._host.halt()

    # --- the node's home ---

    @property
    def place(self) -> str:
        """The machine."""
        return self._machine.plan.name

    def save(self) -> None:
        """What is on its drives."""
        self._keep(self._machine)

    async def values(self, guest: LabGuest) -> dict[str, str]:
        """From the medium in the virtual drive, else as it was read at the first boot."""
        if self._machine.image:
            async with (
                aiohttp.ClientSession(raise_for_status=True) as session,
                session.get(self._machine.image, ssl=False) as answer,
            ):
                data = await answer.content.read(MOST_CONFIG)
                while piece := await answer.content.read(MOST_CONFIG):
                    data += piece
            guest.data["values"] = read_environment(data)
            self.save()
        if "values" not in guest.data:
            raise LookupError("no medium is inserted, and none was read before")
        return dict(guest.data["values"])

    def media(self, guest: LabGuest) -> list[bytes]:
        """Machines are installed before their node begins."""
        return []

    def label(self, guest: LabGuest) -> dict[str, str]:
        """As it came with the image."""
        return self._machine.label

    def network(self, guest: LabGuest) -> str:
        """Stand-in machines are plugged into the management network."""
        return "management"

    def hypervisor(self, name: str, address: str, password: str, drives: str) -> BuiltHost:
        """The machine as a host for VMs, as it was left; new after its image was written anew."""
        machine = self._machine
        new = machine.node.get("host") != name
        self._host = self._build(
            Wanted(machine, name, address, password, NETWORKS, self._data(drives), new)
        )
        if new:
            machine.node["host"] = name
            self.save()
        return self._host

    def _data(self, drives: str) -> tuple[str, ...]:
        """Those that are named, all but the system's where none is."""
        named = tuple(word.strip() for word in drives.split(",") if word.strip())
        machine = self._machine
        return named or tuple(one for one in machine.drives if one not in machine.written)


def label_in(head: bytes) -> dict[str, str]:
    """{product, version} in the first 64 KiB of a disk, {} where there is no label."""
    try:
        found = json.loads(head[PLACE:].partition(MARK)[2].partition(b"\0")[0] or b"{}")
    except ValueError:
        return {}
    return {str(key): str(value) for key, value in found.items()}
