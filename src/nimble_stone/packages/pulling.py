"""Serving package disks to hosts that fetch them themselves: one-time signed addresses, with a
time, a digest and a rate.

The address is good for one transfer (which may be taken up by range after a cut), for one disk,
until its time is over.
"""

from __future__ import annotations

import hashlib
import hmac
import secrets
from collections.abc import Callable, Iterator
from contextlib import ExitStack
from dataclasses import dataclass, field
from pathlib import Path

from nimble_stone.core.disk.convert import Conversion
from nimble_stone.core.errors import Denied, NotFound
from nimble_stone.core.package.contents import Contents
from nimble_stone.packages import stored
from nimble_stone.ports.ports import Ports
from nimble_stone.ports.tickets import Ticket

TRIAL_BYTES = 16 << 20
LASTS_S = 6 * 3600.0


@dataclass
class Offer:
    """One disk on offer to one host. `rate` in bytes per second, 0 without limit; `path`: its spool
    file, if there is one.
    """

    contents: Contents
    disk: str
    until: float
    rate: float
    told: Callable[[int], None]
    path: Path | None = None
    seen: hashlib._Hash = field(default_factory=hashlib.sha256)
    hashed: int = 0
    done: bool = False


class Tickets:
    """The open offers of a server. `base` is the address under which hosts reach it, '' when they
    cannot.
    """

    def __init__(self, ports: Ports, base: str = "") -> None:
        self.ports, self.base = ports, base.rstrip("/")
        self._key = secrets.token_bytes(32)
        self._offers: dict[str, Offer] = {}

    def _sign(self, ident: str, until: int) -> str:
        return hmac.new(self._key, f"{ident} {until}".encode(), "sha256").hexdigest()[:32]

    def open(
        self,
        contents: Contents,
        disk: str,
        told: Callable[[int], None],
        rate: float = 0.0,
        path: Path | None = None,
    ) -> Ticket:
        """Offer a disk. `told` hears how many bytes were sent so far; `path` is the
        disk in the spool, if it lies there.
        """
        ident, until = secrets.token_hex(8), int(self.ports.clock() + LASTS_S)
        self._offers[ident] = Offer(contents, disk, until, rate, told, path)
        address = f"{self.base}/pull/{ident}.{until}.{self._sign(ident, until)}"
        return Ticket(ident, address)

    def close(self, ident: str) -> None:
        """Withdraw an offer."""
        self._offers.pop(ident, None)

    def digest(self, ident: str) -> str:
        """SHA-256 of what was sent, '' when it was not sent from beginning to end."""
        offer = self._offers.get(ident)
        return offer.seen.hexdigest() if offer and offer.done and offer.hashed >= 0 else ""

    def find(self, ticket: str) -> Offer:
        """The offer of a ticket. Raises Denied for one that is forged or over, NotFound for one
        that was used.
        """
        ident, _, rest = ticket.partition(".")
        until, _, mac = rest.partition(".")
        if (
            not until.isdigit()
            or len(until) > 12
            or not hmac.compare_digest(mac, self._sign(ident, int(until)))
        ):
            raise Denied("this address was not made here")
        if self.ports.clock() > int(until):
            raise Denied("this address is over")
        offer = self._offers.get(ident)
        if offer is None or offer.done:
            raise NotFound("this address was used already")
        return offer

    def begin(self, offer: Offer, stack: ExitStack) -> Conversion:
        """The conversion behind an offer; its files stay open until the stack is closed."""
        return stack.enter_context(
            stored.open_disk(self.ports.packages, offer.contents, offer.disk)
        )

    def pieces(self, offer: Offer, conversion: Conversion, start: int) -> Iterator[bytes]:
        """The bytes from `start` on, hashed as they go as long as nothing is left out."""
        if start == 0:
            offer.seen, offer.hashed = hashlib.sha256(), 0
        sent = start
        for piece in conversion.stream(start):
            if offer.hashed == sent:
                offer.seen.update(piece)
                offer.hashed += len(piece)
            sent += len(piece)
            yield piece
            offer.told(sent)
        offer.done = True
        if offer.hashed != sent:
            # taken up in the middle: its digest is computed elsewhere
            offer.hashed = -1
