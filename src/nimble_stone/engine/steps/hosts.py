"""A node that becomes a hypervisor host of the estate: a key of ours on it, its host key pinned,
its datastore there, and then an entry like any other host's.
"""

from __future__ import annotations

from nimble_stone.core import preparation as prep
from nimble_stone.core.errors import Conflict, LoginRefused, RemoteFailed
from nimble_stone.core.estate import EstateFile, Host, Origin
from nimble_stone.core.grants import hosts_entry
from nimble_stone.core.plan.sheet import reached
from nimble_stone.engine import adding, keys, survey
from nimble_stone.engine.steps.context import Context, Found, Kind
from nimble_stone.hosts import drivers
from nimble_stone.hosts.api import HostDriver
from nimble_stone.reach import Credential, Target
from nimble_stone.store import entries, records

SSH_PORT = 22


class Enroll:
    """The node in the estate, as a host in a bay that has the plan's name."""

    async def observe(self, c: Context) -> Found | None:
        """The estate has it, from this run, and it was read by the key."""
        estate = await c.ports.store.read(records.load_estate)
        host = estate.host(c.node.name)
        if host is None or host.origin is None or host.origin.run != c.run.id:
            return None
        facts = estate.facts.get(host.name)
        if facts is None or facts.trouble or not facts.read_at:
            return None
        return {"host": host.name, "bay": host.bay, "key": host.credential}

    async def act(self, c: Context) -> None:
        """Put a key there by the administrator's password, log in by it, look whether it is what
        the kit says, and add it.

        Raises: Conflict when the name is taken, LoginRefused, RemoteFailed and its kinds.
        """
        host = self._host(c)
        other = await c.ports.store.read(records.get_host, host.name)
        if other is not None and (other.origin is None or other.origin.run != c.run.id):
            raise Conflict(
                f"the estate has another host {host.name}",
                code="host-exists",
                hint="Rename that host or remove it from the estate; then retry.",
            )
        public = await keys.make(c.ports, host.credential)
        await self._put_key(c, host, public)
        found = await self._by_key(c, host)
        wanted = c.step.detail["datastore"]
        if wanted and not await found.preparation.store_ready(wanted):
            raise RemoteFailed(
                f"{host.name} has no active datastore {wanted}",
                target=host.name,
                hint="See whether the product's storage is up on that node; then retry.",
            )
        await c.ports.store.write(records.merge_estate, EstateFile(hosts=(host,)))
        facts = (await c.ports.store.read(records.load_estate)).facts
        await survey.read_hosts(c.ports, [host], facts)

    async def undo(self, c: Context) -> str:
        """Out of the estate. The key is forgotten with the last host that is opened by it. Raises
        Conflict when another plan needs the host.
        """
        host = await c.ports.store.read(records.get_host, c.node.name)
        if host is None or host.origin is None or host.origin.run != c.run.id:
            return ""
        if reasons := await adding.needs(c.ports, host.name):
            raise Conflict(
                f"{host.name} stays: {'; '.join(reasons[:5])}",
                code="host-needed",
                hint="Roll back those runs, or change those plans; then roll back again.",
            )
        await c.ports.store.write(records.drop_host, host.name)
        await c.ports.store.write(records.drop_pin, f"{host.address}:{host.port}")
        left = await c.ports.store.read(records.load_estate)
        if not any(one.credential == host.credential for one in left.hosts):
            await c.ports.store.write(entries.drop_secrets, host.credential)
        return f"{host.name}: removed from the estate"

    def _host(self, c: Context) -> Host:
        node, plan = c.node, c.run.sheet.plan.name
        return Host(
            name=node.name,
            address=reached(c.run.sheet.kit, node),
            port=SSH_PORT,
            user=c.step.detail["user"],
            credential=hosts_entry(plan),
            site=c.step.detail["site"],
            bay=plan,
            origin=Origin(run=c.run.id, plan=plan, node=node.id, machine=node.value("host")),
        )

    async def _put_key(self, c: Context, host: Host, public: str) -> None:
        """The key in the account's file, once."""
        plan, kit = c.run.sheet.plan.name, c.run.sheet.kit
        password = await c.ports.open_for_plan(plan, c.node.value(kit.admin_password))
        try:
            driver = self._driver(c, host, Credential(host.user, password))
            if await driver.preparation.has_key(public):
                return
            action = prep.AddKey(host=host.name, credential=host.credential, public=public)
            for command in drivers.KINDS[host.kind].work(action, c.run.id, None).act():
                await driver.preparation.send(command)
        except LoginRefused as error:
            raise LoginRefused(
                f"{host.name} does not let {host.user} in by the administrator's password",
                target=host.name,
                hint="See whether the product allows SSH logins by password; then retry.",
            ) from error

    async def _by_key(self, c: Context, host: Host) -> HostDriver:
        """Logged in by the key, on a host that has a hypervisor the account may use."""
        login = Credential(host.user, key=await c.ports.open_secret(host.credential))
        place = f"{host.address}:{host.port}"
        pinned = (await c.ports.store.read(records.pins)).get(place, "")
        target = Target(host.name, host.address, host.port, login)
        found = await drivers.KINDS[host.kind].first_look(c.ports.reach, target, pinned)
        if found.why:
            raise RemoteFailed(
                f"{host.name} is not a hypervisor host: {found.why}",
                target=host.name,
                hint="See the node's console; then retry.",
            )
        return self._driver(c, host, login)

    def _driver(self, c: Context, host: Host, login: Credential) -> HostDriver:
        target = Target(host.name, host.address, host.port, login)
        return drivers.driver(host.kind, c.ports.reach, target, c.record)


KINDS: dict[str, Kind] = {"enroll": Enroll()}
