"""Groundwork as a run: remedies and preparations on hosts, each observed, done, observed again, and
taken back where that can be.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass, field
from typing import Any

from pydantic import TypeAdapter

from nimble_stone.core import groundwork as g
from nimble_stone.core.errors import Conflict, RemoteFailed, StoneError
from nimble_stone.core.estate import (
    Datastore,
    Estate,
    EstateFile,
    Facts,
    Host,
    Interface,
    StoreCare,
)
from nimble_stone.core.estate_rules.ground import place_of
from nimble_stone.core.runs.states import RunState
from nimble_stone.core.sequence import Step
from nimble_stone.engine import survey
from nimble_stone.engine.jobs import Kind
from nimble_stone.engine.world import World
from nimble_stone.hosts import commands, groundwork, linux_in, reading
from nimble_stone.hosts.groundwork import Op, Work
from nimble_stone.hosts.kvm import KvmHost, Recorder
from nimble_stone.reach import Credential, Target
from nimble_stone.store import entries, records, runs
from nimble_stone.store.runs import RunRow

ACTION: TypeAdapter[g.Action] = TypeAdapter(g.Action)
Found = dict[str, Any]
_LAST = {
    "ssh-key": 0,
    "names": 1,
    "time-source": 1,
    "wipe-disk": 1,
    "carry-network": 2,
    "isolated-network": 2,
    "start-network": 2,
    "rename-datastore": 2,
    "datastore-folder": 3,
    "datastore-disk": 3,
    "datastore-nfs": 3,
    "start-datastore": 3,
    "fencing-volume": 4,
    "refuse-passwords": 5,
}
"""In which order a host's own actions come: disks are wiped before they are used, passwords refused
when all else is done.
"""


def steps_of(work: g.Groundwork, estate: Estate) -> list[Step]:
    """The sequence: hosts side by side, the actions of one host one after the other. Raises
    Conflict for two actions on the same thing.
    """
    found: list[Step] = []
    last: dict[str, str] = {}
    for action in sorted(work.actions, key=lambda a: (_LAST[a.kind], a.host)):
        key = f"{action.kind}:{action.host}:{g.target(action)}"
        if any(step.key == key for step in found):
            raise Conflict(f"{g.label(action)} on {action.host} is asked for twice", code="twice")
        host = estate.host(action.host)
        facts = estate.facts.get(action.host)
        before: dict[str, str] = {}
        if (
            isinstance(action, g.RenameStore)
            and facts is not None
            and (store := facts.datastore(action.name) or facts.datastore(action.to))
        ):
            before = {"store": store.model_dump_json()}
        if isinstance(action, g.AddKey) and host is not None:
            before = {"login": host.credential}
        found.append(
            Step(
                key,
                "ground",
                g.label(action),
                "",
                action.host,
                "",
                sum(step.host == action.host for step in found),
                (last[action.host],) if action.host in last else (),
                4.0,
                120.0,
                detail={"action": action.model_dump_json(), **before},
            )
        )
        last[action.host] = key
    return found


def action_of(step: Step) -> g.Action:
    """The step's action."""
    return ACTION.validate_json(step.detail["action"])


def before_of(step: Step) -> Datastore | None:
    """The datastore that is renamed, as it was."""
    return Datastore.model_validate_json(step.detail["store"]) if "store" in step.detail else None


def row_of(run: str, work: g.Groundwork, steps: Sequence[Step], now: float) -> RunRow:
    """The run as it is kept."""
    return RunRow(
        run,
        ", ".join(dict.fromkeys(action.host for action in work.actions))[:200],
        "",
        RunState.RUNNING,
        {"work": work.model_dump(mode="json"), "steps": [asdict(step) for step in steps]},
        now,
        None,
        "groundwork",
    )


def steps_in(row: RunRow) -> dict[str, Step]:
    """Steps of a kept run."""
    return {
        item["key"]: Step(**{**item, "after": tuple(item["after"])}) for item in row.doc["steps"]
    }


