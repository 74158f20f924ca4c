"""What the engine works with: store, keyring, the door to the network, package files, and the
clock.
"""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections.abc import AsyncIterator, Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from nimble_stone.core import grants
from nimble_stone.core.errors import Conflict, Denied, NotFound
from nimble_stone.core.estate import Host, Machine
from nimble_stone.core.redaction import Secrets
from nimble_stone.hosts import drivers
from nimble_stone.hosts.api import HostDriver, Recorder, no_record
from nimble_stone.hosts.redfish import Recorded, RedfishDriver, RedfishMachine
from nimble_stone.keyring import Vault
from nimble_stone.ports.feed import Feed
from nimble_stone.ports.hub import Hub
from nimble_stone.ports.limits import Limiter
from nimble_stone.ports.media import MediaOffice
from nimble_stone.ports.tickets import TicketOffice
from nimble_stone.reach import Credential, Reach, Target
from nimble_stone.store import entries, records
from nimble_stone.store.connect import Store


@dataclass
class Ports:
    """Everything outside the core, in one place, so that tests can replace any of it. `pace` scales
    expected times.
    """

    store: Store
    vault: Vault
    reach: Reach
    packages: Path
    hub: Hub = field(default_factory=Hub)
    clock: Callable[[], float] = time.time
    monotonic: Callable[[], float] = time.monotonic
    pace: float = 1.0
    tickets: TicketOffice | None = None
    media: MediaOffice | None = None
    # bytes per second that a host may fetch at, 0 without limit
    pull_rate: float = 0.0
    trials: dict[str, Any] = field(default_factory=dict)
    sessions: dict[str, Any] = field(default_factory=dict)
    """Sessions with products, by run and node; a server that starts opens its own."""
    feed: Feed = field(init=False)
    limiter: Limiter = field(default_factory=Limiter)
    trouble: str = ""
    """What keeps this server from storing, in words; '' when nothing does."""
    reading: dict[str, float] = field(default_factory=dict)
    """Hosts that are being read, and since when (monotonic)."""
    _locks: dict[str, asyncio.Lock] = field(default_factory=dict, repr=False)
    _seen: Secrets = field(default_factory=Secrets, repr=False)
    """What was opened here."""

    def __post_init__(self) -> None:
        self.feed = Feed(self)

    def lock(self, name: str) -> asyncio.Lock:
        """The lock with this name: two runs that would do the same thing at once take turns."""
        return self._locks.setdefault(name, asyncio.Lock())

    async def keep_secret(self, name: str, value: str, kind: str = "password") -> str:
        """Seal a value; the reference to it."""
        self._note(value)
        await self.store.write(
            entries.put_secret, name, kind, self.vault.seal(name, value), self.clock()
        )
        return f"keyring:{name}"

    async def open_secret(self, reference: str) -> str:
        """The value of a reference. Raises NotFound."""
        name = reference.removeprefix("keyring:")
        found = await self.store.read(entries.get_secret, name)
        if found is None:
            raise NotFound(f"the keyring has no entry “{name}”", hint="Type the secret again.")
        value = self.vault.open(name, found[1])
        self._note(value)
        return value

    async def open_for_plan(self, plan: str, reference: str) -> str:
        """The value of a reference that a plan holds. Raises Denied when the entry is neither the
        plan's
        own nor granted to it, NotFound."""
        name = reference.removeprefix(grants.PREFIX)
        if not grants.may_open(plan, name, await self.store.read(entries.granted, plan)):
            owner = grants.owner_of(name, await self.store.read(records.load_estate))
            raise Denied(
                f"plan {plan} may not open keyring entry “{name}”: it belongs to {owner}",
                code="secret-not-granted",
                hint=(
                    f"Grant it to plan {plan} on the keyring page, or type the value in the plan's"
                    " sheet."
                ),
            )
        return await self.open_secret(name)

    def hide(self, value: str) -> None:
        """Blank a value wherever it turns up from now on."""
        self._note(value)

    def _note(self, value: str) -> None:
        """Remember a value that must be blanked wherever it turns up, however it is written."""
        self._seen.add(value)

    def blank(self, text: str) -> str:
        """The text without any secret that was opened here."""
        return self._seen.without(text)

    async def credential(self, host: Host) -> Credential:
        """How to log in to a host. Raises NotFound when the keyring lacks the entry."""
        found = await self.store.read(entries.get_secret, host.credential)
        if found is None:
            raise NotFound(
                f"the keyring has no entry “{host.credential}” for {host.name}",
                hint="Add it, then read the host again.",
            )
        value = await self.open_secret(host.credential)
        return (
            Credential(host.user, key=value) if found[0] == "key" else Credential(host.user, value)
        )

    async def driver(self, host: Host, record: Recorder = no_record) -> HostDriver:
        """The driver for a host."""
        target = Target(host.name, host.address, host.port, await self.credential(host))
        return drivers.driver(host.kind, self.reach, target, record)

    @contextlib.asynccontextmanager
    async def controller(
        self, machine: Machine, record: Recorder = no_record
    ) -> AsyncIterator[RedfishMachine]:
        """A machine's controller, known by its pinned certificate. Raises Conflict when none was
        confirmed, NotFound without the keyring entry.
        """
        pinned = await self.store.read(records.get_pin, f"{machine.address}:{machine.port}")
        if not pinned:
            raise Conflict(
                f"the certificate of {machine.name} was not confirmed",
                code="unpinned",
                hint="Check it on the estate page and pin it.",
            )
        password = await self.open_secret(machine.credential)
        async with self.reach.https(machine.address, machine.port, pinned) as peer:
            yield RedfishMachine(
                machine.name,
                Recorded(machine.name, peer, record),
                machine.user,
                password,
                self.pause,
            )

    async def machine_driver(self, name: str, record: Recorder = no_record) -> HostDriver:
        """The driver for a bare machine, by name. Raises NotFound."""
        machine = await self.store.read(records.get_machine, name)
        if machine is None:
            raise NotFound(f"the estate has no machine “{name}”")
        return RedfishDriver(name, lambda: self.controller(machine, record))

    async def host(self, name: str) -> Host:
        """A host by name. Raises NotFound."""
        found = await self.store.read(records.get_host, name)
        if found is None:
            raise NotFound(f"the estate has no host “{name}”")
        return found

    async def pause(self, seconds: float) -> None:
        """Wait; the one place where the engine sleeps."""
        await asyncio.sleep(seconds)
