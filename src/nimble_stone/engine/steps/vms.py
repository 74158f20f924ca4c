"""The node's VM: defined, started."""

from __future__ import annotations

from nimble_stone.core.errors import Conflict, RemoteFailed
from nimble_stone.core.estate import Mark
from nimble_stone.core.package import adapt
from nimble_stone.core.plan.sheet import macs_of, networks_of, reached
from nimble_stone.core.units import size_text
from nimble_stone.engine.steps import installer_media, installing, kernels
from nimble_stone.engine.steps.context import Context, Found, Kind, limits_of, options_of, our_vm
from nimble_stone.engine.steps.disks import node_disks
from nimble_stone.engine.steps.returning import back
from nimble_stone.engine.steps.shutting_down import until_off
from nimble_stone.hosts.api import Vm, VmDesign, VmDisk, VmMedium
from nimble_stone.store import records


class Define:
    """The guest, defined with our mark."""

    async def observe(self, c: Context) -> Found | None:
        """A guest with this name bears our mark, and starts with its host where it should. Raises
        Conflict when a foreign VM has the name.
        """
        found = await c.host.vms.find(c.node.name)
        if found is None:
            return None
        if not found.is_of(c.maker):
            raise Conflict(
                f"VM {c.node.name} exists on {c.host.name} and was not created by this run; it is"
                " left unchanged",
                code="not-ours",
                hint="Rename the node, or remove that VM yourself; then retry.",
            )
        if options_of(c).autostart:
            state = await c.host.vms.state(c.node.name)
            if state is None or not state.autostart:
                return None
        return {"uuid": found.uuid}

    async def act(self, c: Context, instead_of: str = "") -> None:
        """Define it, be it instead of a VM of that UUID. A new guest has a new SSH host key: what
        an earlier one at this address had shown is forgotten.
        """
        if address := reached(c.run.sheet.kit, c.node):
            await c.ports.store.write(records.drop_pins, address)
        await self.define(c, instead_of)

    async def define(self, c: Context, instead_of: str = "") -> None:
        """Define it with the system that it has, whose SSH host key stays known."""
        node, datastore = c.node, c.step.datastore
        if node.is_adopted:
            raise Conflict(
                f"{node.name} was adopted; how others had defined its VM is not known here",
                code="adopted-undefined",
                hint="Define it again as it was, or make the node again.",
            )
        await c.host.storage.refresh(datastore)
        guest = adapt.adapt(c.descriptor, node.extra)
        for store in dict.fromkeys(node.extra_places):
            await c.host.storage.refresh(store)
        options = options_of(c)
        await c.host.vms.define(
            VmDesign(
                name=node.name,
                mark=Mark(run=c.maker, node=node.id, plan=c.run.sheet.plan.name),
                domain_type=c.run.domain_types.get(c.step.host, "qemu"),
                vcpu=node.vcpu,
                memory_bytes=node.memory_bytes,
                disks=tuple(
                    VmDisk(disk.datastore, disk.volume, place.bus, place.target, place.controller)
                    for disk, place in zip(node_disks(c), guest.disks, strict=True)
                ),
                medium=VmMedium(datastore, _medium(c), guest.config_target),
                installs=installer_media.media_of(c, guest.config_target),
                boots_media=installing.installer_of(c) is not None,
                networks=networks_of(c.run.sheet.kit, node, len(guest.nics)),
                nics=guest.nics,
                macs=macs_of(c.run.sheet.kit, node, len(guest.nics)),
                scsi=guest.controllers,
                firmware="efi" if options.secure_boot else guest.firmware,
                shared=await _shared(c, guest),
                autostart=options.autostart,
                agent=options.agent,
                watchdog=options.watchdog,
                host_cpu=options.cpu == "host",
                processor=c.run.processors.get(c.step.host, ""),
                kernel=await kernels.start_of(c),
                machine=options.machine,
                secure_boot=options.secure_boot,
                tpm=options.tpm,
                limits=limits_of(c),
                instead_of=instead_of,
            )
        )

    async def undo(self, c: Context) -> str:
        """Stop and undefine it, if it bears our mark. A fencing volume stays: others use it."""
        gone = await c.host.vms.remove(c.node.name, c.run.id, c.step.datastore)
        return f"VM {c.node.name} removed from {c.host.name}" if gone else ""


def _medium(c: Context) -> str:
    """The volume in its CD-ROM drive: its configuration, or its installer's answers."""
    if installing.installer_of(c) is not None:
        return installer_media.medium_volume(c)
    return c.volume(f"{c.node.name}-config")


