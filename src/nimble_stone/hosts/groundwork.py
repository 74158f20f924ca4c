"""The exact commands of groundwork: what is shown beforehand is what is sent. Pure text.

What we make carries our mark: lines and files end or begin with `nimble-stone:RUN`; networks and
datastores have a UUID made of the run.
"""

from __future__ import annotations

import uuid
from collections.abc import Collection
from dataclasses import dataclass
from enum import StrEnum
from shlex import quote

from lxml import etree

from nimble_stone.core import groundwork as g
from nimble_stone.core.errors import Conflict
from nimble_stone.core.estate import Datastore
from nimble_stone.hosts.commands import limited, virsh

SPACE = uuid.uuid5(uuid.NAMESPACE_URL, "urn:nimble-stone:mark")
KEYS = "~/.ssh/authorized_keys"
HOSTS = "/etc/hosts"
TIME = "/etc/chrony/sources.d/nimble-stone.sources"
SSHD = "/etc/ssh/sshd_config.d/20-nimble-stone.conf"
IMAGES = "/var/lib/libvirt/images"


@dataclass(frozen=True)
class Cmd:
    """A command and its standard input. `fine`: words of a failure that means it is so already."""

    text: str
    data: str = ""
    fine: tuple[str, ...] = ()

    @property
    def shown(self) -> str:
        """As a person can paste it into a terminal."""
        return self.text + (f" <<'END'\n{self.data.rstrip()}\nEND" if self.data else "")


class Op(StrEnum):
    """What an operation does. The engine speaks of operations by these names, never of places."""

    FORMAT_DISK = "format-disk"
    DEFINE_POOL = "define-pool"
    BUILD_BRIDGE = "build-bridge"
    DEFINE_NETWORK = "define-network"
    CHANGE = "change"


_BEFORE = {Op.DEFINE_POOL: Op.FORMAT_DISK, Op.DEFINE_NETWORK: Op.BUILD_BRIDGE}
"""What rests on what: the second comes first where both are there."""


@dataclass(frozen=True)
class Operation:
    """What is sent to do one thing, and what is sent to take it back."""

    name: Op
    act: tuple[Cmd, ...]
    undo: tuple[Cmd, ...] = ()


@dataclass(frozen=True)
class Work:
    """The operations of an action, in their order; they are taken back in the opposite one. `files`
    are written whole, and are this run's by their first line. Raises ValueError for an order that
    cannot be.
    """

    operations: tuple[Operation, ...]
    files: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        names = [operation.name for operation in self.operations]
        if len(set(names)) != len(names):
            raise ValueError("an operation stands twice in one piece of work")
        for later, earlier in _BEFORE.items():
            if {later, earlier} <= set(names) and names.index(later) < names.index(earlier):
                raise ValueError(f"{later} cannot come before {earlier}")

    def act(self, without: Collection[Op] = ()) -> tuple[Cmd, ...]:
        """What is sent to do it, without operations that are done already."""
        return tuple(
            command
            for operation in self.operations
            if operation.name not in without
            for command in operation.act
        )

    def undo(self, only: Collection[Op] = tuple(Op)) -> tuple[Cmd, ...]:
        """What is sent to take it back, of the operations that are named."""
        return tuple(
            command
            for operation in reversed(self.operations)
            if operation.name in only
            for command in operation.undo
        )


def _change(act: tuple[Cmd, ...], undo: tuple[Cmd, ...] = (), files: tuple[str, ...] = ()) -> Work:
    """Work that is one operation."""
    return Work((Operation(Op.CHANGE, act, undo),), files)


def mark(run: str) -> str:
    """The mark of a run, as it stands in lines and files."""
    return f"nimble-stone:{run}"


def first_line(run: str) -> str:
    """What a file of ours begins with."""
    return f"# {mark(run)}\n"


def format_disk(device: str, ident: str) -> Cmd:
    """An ext4 file system with our mark for its UUID. It does not ask: whoever sends it has looked
    right before.
    """
    return Cmd(limited(f"/usr/sbin/mkfs.ext4 -q -U {ident} {quote(device)}", 900))


def probe_disk(device: str) -> str:
    """What is really on a device, read from it and not from what the system remembers; status 2
    when there is nothing.
    """
    return limited(f"/usr/sbin/blkid -p -o export {quote(device)}", 20)


def uuid_of(run: str, host: str, kind: str, name: str) -> str:
    """The UUID that marks a network or datastore as made by a run."""
    return str(uuid.uuid5(SPACE, f"{run}/{host}/{kind}/{name}"))


