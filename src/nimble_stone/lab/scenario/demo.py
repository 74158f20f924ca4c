"""The demonstration estate (holm.yaml): the Holm Tidal Survey's two machine rooms, and more hosts
on request for large pictures.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from functools import cache
from importlib.resources import files
from typing import Any

from ruamel.yaml import YAML

from nimble_stone.core.estate import EstateFile, Host, Machine, Network
from nimble_stone.core.models import Fixed
from nimble_stone.core.units import GIB, TIB

PASSWORD = "gannet over the skerry 7"
CREDENTIAL = "lab-hosts"
BMC_PASSWORD = "granite under the tide 3"
BMC_CREDENTIAL = "lab-controllers"


@dataclass(frozen=True)
class Bedrock:
    """A guest that runs on a host before we come. Memory in bytes."""

    name: str
    memory_bytes: int
    vcpu: int


@dataclass(frozen=True)
class StorePlan:
    """A datastore of a lab host. `shared` names the export several hosts see."""

    name: str
    capacity_bytes: int
    free_bytes: int
    shared: str = ""


@dataclass(frozen=True)
class Export:
    """What a filer offers. Both in bytes."""

    capacity_bytes: int
    free_bytes: int


@dataclass(frozen=True)
class HostPlan:
    """A lab host. Memory in bytes. `odd`: what is amiss with it (the knobs of
    lab/hypervisor/ground.py), so
    that there is something to find.
    """

    name: str
    address: str
    site: str
    bay: str
    memory_bytes: int
    threads: int
    bedrock: tuple[Bedrock, ...]
    stores: tuple[StorePlan, ...]
    networks: tuple[str, ...]
    odd: dict[str, Any] = field(default_factory=dict)
    rack: str = ""


@dataclass(frozen=True)
class MachinePlan:
    """A bare machine of the lab, by its controller's address. Memory and drives in bytes."""

    name: str
    address: str
    site: str
    bay: str
    model: str
    memory_bytes: int
    cores: int
    drives: int
    drive_bytes: int
    drive_kind: str
    odd: dict[str, Any] = field(default_factory=dict)
    ports: int = 4
    rack: str = ""

    def mac(self, port: int) -> str:
        """A port's address."""
        last = self.address.split(".")
        return f"52:54:bb:{int(last[2]):02x}:{int(last[3]):02x}:{port:02x}"


@dataclass(frozen=True)
class LabPlan:
    """All of the lab. `octet`: Kelda's 10.44/16 lies at 127.octet/16, Ness's 10.45/16 at
    127.(octet+1)/16.
    """

    hosts: tuple[HostPlan, ...]
    octet: int = 44
    machines: tuple[MachinePlan, ...] = ()

    def real(self, planned: str, port: int) -> tuple[str, int]:
        """Where a planned address and port lie on the loopback interface."""
        parts = planned.split(".")
        if parts[0] != "10" or parts[1] not in ("44", "45"):
            raise ValueError(f"{planned} is not in the lab")
        return f"127.{self.octet + int(parts[1]) - 44}.{parts[2]}.{parts[3]}", (
            port + 20000 if port < 1024 else port
        )


class _Export(Fixed):
    path: str
    capacity_tib: float
    free_tib: float


class _Vm(Fixed):
    name: str
    gib: int


class _Store(Fixed):
    """Shared by all who have its export, or the host's own: `used` is a share of its capacity."""

    name: str
    export: str = ""
    capacity_tib: float = 0
    used: float = 0


class _Host(Fixed):
    name: str
    address: str
    site: str
    bay: str
    memory_gib: int
    threads: int
    running: tuple[_Vm, ...]
    stores: tuple[_Store, ...]
    networks: tuple[str, ...]
    odd: dict[str, Any] = {}
    rack: str = ""


class _Machine(Fixed):
    name: str
    address: str
    site: str
    bay: str
    model: str
    memory_gib: int
    cores: int
    drives: int
    drive_tib: float
    drive_kind: str
    odd: dict[str, Any] = {}
    rack: str = ""


class _More(Fixed):
    """Where further hosts stand, and what they are called."""

    site: str
    bay: str
    names: tuple[str, ...]


