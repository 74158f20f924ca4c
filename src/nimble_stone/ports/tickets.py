"""What a transfer asks of the server: addresses under which a host may fetch a disk itself."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from nimble_stone.core.package.contents import Contents


@dataclass(frozen=True)
class Ticket:
    """A disk on offer: under which id it is known here, and the address it is fetched from."""

    id: str
    address: str


class TicketOffice(Protocol):
    """Hands tickets out. `base`: the address under which hosts reach this server, '' when they
    cannot.
    """

    base: str

    def open(
        self,
        contents: Contents,
        disk: str,
        told: Callable[[int], None],
        rate: float = 0.0,
        path: Path | None = None,
    ) -> Ticket: ...

    def close(self, ident: str) -> None: ...

    def digest(self, ident: str) -> str: ...