def network_xml(name: str, bridge: str, ident: str, *, isolated: bool) -> str:
    """A libvirt network on a bridge: libvirt's own bridge when isolated, the host's otherwise."""
    root = etree.Element("network")
    etree.SubElement(root, "name").text = name
    etree.SubElement(root, "uuid").text = ident
    if isolated:
        etree.SubElement(root, "bridge", name=bridge, stp="off")
    else:
        etree.SubElement(root, "forward", mode="bridge")
        etree.SubElement(root, "bridge", name=bridge)
    return _text(root)


def pool_xml(
    name: str,
    ident: str,
    kind: str,
    path: str,
    *,
    device: str = "",
    server: str = "",
    export: str = "",
) -> str:
    """A libvirt storage pool: a folder, a disk that is mounted, or an NFS export."""
    root = etree.Element("pool", type=kind)
    etree.SubElement(root, "name").text = name
    etree.SubElement(root, "uuid").text = ident
    if kind == "fs":
        source = etree.SubElement(root, "source")
        etree.SubElement(source, "device", path=device)
        etree.SubElement(source, "format", type="ext4")
    elif kind == "netfs":
        source = etree.SubElement(root, "source")
        etree.SubElement(source, "host", name=server)
        etree.SubElement(source, "dir", path=export)
        etree.SubElement(source, "format", type="nfs")
    target = etree.SubElement(root, "target")
    etree.SubElement(target, "path").text = path
    return _text(root)


def _text(root: etree._Element) -> str:
    return etree.tostring(root, pretty_print=True, encoding="unicode")


def tee(path: str, text: str, *, append: bool = False) -> Cmd:
    """Write or lengthen a file."""
    return Cmd(
        limited(
            f"tee {'-a ' if append else ''}{path if path.startswith('~') else quote(path)}", 10
        ),
        text,
    )


def without_mark(path: str, run: str) -> Cmd:
    """Take our lines out of a file."""
    return Cmd(limited(f"sed -i '/ {mark(run)}$/d' {path}", 10), fine=("No such file",))


def remove(*paths: str) -> Cmd:
    """Remove files that bear our mark."""
    return Cmd(limited(f"rm -f {' '.join(quote(path) for path in paths)}", 10))