@dataclass
class GroundContext:
    """A step about to be carried out."""

    world: World
    run: str
    step: Step
    host: KvmHost
    record: Recorder
    acted: bool = False
    answer: Found = field(default_factory=dict)

    @property
    def who(self) -> str:
        """Whom it is about."""
        return self.step.host

    @property
    def work(self) -> Work:
        """The commands."""
        return groundwork.work(action_of(self.step), self.run, before_of(self.step))

    def tell(self, **values: Any) -> None:
        """Passing progress."""
        self.world.hub.tell(self.run, self.step.key, **values)

    def uuid(self, kind: str, name: str) -> str:
        """The UUID that marks a thing as this run's."""
        return groundwork.uuid_of(self.run, self.step.host, kind, name)

    async def estate_host(self) -> Host:
        """The host as the estate has it now."""
        return await self.world.host(self.step.host)


class Preparation:
    """The job: steps of groundwork. Afterwards the hosts are read anew, so that what was wrong is
    seen to be gone.
    """

    stages = 6

    def __init__(self, world: World, row: RunRow) -> None:
        self.world, self.run_id = world, row.id
        self.steps = steps_in(row)
        self._work = g.Groundwork.model_validate(row.doc["work"])

    def kind(self, step: Step) -> Kind:
        """What carries the step out."""
        return KINDS[action_of(step).kind]

    def polled(self, step: Step) -> bool:
        """A network comes up a little after it was asked for."""
        return action_of(step).kind == "carry-network"

    def stage(self, step: Step) -> int:
        """Taken back in the opposite order."""
        return 5 - _LAST[action_of(step).kind]

    def context(self, step: Step, host: KvmHost, record: Recorder) -> GroundContext:
        """What the step works with."""
        return GroundContext(self.world, self.run_id, step, host, record)

    async def _read(self) -> dict[str, Facts]:
        estate = await self.world.store.read(records.load_estate)
        names = {step.host for step in self.steps.values()}
        return await survey.read_hosts(
            self.world, [host for host in estate.hosts if host.name in names], estate.facts
        )

    async def finish(self) -> tuple[bool, dict[str, Any]]:
        """Read the hosts anew; keep what was decided about new datastores."""
        facts = await self._read()
        if self._work.care is not None:
            for action in self._work.actions:
                store = (
                    facts[action.host].datastore(action.name)
                    if isinstance(action, g.FolderStore | g.DiskStore | g.NfsStore)
                    else None
                )
                if store is not None:
                    await self.world.store.write(
                        records.put_care,
                        StoreCare(
                            place=place_of(action.host, store), **self._work.care.model_dump()
                        ),
                    )
        unread = [name for name, found in facts.items() if found.trouble]
        return not unread, {"passed": len(facts) - len(unread), "failed": len(unread)}

    async def undone(self) -> None:
        """What the hosts are now."""
        await self._read()


class _Plain:
    """Acting and taking back by the commands alone. What is not of this run is neither written over
    nor taken away: a step that never acted
    found things as they were to be, and what it made bears its mark."""

    async def act(self, c: GroundContext) -> None:
        """Send the commands, one after the other. Raises Conflict when a file of somebody else, or
        of another run, is in the way.
        """
        for path in c.work.files:
            text = await c.host.text_of(path)
            if text is not None and not text.startswith(groundwork.first_line(c.run)):
                raise Conflict(
                    f"{path} on {c.step.host} is not of this run and stays as it is",
                    code="not-ours",
                    hint="Take the run back that made it, or move the file away; then retry.",
                )
        commands = c.work.act()
        for number, command in enumerate(commands):
            c.tell(done=number, total=len(commands))
            await c.host.do(command)

    async def undo(self, c: GroundContext) -> str:
        """Send those that take it back, if this run did it."""
        if not await c.world.store.read(runs.acted, c.run, c.step.key):
            return f"{c.step.label}: it was so before and stays"
        if not await self.ours(c):
            return f"{c.step.label}: nothing of this run is there; what is there stays"
        if why := await self.stays(c):
            raise Conflict(
                f"{c.step.host}: {c.step.label}: {why}",
                code="in-use",
                hint="Free it, then take the run back again.",
            )
        for command in await self.undoing(c):
            await c.host.do(command)
        return f"{c.step.label}: rolled back"

    async def ours(self, c: GroundContext) -> bool:
        """Whether what is there bears this run's mark: the files by their first line; other kinds
        look at theirs.
        """
        if not c.work.files:
            return True
        texts = [await c.host.text_of(path) for path in c.work.files]
        return any(
            text is not None and text.startswith(groundwork.first_line(c.run)) for text in texts
        )

    async def stays(self, c: GroundContext) -> str:
        """Why it may not be taken back, '' when it may."""
        return ""

    async def undoing(self, c: GroundContext) -> Sequence[groundwork.Cmd]:
        """The commands for that."""
        return c.work.undo()


