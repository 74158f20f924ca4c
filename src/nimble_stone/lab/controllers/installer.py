"""A stand-in for an unattended installer: it reads its answer file from the medium it booted from,
or from a second one, puts its system onto the drive that is named there, and tells how it goes.
"""

from __future__ import annotations

import asyncio
import hashlib
import io
import json
from collections.abc import Callable
from typing import Any, BinaryIO, Protocol

import aiohttp
import pycdlib
from pycdlib.pycdlibexception import PyCdlibException
from ruamel.yaml import YAML

from nimble_stone.lab.controllers.machine import BmcKnobs
from nimble_stone.lab.controllers.patience import kept_at
from nimble_stone.lab.scenario import keelson

STAGES = ("partitioning", "copying the system", "setting it up")
STAGE_S = 8.0
"""How long each of them takes, in seconds of the lab."""


def product_on(iso: BinaryIO) -> dict[str, str]:
    """{product, version} of an installer, {} where the medium is none."""
    try:
        found = json.loads(_read(iso, keelson.PRODUCT_FILE))
    except (LookupError, ValueError):
        return {}
    return {str(key): str(value) for key, value in found.items()}


class Target(Protocol):
    """What an installer sees of the machine or VM that it runs on, and what it leaves there."""

    knobs: BmcKnobs
    log: list[str]
    written: dict[str, str]
    label: dict[str, str]
    node: dict[str, Any]

    @property
    def drives(self) -> tuple[str, ...]:
        """Serial numbers, or names, of its drives."""

    @property
    def macs(self) -> tuple[str, ...]:
        """MAC addresses of its ports."""

    @property
    def serial(self) -> str:
        """Its own serial number."""


async def install(
    machine: Target, first: BinaryIO, second: BinaryIO | None, speed: Callable[[], float]
) -> None:
    """Install onto a machine. What goes wrong is told, and logged. Raises OSError, ValueError and
    aiohttp's errors.
    """
    answers = _answers(first, second)
    if answers is None:
        machine.log.append("the installer finds no answers and waits at its console")
        return
    report, wanted = answers["report"], str(answers["install"]["drive"])
    if wanted not in machine.drives:
        await _tell(machine, report["failed"], f"there is no drive {wanted}")
        return
    if strangers := _ports(answers) - {mac.lower() for mac in machine.macs}:
        await _tell(machine, report["failed"], f"there is no port {sorted(strangers)[0]}")
        return
    if machine.knobs.installer.startswith("fails"):
        await _tell(machine, report["failed"], f"drive {wanted} cannot be written")
        return
    for stage in STAGES:
        await _tell(machine, report["progress"], stage)
        await asyncio.sleep(STAGE_S / speed())
    digest = await asyncio.to_thread(_digest, first)
    machine.written, machine.label = {wanted: digest}, product_on(first)
    machine.node = {"values": _values(answers)}
    if machine.knobs.installer == "silent" or not report["done"]:
        return
    for _ in range(2 if machine.knobs.reports_twice else 1):
        await _tell(machine, f"{report['done']}?serial={_serial(machine)}", "")


def _digest(file: BinaryIO) -> str:
    file.seek(0)
    found = hashlib.sha256()
    while piece := file.read(1 << 20):
        found.update(piece)
    return found.hexdigest()


def _serial(machine: Target) -> str:
    return machine.knobs.reports_as or machine.serial


def _answers(first: BinaryIO, second: BinaryIO | None) -> dict[str, Any] | None:
    for iso in (second, first):
        if iso is None:
            continue
        try:
            text = _read(iso, keelson.ANSWERS_FILE)
        except LookupError:
            continue
        found = YAML(typ="safe", pure=True).load(io.BytesIO(text))
        return found if isinstance(found, dict) else None
    return None


def _ports(answers: dict[str, Any]) -> set[str]:
    """The ports that the answers name."""
    return set(str(answers["network"]["port"]).lower().replace(",", " ").split())


def _values(answers: dict[str, Any]) -> dict[str, str]:
    """What the node knows of itself from now on."""
    network = answers["network"]
    address, _, prefix = str(network["address"]).partition("/")
    told = {
        "hostname": answers["install"]["name"],
        "address": address,
        "prefix": prefix,
        "gateway": network["gateway"],
        "dns": network["dns"],
        "domain": network["domain"],
        "ntp": network["ntp"],
        "time_zone": answers["install"]["time_zone"],
        "role": "host",
        "roles": answers["install"]["roles"],
        "admin_password": answers["install"]["password"],
        "drives": answers["install"]["data"],
    }
    return {f"{keelson.ID}.{key}": str(value or "") for key, value in told.items()}


async def _tell(machine: Target, address: str, words: str) -> None:
    if not address:
        return

    async def once() -> int:
        async with aiohttp.ClientSession() as session, session.post(address, data=words) as answer:
            return answer.status

    status = await kept_at(once)
    machine.log.append(f"{words or 'the end'} answered with {status}")


def _read(file: BinaryIO, path: str) -> bytes:
    """A file on an ISO. Raises LookupError where there is none."""
    file.seek(0)
    iso = pycdlib.PyCdlib()
    try:
        iso.open_fp(file)
        out = io.BytesIO()
        iso.get_file_from_iso_fp(out, rr_path=path)
        return out.getvalue()
    except PyCdlibException as error:
        raise LookupError(path) from error
    finally:
        if iso._initialized:
            iso.close()
