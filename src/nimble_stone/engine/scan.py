"""Looking through a range of addresses for hosts and controllers: slowly enough for any switch,
stoppable, and nothing is kept.
"""

from __future__ import annotations

import asyncio
import secrets
from dataclasses import dataclass, field
from ipaddress import IPv4Address

from nimble_stone.core import scan_range
from nimble_stone.core.errors import Conflict, NotFound, StoneError
from nimble_stone.hosts.redfish.service import ROOT
from nimble_stone.ports.ports import Ports

PER_SECOND = 400.0
SIDE_BY_SIDE = 128
KEPT = 8


@dataclass(frozen=True)
class Seen:
    """Something that answered. `kind`: ssh by its banner, redfish by its service root, other when
    it said neither.
    """

    address: str
    port: int
    kind: str
    words: str


@dataclass
class Scan:
    """A scan under way or ended. `asked` of `total` address and port pairs."""

    id: str
    total: int
    began: float
    asked: int = 0
    state: str = "running"
    seen: list[Seen] = field(default_factory=list)
    task: asyncio.Task[None] | None = field(default=None, repr=False)
    ended: float | None = None


class Scanner:
    """Scans of one server; the last eight are remembered until it ends."""

    def __init__(self, ports: Ports) -> None:
        self.ports = ports
        self._scans: dict[str, Scan] = {}

    def start(self, text: str, wanted_ports: list[int]) -> Scan:
        """Begin. Raises InputError for a range that is too large, wrong, or may not be dialled;
        Conflict while another one is running.
        """
        found, ports = scan_range.addresses(text), scan_range.ports(wanted_ports)
        for address in found:
            self.ports.reach.policy.real(str(address), ports[0])
        if any(scan.state == "running" for scan in self._scans.values()):
            raise Conflict(
                "a scan is running", code="scan-active", hint="Wait for its end, or stop it."
            )
        scan = Scan(secrets.token_hex(4), len(found) * len(ports), self.ports.clock())
        scan.task = asyncio.create_task(self._go(scan, found, ports))
        self._scans[scan.id] = scan
        while len(self._scans) > KEPT:
            self._scans.pop(next(iter(self._scans)))
        return scan

    def get(self, ident: str) -> Scan:
        """Raises NotFound."""
        if ident not in self._scans:
            raise NotFound("that scan is gone", hint="Start it again.")
        return self._scans[ident]

    def stop(self, ident: str) -> Scan:
        """End it early; what was seen stays."""
        scan = self.get(ident)
        if scan.state == "running" and scan.task is not None:
            scan.state, scan.ended = "stopped", self.ports.clock()
            scan.task.cancel()
        return scan

    async def close(self) -> None:
        """End all."""
        tasks = [scan.task for scan in self._scans.values() if scan.task is not None]
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)

    async def _go(self, scan: Scan, found: list[IPv4Address], ports: list[int]) -> None:
        gate = asyncio.Semaphore(SIDE_BY_SIDE)
        pending: set[asyncio.Task[None]] = set()
        try:
            for number, (address, port) in enumerate((a, p) for a in found for p in ports):
                ahead = number / PER_SECOND - (self.ports.clock() - scan.began)
                if ahead > 0:
                    await self.ports.pause(ahead)
                await gate.acquire()
                task = asyncio.create_task(self._one(scan, str(address), port, gate))
                pending.add(task)
                task.add_done_callback(pending.discard)
            await asyncio.gather(*pending)
            scan.state, scan.ended = "done", self.ports.clock()
        finally:
            for task in pending:
                task.cancel()

    async def _one(self, scan: Scan, address: str, port: int, gate: asyncio.Semaphore) -> None:
        try:
            said = await self.ports.reach.greeting(address, port, limit_s=2.0)
            if said is None:
                return
            if said.startswith("SSH-"):
                scan.seen.append(Seen(address, port, "ssh", said[:120]))
                return
            scan.seen.append(
                await self._redfish(address, port)
                or Seen(address, port, "other", said[:120] or "it listens, but sends nothing")
            )
        except StoneError:
            return
        finally:
            scan.asked += 1
            gate.release()

    async def _redfish(self, address: str, port: int) -> Seen | None:
        """The service root, which needs no login (DSP0266, protocol version)."""
        try:
            shown = await self.ports.reach.certificate(address, port, self.ports.clock())
            async with self.ports.reach.https(address, port, shown.fingerprint, limit_s=10) as peer:
                answer = await peer.ask("GET", ROOT)
        except StoneError:
            return None
        version = answer.data.get("RedfishVersion")
        return (
            Seen(
                address,
                port,
                "redfish",
                f"Redfish {str(version)[:20]}, certificate of {shown.subject or 'nobody'}",
            )
            if version
            else None
        )