class Key(_Plain):
    """A key on the host, and we log in by it."""

    async def _there(self, c: GroundContext, action: g.AddKey) -> bool:
        text = await c.host.text_of(groundwork.KEYS) or ""
        return any(line.split()[:2] == action.public.split()[:2] for line in text.splitlines())

    async def _logs_in(self, c: GroundContext, credential: str) -> bool:
        host = await c.estate_host()
        found = await c.world.store.read(entries.get_secret, credential)
        if found is None:
            return False
        value = await c.world.open_secret(credential)
        login = (
            Credential(host.user, key=value) if found[0] == "key" else Credential(host.user, value)
        )
        pinned = (await c.world.store.read(records.pins)).get(f"{host.address}:{host.port}", "")
        try:
            answer = await c.world.reach.ssh.try_out(
                Target(host.name, host.address, host.port, login),
                pinned,
                commands.limited("id -u", 5),
            )
        except StoneError:
            return False
        return answer.status == 0

    async def observe(self, c: GroundContext) -> Found | None:
        """The key is in the file, it opens the door, and the estate says so."""
        action = action_of(c.step)
        assert isinstance(action, g.AddKey)
        if not await self._there(c, action):
            return None
        if (await c.estate_host()).credential != action.credential or not await self._logs_in(
            c, action.credential
        ):
            return None
        return {"key": action.credential}

    async def act(self, c: GroundContext) -> None:
        """Put it there, try it, and only then log in by it."""
        action = action_of(c.step)
        assert isinstance(action, g.AddKey)
        if not await self._there(c, action):
            await super().act(c)
        if not await self._logs_in(c, action.credential):
            raise RemoteFailed(
                f"{c.step.host}: the key is in the file, but the host does not take it",
                target=c.step.host,
                hint=(
                    "See whether its SSH server allows keys and where it looks for them"
                    " (AuthorizedKeysFile); the login stays as it was."
                ),
            )
        host = await c.estate_host()
        await c.world.store.write(
            records.merge_estate,
            EstateFile(hosts=(host.model_copy(update={"credential": action.credential}),)),
        )

    async def undo(self, c: GroundContext) -> str:
        """Back to the login before, if that still works."""
        if not await c.world.store.read(runs.acted, c.run, c.step.key):
            return f"{c.step.label}: it was so before and stays"
        before = c.step.detail["login"]
        if not await self._logs_in(c, before):
            raise Conflict(
                f"{c.step.host} does not take the login of before any more; without the key nobody"
                " would get in",
                code="login-gone",
                hint=(
                    "Let it take passwords again, or correct the keyring; then take the run back"
                    " again."
                ),
            )
        host = await c.estate_host()
        await c.world.store.write(
            records.merge_estate,
            EstateFile(hosts=(host.model_copy(update={"credential": before}),)),
        )
        for command in c.work.undo():
            await c.host.do(command)
        return f"{c.step.label}: rolled back"


