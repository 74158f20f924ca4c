"""Whom a kit's calls ask: a node, or an existing system outside the plan. How each is reached,
which certificate it must show, and who logs in.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Protocol

from nimble_stone.core.errors import CertificateChanged, HostKeyChanged, NotFound
from nimble_stone.core.kit.calls import Login, Session
from nimble_stone.core.kit.systems import FIRST, ITSELF, OutsideSystem
from nimble_stone.core.plan.sheet import Node, reached
from nimble_stone.engine import certificates
from nimble_stone.engine.filling import Filler, fill
from nimble_stone.engine.frozen import FrozenRun
from nimble_stone.hosts.api import Recorder
from nimble_stone.hosts.node import NodeAccess, NodeDoor
from nimble_stone.ports.ports import Ports
from nimble_stone.reach.calls import Place
from nimble_stone.store import records

SSH = 22
OURS = "ours"
"""Pinned where a node was seen with a certificate of this installation's authority."""


@dataclass(frozen=True)
class At:
    """Whom texts are filled in for."""

    ports: Ports
    run: FrozenRun
    node: Node


@dataclass(frozen=True)
class Credential:
    """A name and a password."""

    user: str
    password: str = field(repr=False)


class Peer(Protocol):
    """Somebody who is asked. `key`: what tells its sessions from those of others in a run."""

    @property
    def name(self) -> str: ...

    @property
    def key(self) -> str: ...

    @property
    def login(self) -> Login: ...

    @property
    def bearer(self) -> str: ...

    @property
    def session(self) -> Session | None: ...

    async def credential(self) -> Credential: ...

    async def place(self, port: int = 0) -> Place: ...

    async def door(self, login: Credential, record: Recorder) -> NodeDoor: ...


class NodePeer:
    """A node of the plan."""

    def __init__(self, at: Filler) -> None:
        self._at = at
        access = at.run.sheet.kit.access
        self.name, self.key = at.node.name, at.node.id
        self.login, self.bearer, self.session = access.login, access.bearer, access.session

    async def credential(self) -> Credential:
        """The administrator's. Raises Denied, NotFound."""
        kit, ports = self._at.run.sheet.kit, self._at.ports
        password = await ports.open_for_plan(
            self._at.run.sheet.plan.name, self._at.node.value(kit.admin_password)
        )
        return Credential(kit.admin, password)

    async def place(self, port: int = 0) -> Place:
        """Where its interface is; `port`: one of its own, 0 none. Raises RemoteError."""
        return await place_of(self._at, port)

    async def door(self, login: Credential, record: Recorder) -> NodeDoor:
        """Commands to it."""
        kit, node = self._at.run.sheet.kit, self._at.node
        access = NodeAccess(
            node.name, reached(kit, node), kit.service.port, login.user, login.password
        )
        return NodeDoor(self._at.ports.reach, access, record)


