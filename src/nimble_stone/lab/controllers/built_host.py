"""A stand-in hypervisor host that was built from a stand-in machine: the node of a product whose
nodes are hosts of the next ones.
"""

from __future__ import annotations

import asyncssh

from nimble_stone.lab.guests.room import GuestRoom
from nimble_stone.lab.hypervisor.door import HostDoor
from nimble_stone.lab.hypervisor.ground import fresh_store
from nimble_stone.lab.hypervisor.state import LabHost


class BuiltHost:
    """One of them. `data_bytes`: what its data drives hold together."""

    def __init__(self, host: LabHost, door: HostDoor, room: GuestRoom, data_bytes: int) -> None:
        self.host, self.door, self.data_bytes = host, door, data_bytes
        self._room = room

    def login(self) -> asyncssh.SSHServer:
        """Who is let in."""
        return self.door.login()

    async def process(self, process: asyncssh.SSHServerProcess[bytes]) -> None:
        """Carry out a command."""
        await self.door.process(process)

    def offer(self, name: str, share: str, capacity_bytes: int) -> None:
        """The cluster's datastore, the same on all its hosts."""
        stores = self.host.ground.stores
        if name not in stores:
            stores[name] = fresh_store(name, share, capacity_bytes)
            self.host.note(f"defined pool {name}")

    def halt(self) -> None:
        """The power is gone: its VMs are too."""
        self.door.drop()
        for guest in self.host.guests.values():
            if guest.running:
                self._room.halt(self.host, guest)
                guest.running = False
        self.host.save()