class Names(_Plain):
    """Name records in the hosts file."""

    def _missing(self, action: g.AddNames, text: str) -> tuple[g.NameRecord, ...]:
        known: dict[str, set[str]] = {}
        for line in text.splitlines():
            words = line.partition("#")[0].split()
            if words:
                known.setdefault(words[0], set()).update(word.lower() for word in words[1:])
        return tuple(
            record
            for record in action.records
            if not set(record.names) <= known.get(str(record.address), set())
        )

    async def observe(self, c: GroundContext) -> Found | None:
        """Every record is there."""
        action = action_of(c.step)
        assert isinstance(action, g.AddNames)
        return (
            {"records": len(action.records)}
            if not self._missing(action, await c.host.text_of(groundwork.HOSTS) or "")
            else None
        )

    async def act(self, c: GroundContext) -> None:
        """Append those that are missing."""
        action = action_of(c.step)
        assert isinstance(action, g.AddNames)
        text = await c.host.text_of(groundwork.HOSTS) or ""
        missing = self._missing(action, text)
        [command] = groundwork.work(action.model_copy(update={"records": missing}), c.run).act()
        if text and not text.endswith("\n"):
            command = groundwork.Cmd(command.text, "\n" + command.data)
        await c.host.do(command)


class Network(_Plain):
    """A network, isolated or over a bridge."""

    async def observe(self, c: GroundContext) -> Found | None:
        """It is defined, started, and leads where it is to lead."""
        action, name = action_of(c.step), g.target(action_of(c.step))
        found = await c.host.network(name)
        if found is None or not found[1]:
            return None
        if isinstance(action, g.CarryNetwork):
            links = await self._links(c)
            port, bridge = links.get(action.port), links.get(found[0].bridge)
            if (
                found[0].bridge != action.bridge
                or port is None
                or bridge is None
                or port.master != action.bridge
            ):
                return None
            if action.address is not None and str(action.address) not in bridge.addresses:
                return None
            return {"bridge": action.bridge, "port": action.port}
        if not found[0].isolated:
            raise Conflict(
                f"{c.step.host} carries a network {name} that leads out",
                code="name-taken",
                hint="Choose another name.",
            )
        return {"bridge": found[0].bridge}

    async def _links(self, c: GroundContext) -> dict[str, Interface]:
        answer = await c.host.answer(commands.limited("ip -j -d addr", 10))
        return {link.name: link for link in linux_in.interfaces(answer.text, "")}

    async def act(self, c: GroundContext) -> None:
        """An interface that is there without our files is somebody else's."""
        action = action_of(c.step)
        if isinstance(action, g.CarryNetwork) and not await super().ours(c):
            links = await self._links(c)
            if there := [
                name
                for name in (action.bridge, *([action.port] if action.vlan else []))
                if name in links
            ]:
                raise Conflict(
                    f"{c.step.host} has {', '.join(there)} already, and not of this run",
                    code="not-ours",
                    hint="Choose another name for the bridge, or put that in order first.",
                )
        await super().act(c)

    async def _net_ours(self, c: GroundContext) -> bool:
        name = g.target(action_of(c.step))
        found = await c.host.network(name)
        return found is not None and found[0].uuid == c.uuid("network", name)

    async def ours(self, c: GroundContext) -> bool:
        """The network by its UUID, or the files of its bridge."""
        return await self._net_ours(c) or (bool(c.work.files) and await super().ours(c))

    async def stays(self, c: GroundContext) -> str:
        """A guest is on it."""
        return await _network_used(c, g.target(action_of(c.step)))

    async def undoing(self, c: GroundContext) -> Sequence[groundwork.Cmd]:
        """The network where it bears our mark, then the interfaces and files where those do."""
        mine = [Op.DEFINE_NETWORK] if await self._net_ours(c) else []
        if await super().ours(c):
            mine.append(Op.BUILD_BRIDGE)
        return c.work.undo(mine)


async def _network_used(c: GroundContext, name: str) -> str:
    facts = await c.host.read_facts(c.world.clock(), Facts(host=c.step.host, domain_type="qemu"))
    users = [guest.name for guest in facts.guests if name in guest.networks]
    return f"guests are on it: {', '.join(users[:4])}" if users else ""


