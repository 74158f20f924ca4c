"""What an inspection asks of the server: addresses under which a bare machine fetches its medium
and reports.
"""

from __future__ import annotations

from typing import Protocol

from nimble_stone.store.media import Task


def network_entry(run: str, machine: str) -> str:
    """Keyring entry of the token of what a machine boots from the network."""
    return f"run/{run}/netboot/{machine}"


class MediaOffice(Protocol):
    """Offers media to bare machines."""

    def trouble(self) -> str:
        """Why no machine can be given a medium here, in words; '' when it can."""

    def unreachable(self) -> str:
        """Why machines cannot fetch anything from here, in words; '' when they can."""

    async def offer(self, run: str, machine: str, task: Task) -> str:
        """The one-time address of a medium for that machine. An earlier one ends."""

    def network_trouble(self) -> str:
        """Why machines cannot boot from the network here, in words; '' when they can."""

    async def offers_changed(self) -> None:
        """What is on offer changed: machines are answered on the network accordingly."""

    def sent(self, run: str, machine: str) -> dict[str, float] | None:
        """How much of an image a machine has fetched: `sent` and `total` bytes, `rate` in bytes a
        second; None while it fetches none.
        """