def work(action: g.Action, run: str, before: Datastore | None = None) -> Work:
    """The commands of an action. `before`: the datastore that is renamed, as it was read. Raises
    Conflict where that is missing.
    """
    match action:
        case g.AddKey():
            return _change(
                (
                    Cmd(limited("mkdir -p -m 700 ~/.ssh", 10)),
                    tee(KEYS, f"{action.public} {mark(run)}\n", append=True),
                ),
                (without_mark(KEYS, run),),
            )
        case g.AddNames():
            lines = "".join(
                f"{record.address} {' '.join(record.names)} # {mark(run)}\n"
                for record in action.records
            )
            return _change((tee(HOSTS, lines, append=True),), (without_mark(HOSTS, run),))
        case g.IsolatedNetwork():
            xml = network_xml(
                action.name,
                action.bridge,
                uuid_of(run, action.host, "network", action.name),
                isolated=True,
            )
            return Work((_network(action.name, xml),))
        case g.CarryNetwork():
            return _carry(action, run)
        case g.FolderStore():
            xml = pool_xml(
                action.name, uuid_of(run, action.host, "pool", action.name), "dir", action.path
            )
            return Work((_pool(action.name, xml),))
        case g.DiskStore():
            # The file system's UUID is our mark, and the pool names the disk by it: letters of
            # disks change from one start to the next.
            ident = uuid_of(run, action.host, "disk", action.name)
            xml = pool_xml(
                action.name,
                uuid_of(run, action.host, "pool", action.name),
                "fs",
                f"{IMAGES}/{action.name}",
                device=f"/dev/disk/by-uuid/{ident}",
            )
            return Work(
                (
                    Operation(
                        Op.FORMAT_DISK,
                        (format_disk(action.device, ident),),
                        (Cmd(limited(f"wipefs --all {quote(action.device)}", 30)),),
                    ),
                    _pool(action.name, xml, delete=False),
                )
            )
        case g.NfsStore():
            xml = pool_xml(
                action.name,
                uuid_of(run, action.host, "pool", action.name),
                "netfs",
                f"{IMAGES}/{action.name}",
                server=action.server,
                export=action.export,
            )
            return Work((_pool(action.name, xml, delete=False),))
        case g.FencingVolume():
            volume = (
                f"<volume>\n  <name>{fence(action)}</name>\n  <capacity"
                f' unit="bytes">{g.FENCE_BYTES}</capacity>\n  <allocation'
                f' unit="bytes">{g.FENCE_BYTES}</allocation>\n  <target><format'
                ' type="raw"/></target>\n</volume>\n'
            )
            return _change(
                (
                    Cmd(
                        virsh("vol-create", action.datastore, "/dev/stdin"),
                        volume,
                        ("exists already",),
                    ),
                ),
                (Cmd(virsh("vol-delete", "--pool", action.datastore, fence(action))),),
            )
        case g.WipeDisk():
            return _change(
                (
                    Cmd(
                        limited(
                            "wipefs --all"
                            f" {' '.join(quote(path) for path in (*action.parts, action.device))}",
                            60,
                        )
                    ),
                )
            )
        case g.RenameStore():
            return _rename(action, before)
        case g.StartStore():
            return _change(
                (
                    Cmd(virsh("pool-start", action.name), fine=("already active",)),
                    Cmd(virsh("pool-autostart", action.name)),
                ),
                (
                    Cmd(virsh("pool-autostart", action.name, "--disable")),
                    Cmd(virsh("pool-destroy", action.name), fine=("not active",)),
                ),
            )
        case g.StartNetwork():
            return _change(
                (
                    Cmd(virsh("net-start", action.name), fine=("already active",)),
                    Cmd(virsh("net-autostart", action.name)),
                ),
                (
                    Cmd(virsh("net-autostart", action.name, "--disable")),
                    Cmd(virsh("net-destroy", action.name), fine=("not active",)),
                ),
            )
        case g.TimeSource():
            reload = Cmd(limited("chronyc reload sources", 10))
            return _change(
                (tee(TIME, f"{first_line(run)}server {action.server} iburst\n"), reload),
                (remove(TIME), reload),
                (TIME,),
            )
        case g.RefusePasswords():
            reload = Cmd(limited("systemctl reload ssh", 20))
            return _change(
                (
                    tee(SSHD, f"{first_line(run)}PasswordAuthentication no\n"),
                    Cmd(limited("/usr/sbin/sshd -t", 10)),
                    reload,
                ),
                (remove(SSHD), reload),
                (SSHD,),
            )


def fence(action: g.FencingVolume) -> str:
    """The fencing volume's name: it carries our mark, as all volumes of ours do."""
    return f"ns-{action.name}"


def _network(name: str, xml: str) -> Operation:
    return Operation(
        Op.DEFINE_NETWORK,
        (
            Cmd(virsh("net-define", "/dev/stdin"), xml, ("already exists",)),
            Cmd(virsh("net-autostart", name)),
            Cmd(virsh("net-start", name), fine=("already active",)),
        ),
        (
            Cmd(virsh("net-destroy", name), fine=("not active",)),
            Cmd(virsh("net-undefine", name)),
        ),
    )


def _pool(name: str, xml: str, *, delete: bool = True) -> Operation:
    gone = (Cmd(virsh("pool-delete", name), fine=("No such file",)),) if delete else ()
    return Operation(
        Op.DEFINE_POOL,
        (
            Cmd(virsh("pool-define", "/dev/stdin"), xml, ("already exists",)),
            Cmd(virsh("pool-build", name), fine=("already active",)),
            Cmd(virsh("pool-start", name, seconds=60), fine=("already active",)),
            Cmd(virsh("pool-autostart", name)),
        ),
        (
            Cmd(virsh("pool-destroy", name), fine=("not active",)),
            *gone,
            Cmd(virsh("pool-undefine", name)),
        ),
    )


def _rename(action: g.RenameStore, before: Datastore | None) -> Work:
    if before is None:
        raise Conflict(
            f"datastore {action.name} of {action.host} was not read",
            code="not-read",
            hint="Read the host again.",
        )
    server, _, export = before.shared.partition(":")
    kind = before.kind if before.kind in ("dir", "netfs") else "dir"

    def called(old: str, new: str) -> tuple[Cmd, ...]:
        xml = pool_xml(new, before.uuid, kind, before.path, server=server, export=export)
        return (
            Cmd(virsh("pool-destroy", old), fine=("not active", "not found")),
            Cmd(virsh("pool-undefine", old), fine=("not found",)),
            Cmd(virsh("pool-define", "/dev/stdin"), xml),
            Cmd(virsh("pool-start", new, seconds=60), fine=("already active",)),
            Cmd(virsh("pool-autostart", new)),
        )

    return _change(called(action.name, action.to), called(action.to, action.name))


