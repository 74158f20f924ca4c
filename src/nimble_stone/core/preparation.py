"""What may be done to hosts before anything is rolled out: remedies and groundwork as values. Pure:
what is meant, and why it may not be.

The exact commands are made of these by hosts.kvm.actions; the engine carries them out. Sizes in
bytes.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv4Interface
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from nimble_stone.core.estate import BlockDevice, Estate, Facts, MachineFacts
from nimble_stone.core.inspection.report import Signature
from nimble_stone.core.units import count_text, size_text

STORE_NAME = r"^[A-Za-z0-9][A-Za-z0-9._-]{0,59}$"
HOST_NAME = r"^[a-z0-9]([a-z0-9.-]{0,251}[a-z0-9])?$"
VM_NAME = r"^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$"
VOLUME = r"^[A-Za-z0-9][A-Za-z0-9._-]{0,59}/ns-[A-Za-z0-9._-]{1,120}$"
BRIDGE = r"^[A-Za-z0-9][A-Za-z0-9._-]{0,14}$"
FENCE_BYTES = 10 << 20


class _Action(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)
    host: str = Field(min_length=1, max_length=60)


class AddKey(_Action):
    """A public key for the login; afterwards we log in by it. `credential`: the keyring entry with
    the private key.
    """

    kind: Literal["ssh-key"] = "ssh-key"
    credential: str = Field(min_length=1, max_length=120)
    public: str = Field(
        pattern=r"^(ssh-ed25519|ecdsa-sha2-nistp256|ssh-rsa) [A-Za-z0-9+/=]{40,1000}$"
    )

    def words(self) -> str:
        """What is done, in one line."""
        return f"put the key “{self.credential}” and log in by it"


class NameRecord(BaseModel):
    """An address and its names, as a line of a hosts file."""

    model_config = ConfigDict(extra="forbid", frozen=True)
    address: IPv4Address
    names: tuple[Annotated[str, Field(pattern=HOST_NAME)], ...] = Field(min_length=1, max_length=4)


class AddNames(_Action):
    """Name records in the host's own hosts file."""

    kind: Literal["names"] = "names"
    records: tuple[NameRecord, ...] = Field(min_length=1, max_length=200)

    def words(self) -> str:
        """What is done, in one line."""
        return f"{len(self.records)} name {'record' if len(self.records) == 1 else 'records'}"


class IsolatedNetwork(_Action):
    """A network without uplink: VMs of one host only."""

    kind: Literal["isolated-network"] = "isolated-network"
    name: str = Field(pattern=STORE_NAME)
    bridge: str = Field(pattern=BRIDGE)

    def words(self) -> str:
        """What is done, in one line."""
        return f"isolated network {self.name}"


class CarryNetwork(_Action):
    """A bridge that carries a named network, over a VLAN of an interface or the whole of it; now,
    and after the next start.
    """

    kind: Literal["carry-network"] = "carry-network"
    network: str = Field(pattern=STORE_NAME)
    bridge: str = Field(pattern=BRIDGE)
    uplink: str = Field(pattern=BRIDGE)
    vlan: int | None = Field(default=None, ge=1, le=4094)
    address: IPv4Interface | None = None
    mtu: int = Field(default=1500, ge=576, le=65535)
    setup: Literal["networkd", "ifupdown"]
    uplink_config: str = Field(default="", max_length=200, pattern=r"^(/[A-Za-z0-9._@/-]+)?$")

    @property
    def port(self) -> str:
        """The interface that becomes the bridge's port."""
        return f"{self.uplink}.{self.vlan}" if self.vlan else self.uplink

    def words(self) -> str:
        """What is done, in one line."""
        return f"network {self.network} over {self.port}" + (
            f", address {self.address}" if self.address else ""
        )


class FolderStore(_Action):
    """A datastore in a folder of a file system that is there."""

    kind: Literal["datastore-folder"] = "datastore-folder"
    name: str = Field(pattern=STORE_NAME)
    path: str = Field(pattern=r"^/[A-Za-z0-9._/-]{1,200}$")

    def words(self) -> str:
        """What is done, in one line."""
        return f"datastore {self.name} in {self.path}"