async def _shared(c: Context, guest: adapt.Guest) -> tuple[VmDisk, ...]:
    """The fencing volume of the node's cluster. Raises Conflict where it is not there."""
    shared = c.node.fence
    if shared is None:
        return ()
    await c.host.storage.refresh(shared.datastore)
    if await c.host.storage.volume(shared.datastore, shared.volume) is None:
        raise Conflict(
            f"{c.host.name} has no volume {shared.volume} on {shared.datastore}",
            code="fence-missing",
            hint="Make it by host preparation (fencing volume), then retry.",
        )
    return (VmDisk(shared.datastore, shared.volume, "virtio", adapt.next_target(guest)),)


async def _address_free(c: Context) -> None:
    """Nobody on the node's network has its address. What cannot be asked stops nothing: the check
    before the run said so.
    """
    network = await c.host.preparation.network(c.node.value("network"))
    vm = await c.host.vms.find(c.node.name)
    for column in ("address", "address6"):
        address = c.node.value(column)
        if not address or network is None or not network.bridge:
            continue
        found = await c.host.probes.in_use(address, network.bridge)
        if found.used and not (vm and found.mac in vm.macs):
            raise Conflict(
                f"{address} of {c.node.name} is in use: {found.words}",
                code="address-taken",
                hint="Find that machine and give it another address, then retry.",
            )


class Start:
    """The guest runs."""

    async def observe(self, c: Context) -> Found | None:
        """It runs, and is not paused."""
        name = c.node.name
        runs = await c.host.vms.running(name) and not await c.host.vms.paused(name)
        return {} if runs else None

    async def act(self, c: Context) -> None:
        """Start it, unless another machine has taken its address meanwhile. Raises Conflict."""
        if not await c.host.vms.paused(c.node.name):
            await _address_free(c)
        await c.host.vms.start(c.node.name)

    async def undo(self, c: Context) -> str:
        """Undoing the definition stops it."""
        return ""


async def shut_down(c: Context) -> None:
    """The system of the node's VM shuts down; see `until_off`."""
    vms, name = c.host.vms, c.node.name
    await until_off(
        c, lambda: vms.running(name), lambda: vms.shut_down(name), lambda: vms.cut(name)
    )


class Resize:
    """The VM has other vCPUs and memory. Its system shuts down for that; starting it is the next
    step's.
    """

    async def observe(self, c: Context) -> Found | None:
        """It is stored so, and off, or runs so already."""
        state = await c.host.vms.state(c.node.name)
        if state is None or not _has(state.stored, c.node.vcpu, c.node.memory_bytes):
            return None
        if state.live is not None and not _has(state.live, c.node.vcpu, c.node.memory_bytes):
            return None
        return {"way": _size_text(c.node.vcpu, c.node.memory_bytes)}

    async def act(self, c: Context) -> None:
        """Change it, then have its system shut down. Raises Conflict for a VM that is not ours,
        RemoteFailed where it does not shut down.
        """
        await self._to(c, c.node.vcpu, c.node.memory_bytes)

    async def _to(self, c: Context, vcpu: int, memory_bytes: int) -> None:
        name = c.node.name
        if await our_vm(c, c.maker) is None:
            raise RemoteFailed(
                f"VM {name} is not on {c.host.name}",
                target=c.host.name,
                code="guest-gone",
                hint="Make the node again.",
            )
        await c.host.vms.resize(name, vcpu, memory_bytes)
        if await c.host.vms.running(name):
            await shut_down(c)

    async def undo(self, c: Context) -> str:
        """It has what it had before, and runs."""
        vcpu, memory = int(c.step.detail["was_vcpu"]), int(c.step.detail["was_memory"])
        state = await c.host.vms.state(c.node.name)
        if state is None:
            return ""
        if not _has(state.stored, vcpu, memory) or not _has(state.live, vcpu, memory):
            await self._to(c, vcpu, memory)
        if not await c.host.vms.running(c.node.name):
            await c.host.vms.start(c.node.name)
        await back(c)
        return f"{c.node.name} has {_size_text(vcpu, memory)} again"


def _has(vm: Vm | None, vcpu: int, memory_bytes: int) -> bool:
    """Whether it has that many vCPUs and that much memory; a hypervisor rounds to MiB."""
    return vm is not None and vm.vcpu == vcpu and vm.memory_bytes >> 20 == memory_bytes >> 20


def _size_text(vcpu: int, memory_bytes: int) -> str:
    return f"{vcpu} vCPU, {size_text(memory_bytes)}"


KINDS: dict[str, Kind] = {"define": Define(), "start": Start(), "resize": Resize()}