class Store(_Plain):
    """A datastore that is made."""

    def _wanted(self, action: g.Action) -> tuple[str, str, str]:
        """(name, path, export)"""
        match action:
            case g.FolderStore():
                return action.name, action.path.rstrip("/"), ""
            case g.NfsStore():
                return (
                    action.name,
                    f"{groundwork.IMAGES}/{action.name}",
                    f"{action.server}:{action.export}",
                )
            case g.DiskStore():
                return action.name, f"{groundwork.IMAGES}/{action.name}", ""
            case _:
                raise TypeError(action.kind)

    async def observe(self, c: GroundContext) -> Found | None:
        """It is defined, started, and lies where it is to lie. Raises Conflict when another one has
        the name.
        """
        name, path, export = self._wanted(action_of(c.step))
        found = await c.host.pool(name)
        if found is None:
            return None
        if (export and found.shared != export) or (not export and found.path.rstrip("/") != path):
            raise Conflict(
                f"{c.step.host} has a datastore {name} at {found.shared or found.path}",
                code="name-taken",
                hint="Choose another name.",
            )
        return (
            {"capacity": found.capacity_bytes, "free": found.free_bytes}
            if await c.host.pool_runs(name)
            else None
        )

    async def act(self, c: GroundContext) -> None:
        """A disk is looked at again right before it is formatted; one that bears our mark was
        formatted by an earlier try.
        """
        action, done = action_of(c.step), set[Op]()
        if isinstance(action, g.DiskStore):
            if await self._disk_ours(c, action):
                done = {Op.FORMAT_DISK}
            elif (disk := await _disk(c, action.device)).use != "free" or (
                await _probed(c, action.device)
            ):
                raise Conflict(
                    f"{action.device} on {c.step.host} is not free:"
                    f" {disk.why or 'somebody has formatted it'}",
                    code="disk-in-use",
                    hint="Choose another disk.",
                )
        for command in c.work.act(without=done):
            await c.host.do(command)

    async def _disk_ours(self, c: GroundContext, action: g.DiskStore) -> bool:
        return (await _probed(c, action.device)).get("UUID") == c.uuid("disk", action.name)

    async def _pool_ours(self, c: GroundContext) -> bool:
        name, _, _ = self._wanted(action_of(c.step))
        found = await c.host.pool(name)
        return found is not None and found.uuid == c.uuid("pool", name)

    async def ours(self, c: GroundContext) -> bool:
        """The pool by its UUID, or its disk by that of the file system."""
        action = action_of(c.step)
        return await self._pool_ours(c) or (
            isinstance(action, g.DiskStore) and await self._disk_ours(c, action)
        )

    async def stays(self, c: GroundContext) -> str:
        """Something lies in it."""
        name, path, export = self._wanted(action_of(c.step))
        if not await self._pool_ours(c):
            return ""
        inside = (
            [] if export else [item for item in await c.host.listing(path) if item != "lost+found"]
        )
        return (
            f"something lies in it: {', '.join(inside[:3])}"
            if inside
            else await _store_used(c, name)
        )

    async def undoing(self, c: GroundContext) -> Sequence[groundwork.Cmd]:
        """The pool where it bears our mark, and the file system where that does."""
        action = action_of(c.step)
        if not isinstance(action, g.DiskStore):
            return c.work.undo()
        mine = [Op.DEFINE_POOL] if await self._pool_ours(c) else []
        if await self._disk_ours(c, action):
            mine.append(Op.FORMAT_DISK)
        return c.work.undo(mine)


async def _probed(c: GroundContext, device: str) -> dict[str, str]:
    """What is really on a device, {} nothing. Raises RemoteFailed when that cannot be told: then it
    is not touched.
    """
    answer = await c.host.answer(groundwork.probe_disk(device))
    if answer.status == 2 and not answer.err:
        return {}
    if answer.status != 0:
        raise RemoteFailed(
            f"{c.step.host}: what is on {device} cannot be told:"
            f" {answer.err[:200] or f'status {answer.status}'}",
            target=c.step.host,
            hint="Only a disk that can be looked at is formatted.",
        )
    return linux_in.settings(answer.text) or {"TYPE": "something"}


