"""Asking, before a run, the systems outside the plan that its setup steps will ask."""

from __future__ import annotations

import asyncio
import secrets

from nimble_stone.core.checks.situation import SystemTrouble
from nimble_stone.core.errors import StoneError
from nimble_stone.core.kit.calls import Call
from nimble_stone.core.kit.systems import OutsideSystem
from nimble_stone.core.plan.sheet import Sheet
from nimble_stone.engine import speaking
from nimble_stone.engine.filling import fill
from nimble_stone.engine.frozen import FrozenRun
from nimble_stone.engine.peers import SSH, At, SystemPeer
from nimble_stone.engine.speaking import Speaker
from nimble_stone.ports.ports import Ports

NTP_S = 5.0
PEM = "-----BEGIN CERTIFICATE-----"


async def look(ports: Ports, sheet: Sheet) -> dict[str, SystemTrouble]:
    """System → why it cannot be used; those of which the plan says no address are left out."""
    if not sheet.nodes:
        return {}
    # a session of its own: another plan may mean another system by the same id
    at = At(ports, FrozenRun(f"check-{secrets.token_hex(8)}", sheet, {}, {}), sheet.nodes[0])
    systems = sheet.kit.systems
    found = await asyncio.gather(*(_one(at, system) for system in systems))
    await speaking.close(ports, at.run)
    return {system.id: trouble for system, trouble in zip(systems, found, strict=True) if trouble}


async def _one(at: At, system: OutsideSystem) -> SystemTrouble | None:
    try:
        address = (await fill(at, system.address)).strip()
        if not address:
            return None
        calls = at.run.sheet.kit.calls_to(system.id)
        for port in sorted({call_port(system, one) for one in calls if not one.is_datagram}):
            if not await at.ports.reach.port_open(address, port):
                return SystemTrouble(f"nothing answers on {address}, port {port}")
        # by UDP only an answer tells that somebody is there, and of these anybody may have one
        for call in [one for one in calls if one.ntp][:1]:
            await Speaker(at, peer=SystemPeer(at, system)).send(call, limit_s=NTP_S)
        if system.scheme == "https" and (trouble := await _trusted(at, system, address)):
            return trouble
        if system.host_key and (trouble := await _known(at, system, address)):
            return trouble
        peer = SystemPeer(at, system)
        # that a password is missing is told elsewhere
        if system.login == "session" and (await peer.credential()).password:
            await Speaker(at, peer=peer).opens()
    except StoneError as error:
        return SystemTrouble(at.ports.blank(str(error)))
    return None


async def _trusted(at: At, system: OutsideSystem, address: str) -> SystemTrouble | None:
    """Whether it presents what the plan says."""
    wanted = (await fill(at, system.trust)).strip()
    port = system.real_port
    if PEM in wanted:
        wrong = await at.ports.reach.trust(address, port, wanted, address)
        return SystemTrouble(f"its certificate is {wrong}") if wrong else None
    shown = await at.ports.reach.certificate(address, port, at.ports.clock())
    if not wanted:
        return SystemTrouble("", shown.fingerprint)
    if shown.fingerprint != wanted:
        return SystemTrouble(f"it presents another certificate than confirmed: {shown.fingerprint}")
    return None


async def _known(at: At, system: OutsideSystem, address: str) -> SystemTrouble | None:
    """Whether its SSH server shows the key that the plan says. Nobody logs in."""
    wanted = (await fill(at, system.host_key)).strip()
    shown = await at.ports.reach.ssh.fingerprint(address, SSH)
    if not wanted:
        return SystemTrouble("", shown, host_key=True)
    if shown != wanted:
        return SystemTrouble(f"it shows another host key than confirmed: {shown}")
    return None


def call_port(system: OutsideSystem, call: Call) -> int:
    """Where a call goes."""
    return SSH if call.ssh else call.port or system.real_port