class SystemPeer:
    """A system outside the plan, for the node that its texts are filled in for."""

    def __init__(self, at: Filler, system: OutsideSystem) -> None:
        self._at, self._system = at, system
        self.name, self.key = system.label, f"system:{system.id}"
        self.login, self.bearer, self.session = system.login, system.bearer, system.session

    async def _address(self) -> str:
        address = (await fill(self._at, self._system.address)).strip()
        if not address:
            raise NotFound(
                f"no address of {self.name} is known", hint="Enter it in the plan's sheet."
            )
        return address

    async def credential(self) -> Credential:
        """What the plan says. Raises Denied, NotFound."""
        user = await fill(self._at, self._system.user)
        password = await fill(self._at, self._system.password)
        self._at.ports.hide(password)
        return Credential(user, password)

    async def place(self, port: int = 0) -> Place:
        """Where its interface is. Raises NotFound, CertificateChanged where nobody has said yet
        which certificate it must show.
        """
        address, port = await self._address(), port or self._system.real_port
        if self._system.scheme == "http":
            return Place(address, port)
        trusted = (await fill(self._at, self._system.trust)).strip()
        if not trusted:
            raise CertificateChanged(
                f"the certificate of {self.name} is not confirmed yet",
                target=address,
                hint="Enter its fingerprint in the plan's sheet.",
            )
        return Place(address, port, trusted, address)

    async def door(self, login: Credential, record: Recorder) -> NodeDoor:
        """Commands to it. Raises HostKeyChanged where the kit wants its host key confirmed, and
        that was not done.
        """
        address = await self._address()
        if self._system.host_key:
            await self._pin(address)
        access = NodeAccess(self.name, address, self._system.real_port, login.user, login.password)
        return NodeDoor(self._at.ports.reach, access, record)

    async def _pin(self, address: str) -> None:
        """From now on it must show the key that the plan says, whichever was seen before."""
        wanted = (await fill(self._at, self._system.host_key)).strip()
        if not wanted:
            raise HostKeyChanged(
                f"the host key of {self.name} is not confirmed yet",
                target=address,
                hint="Enter its fingerprint in the plan's sheet.",
            )
        ports, place = self._at.ports, f"{address}:{SSH}"
        if await ports.store.read(records.get_pin, place) != wanted:
            await ports.store.write(records.drop_pin, place)
            await ports.store.write(records.put_pin, place, wanted, ports.clock())


def system_of(run: FrozenRun, asks: str) -> OutsideSystem | None:
    """The system that a call asks; None for a node."""
    return next((one for one in run.sheet.kit.systems if one.id == asks), None)


def asked(at: Filler, asks: str) -> Peer:
    """Whom a call asks. Raises NotFound for somebody whom the kit does not know."""
    if asks == ITSELF:
        return NodePeer(at)
    if asks == FIRST:
        return NodePeer(At(at.ports, at.run, at.run.sheet.nodes[0]))
    system = system_of(at.run, asks)
    if system is None:
        raise NotFound(f"the kit has no system “{asks}”")
    return SystemPeer(at, system)


async def place_of(at: Filler, other: int = 0) -> Place:
    """Where a node's interface is, and which certificate it must show; `other`: a port of its own,
    0 none. Raises RemoteError.
    """
    kit, node = at.run.sheet.kit, at.node
    address, port = reached(kit, node), other or kit.access.port or kit.service.port
    if kit.access.scheme == "http":
        return Place(address, port)
    key, store = f"{address}:{port}/tls", at.ports.store
    pin = await store.read(records.get_pin, key)
    if kit.access.trust == "authority" or pin == OURS:
        return await _by_authority(at, address, port)
    if kit.access.trust == "first-use-then-authority":
        ours = await _by_authority(at, address, port)
        if not await at.ports.reach.trust(address, port, ours.trusted, ours.name):
            await store.write(records.drop_pin, key)
            await store.write(records.put_pin, key, OURS, at.ports.clock())
            return ours
    if pin is None:
        shown = await at.ports.reach.certificate(address, port, at.ports.clock())
        pin = shown.fingerprint
        await store.write(records.put_pin, key, pin, at.ports.clock())
    return Place(address, port, pin)


async def _by_authority(at: Filler, address: str, port: int) -> Place:
    authority = (await certificates.authority(at.ports)).certificate
    shown = await _shown(at)
    for one in at.run.sheet.kit.certificates:
        if one.port == port and at.node.has_any(one.roles):
            names = certificates.names(at.run.sheet, at.node, one)
            return Place(address, port, authority, names[0] if names else address, shown)
    return Place(address, port, authority, address, shown)


async def _shown(at: Filler) -> str:
    """The certificate that calls show as their own, with its key; '' none."""
    ident = at.run.sheet.kit.access.certificate
    if not ident:
        return ""
    pair = await fill(at, f"{{certificate.{ident}}}\n{{certificate.{ident}.key}}")
    return pair.strip() and pair