def carry_files(action: g.CarryNetwork, run: str) -> dict[str, str]:
    """The files that make the bridge come back after a start: path → text, ours by their first
    line.
    """
    first = first_line(run)
    if action.setup == "ifupdown":
        text = first
        if action.vlan:
            text += (
                f"auto {action.port}\niface {action.port} inet manual\n    vlan-raw-device"
                f" {action.uplink}\n    mtu {action.mtu}\n\n"
            )
        text += (
            f"auto {action.bridge}\niface {action.bridge} inet"
            f" {'static' if action.address else 'manual'}\n"
        )
        text += f"    address {action.address}\n" if action.address else ""
        text += (
            f"    bridge_ports {action.port}\n    bridge_stp off\n    bridge_fd 0\n    mtu"
            f" {action.mtu}\n"
        )
        return {f"/etc/network/interfaces.d/nimble-stone-{action.bridge}": text}
    at = "/etc/systemd/network/40-nimble-stone-"
    files = {
        f"{at}{action.bridge}.netdev": (
            f"{first}[NetDev]\nName={action.bridge}\nKind=bridge\nMTUBytes={action.mtu}\n"
        ),
        f"{at}{action.bridge}.network": (
            f"{first}[Match]\nName={action.bridge}\n\n[Network]\nLinkLocalAddressing=no\n"
            + (f"Address={action.address}\n" if action.address else "")
        ),
    }
    if action.vlan:
        files[f"{at}{action.port}.netdev"] = (
            f"{first}[NetDev]\nName={action.port}\nKind=vlan\nMTUBytes={action.mtu}\n\n"
            f"[VLAN]\nId={action.vlan}\n"
        )
        files[f"{at}{action.port}.network"] = (
            f"{first}[Match]\nName={action.port}\n\n"
            f"[Network]\nBridge={action.bridge}\nLinkLocalAddressing=no\n"
        )
        # a drop-in leaves the file that configures the uplink as it is
        if action.uplink_config:
            name = action.uplink_config.rsplit("/", 1)[-1]
            files[f"/etc/systemd/network/{name}.d/nimble-stone-{action.vlan}.conf"] = (
                f"{first}[Network]\nVLAN={action.port}\n"
            )
        else:
            own = (
                f"{first}[Match]\nName={action.uplink}\n\n"
                f"[Network]\nVLAN={action.port}\nLinkLocalAddressing=no\n"
            )
            files[f"{at}{action.uplink}-{action.vlan}.network"] = own
    else:
        files[f"{at}{action.uplink}.network"] = (
            f"{first}[Match]\nName={action.uplink}\n\n"
            f"[Network]\nBridge={action.bridge}\nLinkLocalAddressing=no\n"
        )
    return files


def _carry(action: g.CarryNetwork, run: str) -> Work:
    files = carry_files(action, run)
    folders = sorted(
        {path.rpartition("/")[0] for path in files if path.rpartition("/")[0].endswith(".d")}
    )
    made = [Cmd(limited(f"mkdir -p {quote(folder)}", 10)) for folder in folders] + [
        tee(path, text) for path, text in files.items()
    ]
    ports = [action.port] if action.vlan else []
    if action.setup == "ifupdown":
        up = Cmd(limited(f"ifup {' '.join([*ports, action.bridge])}", 60))
        reload: tuple[Cmd, ...] = ()
        down: tuple[Cmd, ...] = (Cmd(limited(f"ifdown {' '.join([action.bridge, *ports])}", 60)),)
    else:
        up = Cmd(limited("networkctl reload", 30))
        down, reload = (
            tuple(
                Cmd(limited(f"ip link delete {quote(name)}", 10), fine=("Cannot find device",))
                for name in [action.bridge, *ports]
            ),
            (up,),
        )
    # The files go last: as long as they bear the mark, the interfaces are this run's.
    xml = network_xml(
        action.network,
        action.bridge,
        uuid_of(run, action.host, "network", action.network),
        isolated=False,
    )
    bridge = Operation(Op.BUILD_BRIDGE, (*made, up), (*down, remove(*files), *reload))
    return Work((bridge, _network(action.network, xml)), tuple(files))