class DiskStore(_Action):
    """A datastore on a whole free disk, which is formatted and mounted."""

    kind: Literal["datastore-disk"] = "datastore-disk"
    name: str = Field(pattern=STORE_NAME)
    device: str = Field(pattern=r"^/dev/[A-Za-z0-9._/-]{1,80}$")

    def words(self) -> str:
        """What is done, in one line."""
        return f"datastore {self.name} on {self.device}"


class NfsStore(_Action):
    """A datastore on an export that several hosts may share."""

    kind: Literal["datastore-nfs"] = "datastore-nfs"
    name: str = Field(pattern=STORE_NAME)
    server: str = Field(pattern=r"^[A-Za-z0-9][A-Za-z0-9.-]{0,252}$")
    export: str = Field(pattern=r"^/[A-Za-z0-9._/-]{1,200}$")

    def words(self) -> str:
        """What is done, in one line."""
        return f"datastore {self.name} from {self.server}:{self.export}"


class FencingVolume(_Action):
    """A small volume on a datastore that all hosts of the nodes share, for nodes that decide among
    themselves who may write. VMs of one host may use a datastore of their host.
    """

    kind: Literal["fencing-volume"] = "fencing-volume"
    datastore: str = Field(pattern=STORE_NAME)
    name: str = Field(pattern=STORE_NAME)

    def words(self) -> str:
        """What is done, in one line."""
        return f"fencing volume {self.name} on {self.datastore}"


class WipeDisk(_Action):
    """All signatures of a disk and of its partitions removed. What was on it cannot be brought
    back.

    `confirmed` is what the person typed: host and device. Serial, size and content are those that
    were confirmed.
    """

    kind: Literal["wipe-disk"] = "wipe-disk"
    device: str = Field(pattern=r"^/dev/[A-Za-z0-9._/-]{1,80}$")
    serial: str = Field(default="", max_length=60)
    size_bytes: int = Field(ge=0)
    content: str = Field(default="", max_length=200)
    parts: tuple[Annotated[str, Field(pattern=r"^/dev/[A-Za-z0-9._/-]{1,80}$")], ...] = Field(
        default=(), max_length=128
    )
    confirmed: str = Field(default="", max_length=200)

    @property
    def wanted(self) -> str:
        """What the person has to type."""
        return f"{self.host} {self.device}"

    def words(self) -> str:
        """What is done, in one line."""
        return (
            f"wipe {self.device} ({size_text(self.size_bytes)},"
            f" {self.content or 'nothing recognised'})"
        )


class RemoveVm(_Action):
    """A VM of ours that was left on a host which had been lost: its node was made again on `home`
    meanwhile. `run`: the one that had made it; `volumes`: its disks, `datastore/volume`, each with
    that run's mark. `confirmed` is what the person typed: host and VM.
    """

    kind: Literal["remove-vm"] = "remove-vm"
    name: str = Field(pattern=VM_NAME)
    uuid: str = Field(pattern=r"^[0-9a-f-]{36}$")
    run: str = Field(pattern=r"^[0-9a-f]{8}$")
    home: str = Field(min_length=1, max_length=60)
    volumes: tuple[Annotated[str, Field(pattern=VOLUME)], ...] = Field(default=(), max_length=64)
    confirmed: str = Field(default="", max_length=200)

    @property
    def wanted(self) -> str:
        """What the person has to type."""
        return f"{self.host} {self.name}"

    def words(self) -> str:
        """What is done, in one line."""
        disks = count_text(len(self.volumes), "volume")
        return f"delete VM {self.name} and {disks}; its node is on {self.home}"


class RenameStore(_Action):
    """Another name for a datastore that no guest uses by name."""

    kind: Literal["rename-datastore"] = "rename-datastore"
    name: str = Field(pattern=STORE_NAME)
    to: str = Field(pattern=STORE_NAME)

    def words(self) -> str:
        """What is done, in one line."""
        return f"datastore {self.name} is called {self.to}"


class StartStore(_Action):
    """A datastore that is defined is started, now and with the host."""

    kind: Literal["start-datastore"] = "start-datastore"
    name: str = Field(pattern=STORE_NAME)

    def words(self) -> str:
        """What is done, in one line."""
        return f"start datastore {self.name}"


