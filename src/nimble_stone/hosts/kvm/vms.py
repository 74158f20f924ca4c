"""VMs of a KVM host."""

from __future__ import annotations

import string
from collections.abc import Collection
from dataclasses import replace

from nimble_stone.core.errors import Conflict, NotFound
from nimble_stone.core.estate import Mark
from nimble_stone.hosts.api import Vm, VmAddress, VmDesign, VmDisk, VmLimits, VmState
from nimble_stone.hosts.kvm import commands, xml_in, xml_out
from nimble_stone.hosts.kvm.session import Session

LOG = "-console.log"
OFF = ("shut off", "crashed")
"""States of a VM that is not there in the hypervisor's memory."""


PREFIXES = {"virtio": "vd", "ide": "hd"}
"""What device names of a bus begin with; all others are “sd”."""


def _free(bus: str, taken: Collection[str]) -> str:
    """The first device name of a bus that no drive has. Raises Conflict when there is none."""
    prefix = PREFIXES.get(bus, "sd")
    names = (f"{prefix}{letter}" for letter in string.ascii_lowercase)
    found = next((name for name in names if name not in taken), "")
    if not found:
        raise Conflict(
            f"the VM has {len(taken)} drives; no device name is left", code="drives-full"
        )
    return found


def _pairs(text: str) -> dict[str, str]:
    """Lines of “Key: value”."""
    found = (line.partition(":") for line in text.splitlines())
    return {key.strip(): value.strip() for key, _, value in found}


