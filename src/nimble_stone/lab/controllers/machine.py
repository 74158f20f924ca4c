"""A stand-in machine: its power, what it boots from, and what its controller is told."""

from __future__ import annotations

import asyncio
import json
import tempfile
import uuid as uuids
from collections.abc import Callable
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any, Protocol

from nimble_stone.lab.scenario.demo import MachinePlan

OFF = ("ForceOff", "GracefulShutdown")
TURNS_S = 6.0
"""How long power takes to change, in seconds of the lab."""


@dataclass
class BmcKnobs:
    """How a controller misbehaves. Seconds. `habits`: words of habits.py."""

    slow_s: float = 0.0
    unreachable: bool = False
    login_refused: bool = False
    starting: bool = False
    new_certificate: bool = False
    garbage: bool = False
    habits: list[str] = field(default_factory=list)
    boots_from_disk: bool = False
    """It boots from disk although it was told otherwise."""
    deaf: bool = False
    """Its system does not hear that it is to shut down."""
    hangs: bool = False
    """The system on the medium comes up and does nothing."""
    reports_as: str = ""
    """The serial number of another machine, which it reports as its own."""
    reports_twice: bool = False
    installer: str = ""
    """“silent”: an installer ends and switches the machine off without a word; “fails”: it says
    that it failed; “fails and ends”: and switches the machine off.
    """
    slow_link: float = 0.0
    """Bytes a second at which it fetches images; 0: as fast as it can."""


@dataclass
class LabMachine:
    """One machine and what its controller was told. `image`: the URL that is inserted."""

    plan: MachinePlan
    knobs: BmcKnobs = field(default_factory=BmcKnobs)
    power: str = "Off"
    boot: dict[str, str] = field(default_factory=lambda: {"target": "None", "enabled": "Disabled"})
    image: str = ""
    second: str = ""
    """The URL in the second virtual drive, where there is one."""
    log: list[str] = field(default_factory=list)
    wiped: list[str] = field(default_factory=list)
    """Serial numbers of drives that hold nothing any more."""
    written: dict[str, str] = field(default_factory=dict)
    """Serial number of a drive → digest of the image that was written to it."""
    label: dict[str, str] = field(default_factory=dict)
    """What the written image says it is: product and version."""
    node: dict[str, Any] = field(default_factory=dict)
    """What the node whose image was written keeps on its drive."""
    fetched: int = 0
    """Bytes of images that it has fetched."""

    @property
    def serial(self) -> str:
        """What is printed on it."""
        return f"HM{uuids.uuid5(uuids.NAMESPACE_DNS, self.plan.name).hex[:8].upper()}"

    @property
    def drives(self) -> tuple[str, ...]:
        """Serial numbers of all its drives, by bay."""
        return tuple(f"{self.serial}D{number}" for number in range(self.plan.drives))

    @property
    def macs(self) -> tuple[str, ...]:
        """MAC addresses of its ports."""
        return tuple(self.plan.mac(number) for number in range(1, self.plan.ports + 1))

    @property
    def uuid(self) -> str:
        """Its SMBIOS UUID."""
        return str(uuids.uuid5(uuids.NAMESPACE_DNS, self.plan.name))

    def boot_source(self) -> str:
        """Where it boots from this time; an override for once is used up by it."""
        source = self.boot["target"] if self.boot["enabled"] != "Disabled" else "None"
        if self.boot["enabled"] == "Once":
            self.boot = {"target": "None", "enabled": "Disabled"}
        return source


class Box(Protocol):
    """What runs when a machine is on: a stand-in, or a process of QEMU. `over` is called when it
    switched itself off.
    """

    async def start(self, machine: LabMachine, source: str, over: Callable[[], None]) -> None: ...

    async def stop(self, machine: LabMachine) -> None: ...


class Power:
    """Switches one machine, one request after the other."""

    def __init__(self, machine: LabMachine, box: Box, speed: Callable[[], float]) -> None:
        self.machine, self._box, self._speed = machine, box, speed
        self._lock = asyncio.Lock()
        self._tasks: set[asyncio.Task[None]] = set()

    def request(self, kind: str) -> None:
        """Begin; the state changes a little later."""
        self.machine.log.append(f"reset {kind}")
        if kind == "GracefulShutdown" and self.machine.knobs.deaf:
            return
        off = kind in OFF
        self.machine.power = "PoweringOff" if off else "PoweringOn"
        task = asyncio.create_task(self._change(kind))
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    async def _change(self, kind: str) -> None:
        async with self._lock:
            await asyncio.sleep(TURNS_S / self._speed())
            if kind != "On":
                await self._box.stop(self.machine)
            if kind in OFF:
                self.machine.power = "Off"
                return
            self.machine.power = "On"
            source = self.machine.boot_source()
            self.machine.log.append(f"boots from {source}")
            await self._box.start(self.machine, source, self._over)

    def _over(self) -> None:
        self.machine.log.append("switched itself off")
        self.machine.power = "Off"

    async def close(self) -> None:
        """End what runs."""
        for task in list(self._tasks):
            task.cancel()
        await asyncio.gather(*self._tasks, return_exceptions=True)
        await self._box.stop(self.machine)


def load(plan: MachinePlan, folder: Path) -> LabMachine:
    """As it was left, or new and off."""
    path = folder / f"{plan.name}.bmc.json"
    machine = LabMachine(plan, power=plan.odd.get("power", "Off"))
    if path.exists():
        data = json.loads(path.read_text())
        machine.knobs, machine.power = (
            BmcKnobs(**data["knobs"]),
            ("On" if data["power"] == "On" else "Off"),
        )
        machine.wiped = data.get("wiped", [])
        machine.written, machine.label, machine.node = (
            data.get("written", {}),
            data.get("label", {}),
            data.get("node", {}),
        )
    return machine


def save(machine: LabMachine, folder: Path) -> None:
    """Keep knobs and power."""
    kept = {
        "knobs": asdict(machine.knobs),
        "power": machine.power,
        "wiped": machine.wiped,
        "written": machine.written,
        "label": machine.label,
        "node": machine.node,
    }
    text = json.dumps(kept)
    with tempfile.NamedTemporaryFile("w", dir=folder, delete=False) as file:
        file.write(text)
    Path(file.name).replace(folder / f"{machine.plan.name}.bmc.json")