class StartNetwork(_Action):
    """A network that is defined is started, now and with the host."""

    kind: Literal["start-network"] = "start-network"
    name: str = Field(pattern=STORE_NAME)

    def words(self) -> str:
        """What is done, in one line."""
        return f"start network {self.name}"


class TimeSource(_Action):
    """A time server for chrony."""

    kind: Literal["time-source"] = "time-source"
    server: str = Field(pattern=r"^[A-Za-z0-9][A-Za-z0-9.-]{0,252}$")

    def words(self) -> str:
        """What is done, in one line."""
        return f"follow the time of {self.server}"


class RefusePasswords(_Action):
    """SSH takes keys only from now on."""

    kind: Literal["refuse-passwords"] = "refuse-passwords"

    def words(self) -> str:
        """What is done, in one line."""
        return "refuse logins by password"


class InspectMachine(_Action):
    """A bare machine boots once from the inspection medium and reports what it is inside. `host`
    is the machine's name. One that is on is restarted: `confirmed` is its name then, typed.
    """

    kind: Literal["inspect"] = "inspect"
    confirmed: str = Field(default="", max_length=100)

    def words(self) -> str:
        """What is done, in one line."""
        return "inspect"


class WipeDrive(BaseModel):
    """A drive that is to be wiped, as it was confirmed."""

    model_config = ConfigDict(extra="forbid", frozen=True)
    serial: str = Field(min_length=1, max_length=60, pattern=r"^[!-~]+( [!-~]+)*$")
    size_bytes: int = Field(ge=0)
    holds: tuple[Signature, ...] = Field(default=(), max_length=64)


class WipeDrives(_Action):
    """Signatures of drives of a bare machine removed, by the inspection system. What was on them
    cannot be brought back. `host` is the machine's name; `confirmed` is what the person typed.
    """

    kind: Literal["wipe-drives"] = "wipe-drives"
    drives: tuple[WipeDrive, ...] = Field(min_length=1, max_length=40)
    confirmed: str = Field(default="", max_length=100)

    @property
    def wanted(self) -> str:
        """What the person has to type."""
        return f"{self.host} {count_text(len(self.drives), 'drive', 'drives')}"

    def words(self) -> str:
        """What is done, in one line."""
        return f"wipe {count_text(len(self.drives), 'drive', 'drives')}"


class WriteImage(_Action):
    """The disk of a package written to a drive of a bare machine, by the inspection system: the
    drive is wiped, what the image holds is written and read back. `package`: its SHA-256;
    `confirmed`: what the person typed.
    """

    kind: Literal["write-image"] = "write-image"
    drive: WipeDrive
    package: str = Field(pattern=r"^[0-9a-f]{64}$")
    confirmed: str = Field(default="", max_length=100)

    @property
    def wanted(self) -> str:
        """What the person has to type."""
        return f"{self.host} 1 drive"

    def words(self) -> str:
        """What is done, in one line."""
        return "write image"


Action = Annotated[
    AddKey
    | AddNames
    | IsolatedNetwork
    | CarryNetwork
    | FolderStore
    | DiskStore
    | NfsStore
    | FencingVolume
    | WipeDisk
    | RemoveVm
    | RenameStore
    | StartStore
    | StartNetwork
    | TimeSource
    | RefusePasswords
    | InspectMachine
    | WipeDrives
    | WriteImage,
    Field(discriminator="kind"),
]
MetalAction = InspectMachine | WipeDrives | WriteImage
"""What is done to a bare machine."""


Final = WipeDisk | WipeDrives | WriteImage | RemoveVm
"""What cannot be taken back, and is typed for."""


class Care(BaseModel):
    """What is decided about a datastore along with making it."""

    model_config = ConfigDict(extra="forbid", frozen=True)
    watermark: float = Field(default=0.85, gt=0, le=1)
    protection: Literal["", "protected", "disposable"] = ""


class Preparation(BaseModel):
    """Actions to be carried out as one run. `care` holds for the datastores among them."""

    model_config = ConfigDict(extra="forbid", frozen=True)
    actions: tuple[Action, ...] = Field(min_length=1, max_length=2000)
    care: Care | None = None