async def _store_used(c: GroundContext, name: str) -> str:
    facts = await c.host.read_facts(c.world.clock(), Facts(host=c.step.host, domain_type="qemu"))
    users = [
        guest.name
        for guest in facts.guests
        if any(disk.startswith(f"{name}/") for disk in guest.disks)
    ]
    return f"guests use it: {', '.join(users[:4])}" if users else ""


async def _disk(c: GroundContext, device: str) -> Any:
    answer = await c.host.answer(commands.limited(reading.LSBLK, 10))
    disk = next((disk for disk in linux_in.disks(answer.text) if disk.path == device), None)
    if disk is None:
        raise Conflict(
            f"{c.step.host} has no disk {device} now", code="disk-gone", hint="Read the host again."
        )
    return disk


class Fence(_Plain):
    """A small shared volume that every host sees."""

    async def observe(self, c: GroundContext) -> Found | None:
        """It is there, and all hosts of the bay that share the datastore see it. Raises
        RemoteFailed for one that does not.
        """
        action = action_of(c.step)
        assert isinstance(action, g.FencingVolume)
        volume = groundwork.fence(action)
        await c.host.refresh(action.datastore)
        if await c.host.volume(action.datastore, volume) is None:
            return None
        estate = await c.world.store.read(records.load_estate)
        mine, here = estate.facts[c.step.host].datastore(action.datastore), await c.estate_host()
        seen = 1
        for host in estate.bay(here.bay):
            facts = estate.facts.get(host.name)
            theirs = (
                next(
                    (
                        store
                        for store in facts.datastores
                        if mine and store.shared == mine.shared and store.active
                    ),
                    None,
                )
                if facts
                else None
            )
            if host.name == here.name or theirs is None or (facts is not None and facts.trouble):
                continue
            kvm = await c.world.kvm(host, c.record)
            await kvm.refresh(theirs.name)
            if await kvm.volume(theirs.name, volume) is None:
                raise RemoteFailed(
                    f"{host.name} does not see {volume} on {theirs.name}, though it mounts the same"
                    " export",
                    target=host.name,
                    hint="See what it has mounted there; then retry.",
                )
            seen += 1
        return {"seen_by": seen}

    async def ours(self, c: GroundContext) -> bool:
        """A volume cannot bear a run's mark beyond its name: it is another run's when one that
        stands made it.
        """
        for row in await c.world.store.read(runs.runs, kind="groundwork"):
            tries: int = await c.world.store.read(runs.acted, row.id, c.step.key)
            if tries and row.id != c.run and row.state != RunState.UNDONE:
                return False
        return True


class Wipe(_Plain):
    """A disk without signatures."""

    async def observe(self, c: GroundContext) -> Found | None:
        """Nothing is on it. Raises Conflict when it is not what was confirmed; then nothing was
        begun either.

        An earlier try that was cut may have left the partition table alone; that much may differ.
        """
        action = action_of(c.step)
        assert isinstance(action, g.WipeDisk)
        disk = await _disk(c, action.device)
        if disk.use == "free" or c.acted:
            return {"free": action.device} if disk.use == "free" else None
        tries: int = await c.world.store.read(runs.acted, c.run, c.step.key)
        cut = tries > 0 and disk.why.startswith("a partition table")
        if (
            disk.use != "remains"
            or (disk.serial, disk.size_bytes) != (action.serial, action.size_bytes)
            or not (disk.why == action.content or cut)
        ):
            raise Conflict(
                f"{action.device} on {c.step.host} is not what was confirmed:"
                f" {disk.why or disk.use}, serial {disk.serial or 'none'}",
                code="disk-changed",
                hint="Read the host again and look.",
            )
        return None

    async def undo(self, c: GroundContext) -> str:
        """There is no way back."""
        return f"{c.step.label}: what was on it cannot be brought back"


