"""Preparing a KVM host: what is there, and carrying work out."""

from __future__ import annotations

from collections.abc import Mapping
from shlex import quote

from nimble_stone.core import preparation as prep
from nimble_stone.core.errors import RemoteFailed
from nimble_stone.core.estate import BlockDevice, Datastore, Facts, Interface
from nimble_stone.hosts.api import Net, Store
from nimble_stone.hosts.kvm import actions, commands, linux_in, reading, sudo, xml_in
from nimble_stone.hosts.kvm.facts import KvmReading
from nimble_stone.hosts.kvm.session import Session
from nimble_stone.hosts.work import Command, Work


class KvmPreparation:
    """Looks at a host and changes it."""

    def __init__(self, session: Session) -> None:
        self._session = session

    async def send(self, command: Command) -> None:
        """Carry one command out. Raises RemoteFailed in the host's words, unless they
        mean that it is so already.
        """
        data = command.data
        if command.appends_to:
            before = await self._text_of(command.appends_to) or ""
            # a last line without its end would swallow our first one
            data = "\n" + data if before and not before.endswith("\n") else data
        answer = await self._session.run(command.text, data.encode(), limit_s=700, shown=data)
        if answer.status != 0 and not any(words in answer.err for words in command.fine):
            raise self._session.failure(
                command.text.split(" ", 5)[-1].removeprefix(commands.VIRSH).strip(), answer
            )

    async def _text_of(self, path: str) -> str | None:
        """A small file, None when it is not there. Raises RemoteFailed when it may not be read."""
        answer = await self._session.run(commands.limited(f"cat {path}", 10))
        if answer.status != 0 and "No such file" not in answer.err:
            raise self._session.failure(f"cat {path}", answer)
        return answer.out.decode("utf-8", "replace") if answer.status == 0 else None

    async def contents(self, path: str) -> list[str]:
        """Names of what lies in a folder, [] when there is none."""
        answer = await self._session.run(commands.limited(f"ls -A {quote(path)}", 10))
        return xml_in.names(answer.text) if answer.status == 0 else []

    async def store(self, name: str) -> Store | None:
        """A datastore's definition, or None."""
        text = await self._session.maybe("pool-dumpxml", name)
        return xml_in.pool(text) if text is not None else None

    async def store_ready(self, name: str) -> bool:
        """Whether the datastore is started, and will be with the host."""
        return name in xml_in.names(
            await self._session.virsh("pool-list", "--name")
        ) and name in xml_in.names(
            await self._session.virsh("pool-list", "--all", "--autostart", "--name")
        )

    async def network(self, name: str) -> Net | None:
        """A network's definition, and whether it is started and will be with the host; or None."""
        text = await self._session.maybe("net-dumpxml", name)
        if text is None:
            return None
        runs = name in xml_in.names(await self._session.virsh("net-list", "--name"))
        ready = runs and name in xml_in.names(
            await self._session.virsh("net-list", "--all", "--autostart", "--name")
        )
        return xml_in.net(text, ready)

    def work(self, action: prep.Action, run: str, before: Datastore | None = None) -> Work:
        """The operations of an action. Raises Conflict where what was there before is missing."""
        found = actions.work(action, run, before)
        return found if self._session.is_root else sudo.as_account(found)

    async def lacking(self, work: Work) -> list[str]:
        """Commands that need root, and that sudo does not allow this account."""
        asked = [] if self._session.is_root else sudo.asked(work)
        if not asked:
            return []
        script = sudo.question(asked).encode()
        answer = await self._session.run(commands.script(30), script, shown=script.decode())
        numbers = {int(word) for word in answer.text.split() if word.isdigit()}
        return [text for number, text in enumerate(asked) if number not in numbers]

    def _as_root(self, text: str) -> str:
        return text if self._session.is_root else sudo.with_sudo(text)

    def uuid(self, run: str, kind: str, name: str) -> str:
        """The UUID that marks a network, datastore or disk as made by a run."""
        return actions.uuid_of(run, self._session.name, kind, name)

    async def foreign_files(self, work: Work, run: str) -> list[str]:
        """Files of the work that are there, but do not begin with the mark of that run."""
        texts = {path: await self._text_of(path) for path in work.files}
        mine = actions.first_line(run)
        return [p for p, text in texts.items() if text is not None and not text.startswith(mine)]

    async def own_files(self, work: Work, run: str) -> bool:
        """Whether one of the files of the work is there and begins with the mark of that run."""
        mine = actions.first_line(run)
        texts = [await self._text_of(path) for path in work.files]
        return any(text is not None and text.startswith(mine) for text in texts)

    async def has_key(self, public: str) -> bool:
        """Whether the account takes a key."""
        text = await self._text_of(actions.KEYS) or ""
        return any(line.split()[:2] == public.split()[:2] for line in text.splitlines())

    async def name_records(self) -> Mapping[str, frozenset[str]]:
        """Address → names in lower case, by the hosts file."""
        known: dict[str, set[str]] = {}
        for line in (await self._text_of(actions.HOSTS) or "").splitlines():
            words = line.partition("#")[0].split()
            if words:
                known.setdefault(words[0], set()).update(word.lower() for word in words[1:])
        return {address: frozenset(names) for address, names in known.items()}

    async def links(self) -> Mapping[str, Interface]:
        """The interfaces as they are now, by name."""
        answer = await self._session.run(commands.limited("ip -j -d addr", 10))
        return {link.name: link for link in linux_in.interfaces(answer.text, "")}

    def store_path(self, action: prep.Action) -> str:
        """Where the datastore of an action comes to lie."""
        return actions.store_path(action)

    async def disk(self, device: str) -> BlockDevice | None:
        """A disk as it is now."""
        answer = await self._session.run(commands.limited(reading.LSBLK, 10))
        found = (disk for disk in linux_in.disks(answer.text) if disk.path == device)
        return next(found, None)

    async def signatures(self, device: str) -> Mapping[str, str]:
        """What is really on a device, {} nothing. Raises RemoteFailed when that cannot be told."""
        answer = await self._session.run(self._as_root(actions.probe_disk(device)))
        if answer.status == 2 and not answer.err:
            return {}
        if answer.status != 0:
            words = answer.err[:200] or f"status {answer.status}"
            raise RemoteFailed(
                f"{self._session.name}: what is on {device} cannot be told: {words}",
                target=self._session.name,
                hint="Only a disk that can be looked at is formatted.",
            )
        return linux_in.settings(answer.text) or {"TYPE": "something"}

    async def time_servers(self) -> frozenset[str]:
        """Those that stand in our file and that chrony has among its sources, by the names they
        were given. Raises RemoteFailed when chrony does not answer.
        """
        text = await self._text_of(actions.TIME) or ""
        written = {line.split()[1] for line in text.splitlines() if line.startswith("server ")}
        if not written:
            return frozenset()
        answer = await self._session.run(commands.limited("chronyc -c -N sources", 10))
        if answer.status != 0:
            words = answer.err or answer.text or f"status {answer.status}"
            raise RemoteFailed(
                f"{self._session.name}: chronyc: {words}"[:300],
                target=self._session.name,
                hint="Install chrony on it, or see why it does not run.",
            )
        asked = {line.split(",")[2] for line in answer.text.splitlines() if line.count(",") > 2}
        return frozenset(written & asked)

    async def takes_passwords(self) -> bool | None:
        """What the SSH server says itself; None when it cannot be asked."""
        answer = await self._session.run(self._as_root(commands.limited("/usr/sbin/sshd -T", 10)))
        return linux_in.password_login(answer.text)

    async def vms_on_network(self, name: str) -> list[str]:
        """VMs with an interface on a network."""
        facts = await self._vms()
        return [vm.name for vm in facts.guests if name in vm.networks]

    async def vms_on_store(self, name: str) -> list[str]:
        """VMs with a disk on a datastore."""
        facts = await self._vms()
        return [
            vm.name for vm in facts.guests if any(disk.startswith(f"{name}/") for disk in vm.disks)
        ]

    async def vms_with_disk(self, datastore: str, volume: str) -> list[str]:
        """VMs that have this very volume, named by its datastore or by its path."""
        facts = await self._vms()
        text = await self._session.maybe("vol-dumpxml", "--pool", datastore, volume)
        named = {f"{datastore}/{volume}", *([xml_in.volume(text).path] if text else [])}
        return [vm.name for vm in facts.guests if named.intersection(vm.disks)]

    async def _vms(self) -> Facts:
        # the kind of VM needs no probing here
        known = Facts(host=self._session.name, domain_type="qemu")
        return await KvmReading(self._session).facts(0.0, known)