def label(action: Action) -> str:
    """One line that says what is done, without the host."""
    return action.words()


def target(action: Action) -> str:
    """What of the host it is about: two actions on the same thing take turns, and steps are named
    after it.
    """
    match action:
        case AddKey() | AddNames() | TimeSource() | RefusePasswords():
            return action.kind
        case InspectMachine() | WipeDrives() | WriteImage():
            return "machine"
        case CarryNetwork():
            return action.network
        case FencingVolume():
            return f"{action.datastore}.{action.name}"
        case WipeDisk():
            return action.device.removeprefix("/dev/")
        case RemoveVm():
            return f"vm.{action.name}"
        case _:
            return action.name


def fence_name(action: FencingVolume) -> str:
    """The fencing volume's name."""
    return fence_volume(action.name)


def fence_volume(name: str) -> str:
    """A fencing volume as the datastore names it: with our mark, as all volumes of ours."""
    return f"ns-{name}"


def undoable(action: Action) -> bool:
    """Whether it can be taken back."""
    return not isinstance(action, Final)


def to_type(action: Action) -> str:
    """What a person has to type before it may be done, '' nothing."""
    return action.wanted if isinstance(action, Final) else ""


def things(action: Action) -> frozenset[tuple[str, str]]:
    """(host, thing) that an action works on: no two runs work on one at a time."""
    return frozenset(
        (action.host, thing)
        for thing in (
            target(action),
            *([action.device.removeprefix("/dev/")] if isinstance(action, DiskStore) else ()),
        )
    )


def refusals(
    action: Action, estate: Estate, keys: frozenset[str] = frozenset(), along: Sequence[Action] = ()
) -> list[str]:
    """Why an action may not be done, by the last facts; [] when nothing speaks against it. `keys`:
    keyring entries that are private keys;
    `along`: the actions of the same run, which may make way for this one (a disk is wiped before it
    is used, a key put before passwords go)."""
    if isinstance(action, MetalAction):
        return _metal(action, estate)
    host, facts = estate.host(action.host), estate.facts.get(action.host)
    if host is None:
        return [f"the estate has no host {action.host}"]
    if facts is None or not facts.memory_bytes:
        return [f"{action.host} was never read; read it first"]
    if facts.trouble:
        return [f"{action.host} was unreachable at the last refresh: {facts.trouble}"]
    around = _Around(facts, host.address, host.credential in keys, along)
    against = _AGAINST.get(type(action))
    return against(action, around) if against else []


def on_metal(action: Action) -> bool:
    """Whether it is done to a bare machine."""
    return isinstance(action, MetalAction)


def _metal(action: MetalAction, estate: Estate) -> list[str]:
    machine, facts = estate.machine(action.host), estate.machine_facts.get(action.host)
    if machine is None:
        return [f"the estate has no machine {action.host}"]
    if facts is None or not facts.read_at:
        return [f"{action.host} was never read; read it first"]
    if facts.trouble:
        return [f"{action.host} was unreachable at the last refresh: {facts.trouble}"]
    found = []
    if not facts.media and machine.boots == "media":
        found.append("its controller has no virtual media; let it boot from the network")
    if isinstance(action, WipeDrives):
        return found + _wiping(action.drives, action.confirmed, action.wanted, facts)
    if isinstance(action, WriteImage):
        return found + _wiping((action.drive,), action.confirmed, action.wanted, facts)
    if facts.power != "Off" and action.confirmed.strip() != action.host:
        found.append(f"it is on and would be restarted; type “{action.host}” to confirm")
    return found


def _wiping(
    drives: Sequence[WipeDrive], confirmed: str, wanted: str, facts: MachineFacts
) -> list[str]:
    if facts.power != "Off":
        return ["it is on; switch it off first"]
    if facts.inside is None:
        return ["it was never inspected; inspect it first"]
    found = []
    if len({drive.serial for drive in drives}) < len(drives):
        found.append("a drive is named twice")
    for drive in drives:
        seen = facts.inside.disk(drive.serial)
        if seen is None:
            found.append(f"the last inspection saw no single disk with serial {drive.serial}")
        elif (seen.size_bytes, seen.holds) != (drive.size_bytes, drive.holds):
            found.append(f"{seen.device} ({drive.serial}) holds {seen.content or 'nothing'} now")
    if " ".join(confirmed.split()) != wanted:
        found.append(f"type “{wanted}” to confirm")
    return found