class Rename(_Plain):
    """Another name for a datastore."""

    async def observe(self, c: GroundContext) -> Found | None:
        """It has the new name, and is started."""
        action = action_of(c.step)
        assert isinstance(action, g.RenameStore)
        there = await c.host.pool(action.to) is not None and await c.host.pool(action.name) is None
        return {"name": action.to} if there and await c.host.pool_runs(action.to) else None

    async def act(self, c: GroundContext) -> None:
        """Not while a guest uses it by name."""
        action = action_of(c.step)
        assert isinstance(action, g.RenameStore)
        if why := await _store_used(c, action.name):
            raise Conflict(
                f"{c.step.host}: {action.name}: {why}",
                code="in-use",
                hint="Leave the name, or change those guests first.",
            )
        await super().act(c)

    async def ours(self, c: GroundContext) -> bool:
        """It has the new name by us, or neither name because a try was cut."""
        action, before = action_of(c.step), before_of(c.step)
        assert isinstance(action, g.RenameStore)
        old, new = await c.host.pool(action.name), await c.host.pool(action.to)
        return old is None and (new is None or (before is not None and new.uuid == before.uuid))

    async def stays(self, c: GroundContext) -> str:
        """The same for the way back."""
        action = action_of(c.step)
        assert isinstance(action, g.RenameStore)
        return await _store_used(c, action.to)


class Start(_Plain):
    """Something that is defined is started."""

    async def observe(self, c: GroundContext) -> Found | None:
        """It is started."""
        action = action_of(c.step)
        if isinstance(action, g.StartStore):
            return {} if await c.host.pool_runs(action.name) else None
        assert isinstance(action, g.StartNetwork)
        found = await c.host.network(action.name)
        return {} if found and found[1] else None

    async def stays(self, c: GroundContext) -> str:
        """Somebody has begun to use it."""
        action = action_of(c.step)
        return await (
            _store_used(c, action.name)
            if isinstance(action, g.StartStore)
            else _network_used(c, g.target(action))
        )


class Time(_Plain):
    """A time server for chrony."""

    async def observe(self, c: GroundContext) -> Found | None:
        """Chrony has it among its sources, by the name it was given."""
        action = action_of(c.step)
        assert isinstance(action, g.TimeSource)
        text = await c.host.text_of(groundwork.TIME) or ""
        if f"server {action.server} " not in text:
            return None
        answer = await c.host.answer(commands.limited("chronyc -c -N sources", 10))
        if answer.status != 0:
            raise RemoteFailed(
                f"{c.step.host}: chronyc: {answer.err or answer.text or f'status {answer.status}'}"[
                    :300
                ],
                target=c.step.host,
                hint="Install chrony on it, or see why it does not run.",
            )
        asked = {line.split(",")[2] for line in answer.text.splitlines() if line.count(",") > 2}
        return {"server": action.server} if action.server in asked else None


class Passwords(_Plain):
    """Keys only."""

    async def observe(self, c: GroundContext) -> Found | None:
        """The SSH server says so itself."""
        answer = await c.host.answer(commands.limited("/usr/sbin/sshd -T", 10))
        return {"passwords": "refused"} if linux_in.password_login(answer.text) is False else None

    async def act(self, c: GroundContext) -> None:
        """Not while we need one ourselves."""
        host = await c.estate_host()
        found = await c.world.store.read(entries.get_secret, host.credential)
        if found is None or found[0] != "key":
            raise Conflict(
                f"{c.step.host}: we log in by password ourselves",
                code="needs-password",
                hint="Put a key on it first.",
            )
        await super().act(c)


KINDS: dict[str, Kind] = {
    "ssh-key": Key(),
    "names": Names(),
    "isolated-network": Network(),
    "carry-network": Network(),
    "datastore-folder": Store(),
    "datastore-disk": Store(),
    "datastore-nfs": Store(),
    "fencing-volume": Fence(),
    "wipe-disk": Wipe(),
    "rename-datastore": Rename(),
    "start-datastore": Start(),
    "start-network": Start(),
    "time-source": Time(),
    "refuse-passwords": Passwords(),
}


def busy(rows: Sequence[RunRow], steps: Sequence[Step]) -> str:
    """The run under way that works on one of the same things, '' when there is none."""
    wanted = {thing for step in steps for thing in g.things(action_of(step))}
    return next(
        (
            row.id
            for row in rows
            if any(wanted & g.things(action_of(step)) for step in steps_in(row).values())
        ),
        "",
    )
