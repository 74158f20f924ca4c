"""The estate: hosts, datastores, networks, pools and what was read of them. Sizes in bytes, instants in epoch seconds."""

from __future__ import annotations

from ipaddress import IPv4Address, IPv4Network
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field


class _Value(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class Network(_Value):
    """A network of the estate. Hosts carry it under the same name."""

    name: str = Field(min_length=1, max_length=60)
    subnet: IPv4Network
    gateway: IPv4Address
    vlan: int | None = Field(default=None, ge=1, le=4094)
    dns: tuple[IPv4Address, ...] = ()
    ntp: str = ""
    domain: str = ""


class Pool(_Value):
    """A range that hands out addresses of a network in order; both ends belong to it."""

    name: str = Field(min_length=1, max_length=60)
    network: str
    first: IPv4Address
    last: IPv4Address
    excluded: tuple[IPv4Address, ...] = ()


class Host(_Value):
    """A hypervisor host and how to log in. `credential` names a keyring entry."""

    name: str = Field(min_length=1, max_length=60, pattern=r"^[a-z0-9][a-z0-9.-]*$")
    address: str
    port: int = Field(default=22, ge=1, le=65535)
    user: str = "root"
    credential: str
    site: str
    bay: str
    note: str = Field(default="", max_length=500)
    tags: tuple[str, ...] = Field(default=(), max_length=20)


class EstateFile(_Value):
    """What is known before anything was read: the form of `nimble-stone estate load FILE`."""

    networks: tuple[Network, ...] = ()
    pools: tuple[Pool, ...] = ()
    hosts: tuple[Host, ...] = ()


class Mark(_Value):
    """Our mark on a guest: which run made it, for which node of which plan."""

    run: str
    node: str
    plan: str = ""


class Guest(_Value):
    """A guest found on a host."""

    name: str
    uuid: str = ""
    running: bool = False
    vcpu: int = 0
    memory_bytes: int = 0
    mark: Mark | None = None


class Datastore(_Value):
    """A storage pool as one host sees it. `shared` identifies the remote export, '' for a local one."""

    name: str
    path: str
    capacity_bytes: int
    free_bytes: int
    active: bool = True
    shared: str = ""


class Carried(_Value):
    """A network as one host carries it."""

    name: str
    bridge: str
    active: bool = True
    mtu: int | None = None


class Facts(_Value):
    """What was read of one host, and when. With `trouble` set nothing new could be read; the rest is then the last that is known."""

    host: str
    read_at: float = 0.0
    hostname: str = ""
    hypervisor: str = ""
    cpu_model: str = ""
    threads: int = 0
    memory_bytes: int = 0
    domain_type: Literal["kvm", "qemu", ""] = ""
    domain_reason: str = ""
    datastores: tuple[Datastore, ...] = ()
    networks: tuple[Carried, ...] = ()
    guests: tuple[Guest, ...] = ()
    trouble: str = ""
    trouble_code: str = ""

    @property
    def used_memory_bytes(self) -> int:
        """Memory promised to running guests: the bedrock."""
        return sum(guest.memory_bytes for guest in self.guests if guest.running)

    def datastore(self, name: str) -> Datastore | None:
        """The datastore of that name, if this host has it."""
        return next((store for store in self.datastores if store.name == name), None)


class Estate(_Value):
    """Everything that can be deployed on, with the last facts of each host."""

    networks: tuple[Network, ...] = ()
    pools: tuple[Pool, ...] = ()
    hosts: tuple[Host, ...] = ()
    facts: dict[str, Facts] = {}

    def bay(self, name: str) -> tuple[Host, ...]:
        """The hosts of a bay, in the order of their names."""
        return tuple(sorted((host for host in self.hosts if host.bay == name), key=lambda host: host.name))

    def host(self, name: str) -> Host | None:
        """The host of that name."""
        return next((host for host in self.hosts if host.name == name), None)

    def network(self, name: str) -> Network | None:
        """The network of that name."""
        return next((network for network in self.networks if network.name == name), None)

    def pool(self, name: str) -> Pool | None:
        """The pool of that name."""
        return next((pool for pool in self.pools if pool.name == name), None)


HOST_RESERVE = 0.05
"""Share of a host's memory that is left to the hypervisor itself."""


def room_bytes(facts: Facts) -> int:
    """Memory that guests may still be given: capacity less the reserve less what is promised already."""
    return max(0, int(facts.memory_bytes * (1 - HOST_RESERVE)) - facts.used_memory_bytes)