@dataclass(frozen=True)
class _Around:
    """What an action is judged by: the host's facts, the address it is reached at, whether we log
    in by a key, and the other actions of the run.
    """

    facts: Facts
    address: str
    by_key: bool
    along: Sequence[Action]


def _disk(facts: Facts, device: str) -> BlockDevice | None:
    return next((disk for disk in facts.disks if disk.path == device), None)


def _wipe(action: WipeDisk, around: _Around) -> list[str]:
    facts = around.facts
    disk = _disk(facts, action.device)
    if disk is None:
        return [f"{action.device} was not seen at the last reading"]
    if disk.use in ("mounted", "member", "unrecognised"):
        return [f"{action.device} is left alone: {disk.why or 'it is not recognised'}"]
    if (disk.serial, disk.size_bytes) != (action.serial, action.size_bytes):
        return [
            f"{action.device} is another disk now ({disk.model} {disk.serial},"
            f" {size_text(disk.size_bytes)})"
        ]
    if (disk.why, tuple(disk.parts)) != (action.content, action.parts):
        return [f"{action.device} holds something else now: {disk.why or 'nothing'}"]
    if " ".join(action.confirmed.split()) != action.wanted:
        return [f"type “{action.wanted}” to confirm"]
    return []


def _remove_vm(action: RemoveVm, around: _Around) -> list[str]:
    found = next((vm for vm in around.facts.guests if vm.name == action.name), None)
    if found is None or found.uuid != action.uuid:
        return [f"VM {action.name} was not seen at the last reading"]
    if found.mark is None or found.mark.run != action.run:
        return [f"VM {action.name} was not created by run {action.run}"]
    foreign = [one for one in action.volumes if f"/ns-{action.run}-" not in one]
    if foreign:
        return [f"{foreign[0]} was not created by run {action.run}"]
    if " ".join(action.confirmed.split()) != action.wanted:
        return [f"type “{action.wanted}” to confirm"]
    return []


def _on_disk(action: DiskStore, around: _Around) -> list[str]:
    facts = around.facts
    wiped = any(
        isinstance(other, WipeDisk) and (other.host, other.device) == (action.host, action.device)
        for other in around.along
    )
    there = facts.datastore(action.name)
    disk = _disk(facts, action.device)
    if disk is None:
        return [f"{action.device} was not seen at the last reading"]
    if (
        disk.use != "free"
        and not (wiped and disk.use == "remains")
        and not (there and there.kind == "fs" and disk.why == f"mounted at {there.path}")
    ):
        return [
            f"{action.device} is not free: {disk.why or disk.use}"
            + ("; wipe it first" if disk.use == "remains" else "")
        ]
    return _new_store(action.name, facts)


def _in_folder(action: FolderStore, around: _Around) -> list[str]:
    path = action.path.rstrip("/")
    inside = [
        store
        for store in around.facts.datastores
        if store.path.rstrip("/") == path and store.name != action.name
    ]
    taken = [f"{action.path} is datastore {store.name} already" for store in inside[:1]]
    return _new_store(action.name, around.facts, action.path) + taken


def _from_server(action: NfsStore, around: _Around) -> list[str]:
    return _new_store(action.name, around.facts, shared=f"{action.server}:{action.export}")


def _isolated(action: IsolatedNetwork, around: _Around) -> list[str]:
    leads_out = [
        net for net in around.facts.networks if net.name == action.name and not net.isolated
    ]
    return [f"it carries a network {action.name} with an uplink"] if leads_out else []


def _fence(action: FencingVolume, around: _Around) -> list[str]:
    store = around.facts.datastore(action.datastore)
    if store and store.active:
        return []
    return [f"datastore {action.datastore} is not there, or not started"]


def _start_store(action: StartStore, around: _Around) -> list[str]:
    there = around.facts.datastore(action.name)
    return [] if there else [f"it has no datastore {action.name}"]


def _start_network(action: StartNetwork, around: _Around) -> list[str]:
    there = any(net.name == action.name for net in around.facts.networks)
    return [] if there else [f"it has no network {action.name}"]