class _Scenario(Fixed):
    """The file holm.yaml."""

    exports: tuple[_Export, ...]
    hosts: tuple[_Host, ...]
    machines: tuple[_Machine, ...]
    more: _More
    estate: EstateFile


@cache
def _scenario() -> _Scenario:
    text = files(__package__).joinpath("holm.yaml").read_text(encoding="utf-8")
    return _Scenario.model_validate(YAML(typ="safe", pure=True).load(text))


def _text(name: str) -> str:
    return files(__package__).joinpath(name).read_text(encoding="utf-8")


PLAN = _text("western.yaml")
"""The plan that the demonstration begins with."""
HARBOUR = _text("harbour.yaml")
"""The one that is deployed in it."""
NORTHERN = _text("northern.yaml")
"""The one whose run waits for a person."""
METAL = _text("metal.yaml")
"""The one whose nodes live on bare machines."""


def exports() -> dict[str, Export]:
    """What the lab's filers offer, by NFS path."""
    return {
        one.path: Export(int(one.capacity_tib * TIB), int(one.free_tib * TIB))
        for one in _scenario().exports
    }


def _store(given: _Store) -> StorePlan:
    if given.export:
        export = exports()[given.export]
        return StorePlan(given.name, export.capacity_bytes, export.free_bytes, given.export)
    return StorePlan(
        given.name, int(given.capacity_tib * TIB), int(given.capacity_tib * (1 - given.used) * TIB)
    )


def _running(given: Iterable[_Vm]) -> tuple[Bedrock, ...]:
    return tuple(Bedrock(vm.name, vm.gib * GIB, max(1, vm.gib // 8)) for vm in given)


def _host(given: _Host) -> HostPlan:
    return HostPlan(
        given.name,
        given.address,
        given.site,
        given.bay,
        given.memory_gib * GIB,
        given.threads,
        _running(given.running),
        tuple(_store(store) for store in given.stores),
        given.networks,
        given.odd,
        given.rack,
    )


def _further(number: int) -> HostPlan:
    """A host for large pictures; each of them a little different."""
    more = _scenario().more
    turn = number // len(more.names)
    name = more.names[number % len(more.names)] + (f"-{turn + 1}" if turn else "")
    running = [_Vm(name="gauge-feed", gib=16 + (number * 37) % 96)]
    if number % 3:
        running.append(_Vm(name="batch", gib=8 + (number * 13) % 40))
    used = 0.1 + (number * 7 % 40) / 100
    return HostPlan(
        name,
        f"10.44.{2 + number // 200}.{11 + number % 200}",
        more.site,
        more.bay,
        (192, 256, 384)[number % 3] * GIB,
        48,
        _running(running),
        (_store(_Store(name=f"{name}-local", capacity_tib=4, used=used)),),
        ("management", "survey"),
    )


def plan(more: int = 0, octet: int = 44) -> LabPlan:
    """The hosts and machines of the demonstration, and `more` further hosts in a bay of their
    own.
    """
    scenario = _scenario()
    machines = tuple(
        MachinePlan(
            one.name,
            one.address,
            one.site,
            one.bay,
            one.model,
            one.memory_gib * GIB,
            one.cores,
            one.drives,
            int(one.drive_tib * TIB),
            one.drive_kind,
            one.odd,
            rack=one.rack,
        )
        for one in scenario.machines
    )
    hosts = (*map(_host, scenario.hosts), *map(_further, range(more)))
    return LabPlan(hosts, octet, machines)


def networks() -> dict[str, Network]:
    """The estate's networks by name."""
    return {network.name: network for network in _scenario().estate.networks}


def estate_file(lab: LabPlan) -> EstateFile:
    """What a person would have entered about it."""
    hosts = tuple(
        Host(
            name=host.name,
            address=host.address,
            user="root",
            credential=CREDENTIAL,
            site=host.site,
            bay=host.bay,
            rack=host.rack,
        )
        for host in lab.hosts
    )
    return _scenario().estate.model_copy(update={"hosts": hosts})


def machines_of(lab: LabPlan) -> list[Machine]:
    """The bare machines, to be added once their certificates were looked at."""
    return [
        Machine(
            name=one.name,
            address=one.address,
            credential=BMC_CREDENTIAL,
            site=one.site,
            bay=one.bay,
            rack=one.rack,
        )
        for one in lab.machines
    ]