class KvmVms:
    """Defines, starts and removes VMs."""

    def __init__(self, session: Session) -> None:
        self._session = session

    def asks_definition(self, name: str) -> str:
        """The command that `find` sends."""
        return f"virsh dumpxml {name}"

    def asks_state(self, name: str) -> str:
        """The command that `running` sends."""
        return f"virsh domstate {name}"

    async def find(self, name: str) -> Vm | None:
        """The VM, or None."""
        text = await self._session.maybe("dumpxml", name)
        return xml_in.domain(text) if text is not None else None

    async def running(self, name: str) -> bool:
        """Whether the VM runs."""
        return (await self._session.maybe("domstate", name) or "") in (
            "running",
            "paused",
            "idle",
            "in shutdown",
        )

    async def paused(self, name: str) -> bool:
        """Whether the VM stands still in memory."""
        return await self._session.maybe("domstate", name) == "paused"

    async def state(self, name: str) -> VmState | None:
        """The VM as it is stored, as it is now, and whether it starts with its host: asked in one
        conversation.
        """
        stored, words, told, live = await self._session.several(
            ("dumpxml", name, "--inactive"),
            ("domstate", name, "--reason"),
            ("dominfo", name),
            ("dumpxml", name),
        )
        if stored is None or words is None or told is None:
            return None
        info, state = _pairs(told), words.partition("(")[0].strip()
        if state in OFF:
            live = None
        return VmState(
            xml_in.domain(stored),
            None if live is None else xml_in.domain(live),
            state in ("running", "idle"),
            words.strip()[:60],
            info.get("Autostart", "") == "enable",
        )

    async def addresses(self, name: str) -> list[VmAddress]:
        """IPv4 addresses of a running VM's first interface: by lease, else by its
        agent, else by the host's neighbour table.
        """
        domain = await self.find(name)
        first = domain.macs[0] if domain and domain.macs else ""
        for source in ("lease", "agent", "arp"):
            answer = await self._session.run(commands.virsh("domifaddr", name, "--source", source))
            found = xml_in.interface_addresses(answer.text) if answer.status == 0 else {}
            if mine := found.get(first):
                return mine
        return []

    async def define(self, design: VmDesign) -> None:
        """Define a VM with our mark. Where the account may not read libvirt's logs, its console is
        written into its datastore. One that is defined already is left as it is, but for what
        comes after its definition: whoever defined it may have been cut off in between. One that
        is to become this one keeps its UUID, and with it its firmware's variables and its TPM.
        """
        if design.instead_of:
            await self._redefine(design)
        elif await self.find(design.name) is None:
            await self._define(design)
        if design.autostart:
            await self._session.virsh("autostart", design.name)

    async def _redefine(self, design: VmDesign) -> None:
        log = await self._log(design.name)
        await self._define(design)
        if log and log != await self._log(design.name):
            await self._drop_log(log)

    async def _drop_log(self, log: xml_in.ConsoleLog) -> None:
        await self._session.virsh("pool-refresh", log.datastore)
        await self._session.maybe("vol-delete", log.path)

    async def _define(self, design: VmDesign) -> None:
        log = ""
        if not self._session.is_root:
            place = design.medium.datastore
            log = (await self._place_of_log(design.name, design.mark.run, place)).path
        document = xml_out.domain(design, log)
        await self._session.virsh("define", "--validate", "/dev/stdin", data=document)

    async def _place_of_log(self, name: str, run: str, datastore: str) -> xml_in.ConsoleLog:
        pool = xml_in.pool(await self._session.virsh("pool-dumpxml", datastore))
        return xml_in.ConsoleLog(f"{pool.path}/ns-{run}-{name}{LOG}", datastore)

    async def start(self, name: str) -> None:
        """Start a VM; one that is paused goes on where it stood."""
        word = "resume" if await self.paused(name) else "start"
        await self._session.virsh(word, name, seconds=90)

    async def resize(self, name: str, vcpu: int, memory_bytes: int) -> None:
        """Change the stored definition. What is current is never more than the most there may be:
        so the most grows first, and shrinks last.
        """
        before = await self.state(name)
        if before is None:
            raise NotFound(f"VM “{name}” is not defined on {self._session.name}")
        kib = str(memory_bytes >> 10)
        now = ["setvcpus", name, str(vcpu), "--config"]
        processors = [[*now, "--maximum"], now]
        memory = [["setmaxmem", name, kib, "--config"], ["setmem", name, kib, "--config"]]
        if vcpu < before.stored.vcpu:
            processors.reverse()
        if memory_bytes < before.stored.memory_bytes:
            memory.reverse()
        for words in (*processors, *memory):
            await self._session.virsh(*words)

    async def grow_disk(self, name: str, path: str, capacity_bytes: int) -> None:
        """By the hypervisor, which tells the VM."""
        await self._session.virsh("blockresize", name, path, f"{capacity_bytes}b", seconds=120)

    async def attach_disk(self, name: str, disk: VmDisk, limits: VmLimits) -> None:
        """Stored first: a VM that is off meanwhile starts with it."""
        stored, live = await self._drives(name)
        source = f"{disk.datastore}/{disk.volume}"
        named = next((dev for dev, lies in {**live, **stored}.items() if lies == source), "")
        target = named or _free(disk.bus, {*stored, *live})
        document = xml_out.further_disk(replace(disk, target=target), limits)
        attach = ("attach-device", name, "/dev/stdin")
        if source not in stored.values():
            await self._session.virsh(*attach, "--config", data=document)
        if live and source not in live.values():
            await self._session.virsh(*attach, "--live", data=document, seconds=60)

    async def detach_disk(self, name: str, datastore: str, volume: str) -> bool:
        """The system in the VM is asked to let it go, and takes its time."""
        source = f"{datastore}/{volume}"
        stored, live = await self._drives(name)
        for way, drives in (("--config", stored), ("--live", live)):
            for target in [dev for dev, lies in drives.items() if lies == source]:
                await self._session.maybe("detach-disk", name, target, way)
        return source not in {one for drives in await self._drives(name) for one in drives.values()}

    async def _drives(self, name: str) -> tuple[dict[str, str], dict[str, str]]:
        """Device name → source, as it is stored and as it is live: nothing while it is off."""
        stored = await self._session.virsh("dumpxml", name, "--inactive")
        live = await self._session.maybe("dumpxml", name) if await self.running(name) else None
        return xml_in.targets(stored), xml_in.targets(live) if live else {}

    async def shut_down(self, name: str) -> None:
        """By its power button (ACPI)."""
        await self._session.virsh("shutdown", name)

    async def cut(self, name: str) -> None:
        """At once."""
        await self._session.virsh("destroy", name, seconds=60)

    async def media(self, name: str) -> list[str]:
        """Targets of its CD-ROM drives that hold something, stored or live."""
        stored = await self._session.maybe("dumpxml", name, "--inactive")
        live = await self._session.maybe("dumpxml", name) if await self.running(name) else None
        return sorted({one for text in (stored, live) if text for one in xml_in.loaded(text)})

    async def eject(self, name: str) -> None:
        """Empty each drive. A guest may have locked its drive: it is opened nevertheless."""
        for target in await self.media(name):
            await self._session.virsh("change-media", name, target, "--eject", "--config")
        if await self.running(name):
            for target in await self.media(name):
                await self._session.virsh(
                    "change-media", name, target, "--eject", "--live", "--force"
                )

    async def adopt(self, name: str, uuid: str, mark: Mark) -> None:
        """In its metadata, stored and, where it runs, live."""
        found = await self.find(name)
        if found is None or found.uuid != uuid:
            raise Conflict(
                f"{self._session.name} has no VM “{name}” with UUID {uuid}",
                code="guest-gone",
                hint="Look at the hosts again, then choose the VM.",
            )
        if found.mark is not None and found.mark != mark:
            raise Conflict(
                f"VM “{name}” on {self._session.name} belongs to plan {found.mark.plan or '?'}",
                code="not-ours",
                hint="Roll back what built it there, or leave it to that plan.",
            )
        text = xml_out.mark_text(mark)
        for way in await self._ways(name):
            words = ("metadata", name, xml_out.MARK, "--key", "ns", "--set", text, way)
            await self._session.virsh(*words)

    async def release(self, name: str, run: str) -> bool:
        """Its metadata is taken out again."""
        found = await self.find(name)
        if found is None or not found.is_of(run):
            return False
        for way in await self._ways(name):
            await self._session.virsh("metadata", name, xml_out.MARK, "--remove", way)
        return True

    async def _ways(self, name: str) -> list[str]:
        return ["--config", *(["--live"] if await self.running(name) else [])]

    async def remove(self, name: str, run: str, datastore: str = "") -> bool:
        """Stop and undefine a VM that bears the mark of `run`; False when there is none: whoever
        undefined it left its console's log in the datastore. Raises Conflict for a VM without the
        mark.
        """
        found = await self.find(name)
        if found is None:
            if datastore and not self._session.is_root:
                await self._drop_log(await self._place_of_log(name, run, datastore))
            return False
        if not found.is_of(run):
            raise Conflict(
                f"VM “{name}” on {self._session.name} was not created by run {run} and is"
                " left alone",
                code="not-ours",
                hint="Remove or rename it, or rename the node.",
            )
        if await self.running(name):
            await self._session.virsh("destroy", name, seconds=60)
        log = await self._log(name)
        # a VM with UEFI keeps its variables in a file, which goes with it
        await self._session.virsh("undefine", name, "--nvram")
        if log:
            await self._drop_log(log)
        return True

    async def console(self, name: str) -> str:
        """The tail of the serial console, '' when there is none yet."""
        log = await self._log(name)
        command = commands.console_tail(commands.console_log(name))
        if log:
            await self._session.quietly(commands.virsh("pool-refresh", log.datastore), 35)
            command = commands.volume_tail(log.path)
        answer = await self._session.quietly(command, 25)
        return answer.text if answer.status == 0 else ""

    async def _log(self, name: str) -> xml_in.ConsoleLog | None:
        """Where a VM's console is written, if that is a file of ours in a datastore."""
        if self._session.is_root:
            return None
        answer = await self._session.quietly(commands.virsh("dumpxml", name), 35)
        log = xml_in.console_log(answer.text) if answer.status == 0 else None
        file = log.path.rpartition("/")[2] if log else ""
        return log if file.startswith("ns-") and file.endswith(LOG) else None