def _passwords(action: RefusePasswords, around: _Around) -> list[str]:
    put = any(isinstance(other, AddKey) and other.host == action.host for other in around.along)
    return [] if put or around.by_key else ["the login uses a password; put a key first"]


def _new_store(name: str, facts: Facts, path: str = "", shared: str = "") -> list[str]:
    there = facts.datastore(name)
    if (
        there is None
        or (path and there.path.rstrip("/") == path.rstrip("/"))
        or (shared and there.shared == shared)
        or (not path and not shared)
    ):
        return []
    return [f"it has a datastore {name} already, at {there.path}"]


def _carry(action: CarryNetwork, around: _Around) -> list[str]:
    facts, address = around.facts, around.address
    uplink = next((one for one in facts.interfaces if one.name == action.uplink), None)
    found = []
    if uplink is None:
        return [f"it has no interface {action.uplink}"]
    if not uplink.link:
        found.append(f"{action.uplink} has no link")
    if action.vlan is None and (uplink.addresses or uplink.master):
        found.append(
            f"{action.uplink} carries "
            + (
                f"{', '.join(uplink.addresses)} itself"
                if uplink.addresses
                else f"{uplink.master} already"
            )
            + "; taking the whole of it would cut that off: use a VLAN"
        )
    if len(action.port) > 15:
        found.append(f"{action.port} is longer than an interface's name may be (15)")
    if uplink.mtu and action.mtu > uplink.mtu:
        found.append(f"{action.uplink} passes packets of {uplink.mtu} at most, not {action.mtu}")
    port = next((one for one in facts.interfaces if one.name == action.port), None)
    so_already = (
        port is not None
        and port.master == action.bridge
        and any(
            net.name == action.network and net.bridge == action.bridge for net in facts.networks
        )
    )
    made = [
        one.name
        for one in facts.interfaces
        if one.name == action.bridge or (action.vlan is not None and one.name == action.port)
    ]
    if made and not so_already:
        found.append(
            f"it has {', '.join(made)} already, and another way; choose another name for the"
            " bridge, or put that in order first"
        )
    if action.address is not None and str(action.address.ip) == address:
        found.append(f"{action.address.ip} is the address we reach it by")
    if not facts.network_setup:
        found.append(
            "it keeps its networks neither by systemd-networkd nor by ifupdown, so the bridge would"
            " be gone after the next start"
        )
    elif facts.network_setup != action.setup:
        found.append(f"it keeps its networks by {facts.network_setup}")
    return found


def _rename(action: RenameStore, around: _Around) -> list[str]:
    facts = around.facts
    if facts.datastore(action.to) is not None and facts.datastore(action.name) is None:
        return []  # it is called so already
    store = facts.datastore(action.name)
    if store is None:
        return [f"it has no datastore {action.name}"]
    if store.kind not in ("dir", "netfs"):
        return [
            f"{action.name} has its own disk or is of a kind ({store.kind}) that cannot be"
            " defined again from the facts"
        ]
    users = [
        guest.name
        for guest in facts.guests
        if any(disk.startswith(f"{action.name}/") for disk in guest.disks)
    ]
    found = [f"VMs use it by name: {', '.join(users[:4])}"] if users else []
    return found + (
        [f"it has a datastore {action.to} already"] if facts.datastore(action.to) else []
    )


def bridge_for(network: str) -> str:
    """A bridge's name for a network: at most 15 letters."""
    return f"br-{re.sub(r'[^A-Za-z0-9._-]', '-', network)}"[:15].rstrip("-.")


_AGAINST: dict[type[_Action], Callable[[Any, _Around], list[str]]] = {
    WipeDisk: _wipe,
    RemoveVm: _remove_vm,
    DiskStore: _on_disk,
    FolderStore: _in_folder,
    NfsStore: _from_server,
    CarryNetwork: _carry,
    IsolatedNetwork: _isolated,
    RenameStore: _rename,
    FencingVolume: _fence,
    StartStore: _start_store,
    StartNetwork: _start_network,
    RefusePasswords: _passwords,
}
"""Why an action of a kind may not be done; kinds that are not here always may."""
