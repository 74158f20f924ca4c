"""Bare machines, and looking through ranges of addresses."""

from __future__ import annotations

from typing import Literal

from fastapi import APIRouter
from pydantic import BaseModel, Field

from nimble_stone.app import estate_machines
from nimble_stone.core.estate import Machine
from nimble_stone.engine import adding, machines
from nimble_stone.engine.scan import Scan
from nimble_stone.server.deps import TheApplication, TheScanner
from nimble_stone.server.routes.estate import HostChange, MachineView, Refresh, machine_views
from nimble_stone.store import records

router = APIRouter(tags=["machines"])


class NewMachine(BaseModel):
    """A machine to be added, with the certificate that a person has confirmed."""

    machine: Machine
    fingerprint: str = Field(min_length=1, max_length=200)


class MachineChange(HostChange):
    """The same for a machine, and how it gets what it boots."""

    boots: Literal["media", "network"] | None = None


class Power(BaseModel):
    """A request about a machine's power; `confirmed` is its name, typed."""

    kind: Literal[
        "On", "ForceOff", "GracefulShutdown", "ForceRestart", "GracefulRestart", "PowerCycle"
    ]
    confirmed: str = Field(max_length=100)


class Range(BaseModel):
    """Addresses to be scanned, and ports; 22 and 443 when none is named."""

    range: str = Field(max_length=2000)
    ports: list[int] = Field(default=[], max_length=20)


class SeenView(BaseModel):
    """Something that answered."""

    address: str
    port: int
    kind: Literal["ssh", "redfish", "other"]
    words: str
    known: str


class ScanView(BaseModel):
    """How a scan stands. `rate` in questions per second, `left_s` seconds."""

    id: str
    state: str
    asked: int
    total: int
    rate: float
    left_s: float
    seen: list[SeenView]


async def _views(app: TheApplication) -> list[MachineView]:
    estate = await app.store.read(records.load_estate)
    return await machine_views(app, estate, await app.store.read(records.pins))


class ShownCertificate(BaseModel):
    """What a controller shows; `odd`: what is unusual about it, in words."""

    fingerprint: str
    subject: str
    odd: str


@router.get("/estate/machines")
async def machine_list(app: TheApplication) -> list[MachineView]:
    """All machines with their last facts."""
    return await _views(app)


@router.post("/estate/machines")
async def machine_add(body: list[NewMachine], app: TheApplication) -> list[MachineView]:
    """Add machines whose certificates were confirmed: these are pinned, and the machines are read.
    All or none.
    """
    await adding.add_machines(app, [(item.machine, item.fingerprint) for item in body[:2000]])
    return await _views(app)


@router.post("/estate/machines/read")
async def machine_read(body: Refresh, app: TheApplication) -> list[MachineView]:
    """Read the named machines again, or all."""
    await estate_machines.refresh(app, body.hosts)
    return await _views(app)


@router.patch("/estate/machines/{name}")
async def machine_change(name: str, body: MachineChange, app: TheApplication) -> list[MachineView]:
    """Move a machine to another bay or site, or change its note, its tags, or whether it boots by
    virtual media or from the network.
    """
    await estate_machines.change(app, name, body.changes())
    return await _views(app)


@router.delete("/estate/machines/{name}")
async def machine_retire(name: str, app: TheApplication) -> list[MachineView]:
    """Take a machine out of the estate. The machine itself is not touched."""
    await estate_machines.remove(app, name)
    return await _views(app)


@router.delete("/estate/machines/{name}/pin")
async def machine_forget_pin(name: str, app: TheApplication) -> list[MachineView]:
    """Forget a pinned certificate and pin the one shown now, after a person compared its
    fingerprint.
    """
    await estate_machines.pin_again(app, name)
    return await _views(app)


@router.get("/estate/machines/{name}/certificate")
async def machine_certificate(name: str, app: TheApplication) -> ShownCertificate:
    """The certificate its controller shows now."""
    shown = await estate_machines.certificate(app, name)
    return ShownCertificate(fingerprint=shown.fingerprint, subject=shown.subject, odd=shown.odd)


@router.post("/estate/machines/{name}/power")
async def machine_power(name: str, body: Power, app: TheApplication) -> list[MachineView]:
    """Switch it, and answer when it is seen to be so."""
    await machines.power(app, name, body.kind, body.confirmed)
    return await _views(app)


async def _scan_view(app: TheApplication, scan: Scan) -> ScanView:
    estate = await app.store.read(records.load_estate)
    known = {(one.address, one.port): one.name for one in estate.hosts} | {
        (one.address, one.port): one.name for one in estate.machines
    }
    took = max(0.05, (scan.ended or app.clock()) - scan.began)
    rate = scan.asked / took
    return ScanView(
        id=scan.id,
        state=scan.state,
        asked=scan.asked,
        total=scan.total,
        rate=rate,
        left_s=(scan.total - scan.asked) / rate if rate and scan.state == "running" else 0.0,
        seen=[
            SeenView(
                address=s.address,
                port=s.port,
                kind=s.kind,
                words=s.words,
                known=known.get((s.address, s.port), ""),
            )
            for s in sorted(scan.seen, key=lambda s: (_number(s.address), s.port))
        ],
    )


def _number(address: str) -> tuple[int, ...]:
    return tuple(int(part) for part in address.split("."))


@router.post("/estate/scans")
async def scan_start(body: Range, app: TheApplication, scanner: TheScanner) -> ScanView:
    """Look through a range: at most 4,096 addresses, 400 questions a second, inside the dial
    policy.
    """
    return await _scan_view(app, scanner.start(body.range, body.ports))


@router.get("/estate/scans/{ident}")
async def scan_state(ident: str, app: TheApplication, scanner: TheScanner) -> ScanView:
    """How it stands."""
    return await _scan_view(app, scanner.get(ident))


@router.delete("/estate/scans/{ident}")
async def scan_stop(ident: str, app: TheApplication, scanner: TheScanner) -> ScanView:
    """End it; what was seen stays."""
    return await _scan_view(app, scanner.stop(ident))
