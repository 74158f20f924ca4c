"""The exact commands that prepare a KVM host: what is shown beforehand is what is sent. Pure text.

What we make carries our mark: lines and files end or begin with `nimble-stone:RUN`; networks and
datastores have a UUID made of the run.
"""

from __future__ import annotations

import uuid
from collections.abc import Callable
from shlex import quote
from typing import Any

from lxml import etree

from nimble_stone.core import preparation as prep
from nimble_stone.core.errors import Conflict
from nimble_stone.core.estate import Datastore
from nimble_stone.hosts.kvm.commands import limited, virsh
from nimble_stone.hosts.work import Command, Op, Operation, Work

SPACE = uuid.uuid5(uuid.NAMESPACE_URL, "urn:nimble-stone:mark")
KEYS = "~/.ssh/authorized_keys"
HOSTS = "/etc/hosts"
TIME = "/etc/chrony/sources.d/nimble-stone.sources"
SSHD = "/etc/ssh/sshd_config.d/20-nimble-stone.conf"
IMAGES = "/var/lib/libvirt/images"


def _change(
    act: tuple[Command, ...], undo: tuple[Command, ...] = (), files: tuple[str, ...] = ()
) -> Work:
    """Work that is one operation."""
    return Work((Operation(Op.CHANGE, act, undo),), files)


def mark(run: str) -> str:
    """The mark of a run, as it stands in lines and files."""
    return f"nimble-stone:{run}"


def first_line(run: str) -> str:
    """What a file of ours begins with."""
    return f"# {mark(run)}\n"


def format_disk(device: str, ident: str) -> Command:
    """An ext4 file system with our mark for its UUID. It does not ask: whoever sends it has looked
    right before.
    """
    return Command(limited(f"/usr/sbin/mkfs.ext4 -q -U {ident} {quote(device)}", 900))


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


def _path(path: str) -> str:
    """Quoted, unless the shell is to look for the account's home."""
    return path if path.startswith("~") else quote(path)


def write(path: str, text: str) -> Command:
    """Write a file whole."""
    return Command(limited(f"tee {_path(path)}", 10), text)


def append(path: str, text: str) -> Command:
    """Lengthen a file by lines."""
    return Command(limited(f"tee -a {_path(path)}", 10), text, appends_to=path)


def without_mark(path: str, run: str) -> Command:
    """Take our lines out of a file."""
    return Command(limited(f"sed -i '/ {mark(run)}$/d' {path}", 10), fine=("No such file",))


def remove(*paths: str) -> Command:
    """Remove files that bear our mark."""
    return Command(limited(f"rm -f {' '.join(quote(path) for path in paths)}", 10))


def work(action: prep.Action, run: str, before: Datastore | None = None) -> Work:
    """The operations of an action. `before`: the datastore that is renamed, as it was read. Raises
    Conflict where that is missing.
    """
    if isinstance(action, prep.RenameStore):
        return _rename(action, before)
    return _WORK[type(action)](action, run)


def _key(action: prep.AddKey, run: str) -> Work:
    return _change(
        (
            Command(limited("mkdir -p -m 700 ~/.ssh", 10)),
            append(KEYS, f"{action.public} {mark(run)}\n"),
        ),
        (without_mark(KEYS, run),),
    )


def _names(action: prep.AddNames, run: str) -> Work:
    lines = "".join(
        f"{record.address} {' '.join(record.names)} # {mark(run)}\n" for record in action.records
    )
    return _change((append(HOSTS, lines),), (without_mark(HOSTS, run),))


def _isolated(action: prep.IsolatedNetwork, run: str) -> Work:
    xml = network_xml(
        action.name,
        action.bridge,
        uuid_of(run, action.host, "network", action.name),
        isolated=True,
    )
    return Work((_network(action.name, xml),))


def _folder_store(action: prep.FolderStore, run: str) -> Work:
    xml = pool_xml(action.name, uuid_of(run, action.host, "pool", action.name), "dir", action.path)
    return Work((_pool(action.name, xml),))


def _disk_store(action: prep.DiskStore, run: str) -> Work:
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
                (Command(limited(f"wipefs --all {quote(action.device)}", 30)),),
            ),
            _pool(action.name, xml, delete=False),
        )
    )


def _nfs_store(action: prep.NfsStore, run: str) -> Work:
    xml = pool_xml(
        action.name,
        uuid_of(run, action.host, "pool", action.name),
        "netfs",
        f"{IMAGES}/{action.name}",
        server=action.server,
        export=action.export,
    )
    return Work((_pool(action.name, xml, delete=False),))


def _fencing_volume(action: prep.FencingVolume, run: str) -> Work:
    volume = (
        f"<volume>\n  <name>{prep.fence_name(action)}</name>\n  <capacity"
        f' unit="bytes">{prep.FENCE_BYTES}</capacity>\n  <allocation'
        f' unit="bytes">{prep.FENCE_BYTES}</allocation>\n  <target><format'
        ' type="raw"/></target>\n</volume>\n'
    )
    return _change(
        (
            Command(
                virsh("vol-create", action.datastore, "/dev/stdin"),
                volume,
                ("exists already",),
            ),
        ),
        (Command(virsh("vol-delete", "--pool", action.datastore, prep.fence_name(action))),),
    )


def _wipe(action: prep.WipeDisk, run: str) -> Work:
    return _change(
        (
            Command(
                limited(
                    "wipefs --all"
                    f" {' '.join(quote(path) for path in (*action.parts, action.device))}",
                    60,
                )
            ),
        )
    )


GONE = "failed to get domain"
"""In the words of virsh, where there is no such VM."""


def _remove_vm(action: prep.RemoveVm, run: str) -> Work:
    volumes = (one.partition("/") for one in action.volumes)
    return _change(
        (
            # an earlier try may have been cut after any of these
            Command(virsh("destroy", action.uuid, seconds=60), fine=("is not running", GONE)),
            Command(virsh("undefine", action.uuid, "--nvram"), fine=(GONE,)),
            *(
                Command(virsh("vol-delete", "--pool", store, name), fine=("failed to get vol",))
                for store, _, name in volumes
            ),
        )
    )


def _start_store(action: prep.StartStore, run: str) -> Work:
    return _change(
        (
            Command(virsh("pool-start", action.name), fine=("already active",)),
            Command(virsh("pool-autostart", action.name)),
        ),
        (
            Command(virsh("pool-autostart", action.name, "--disable")),
            Command(virsh("pool-destroy", action.name), fine=("not active",)),
        ),
    )


def _start_network(action: prep.StartNetwork, run: str) -> Work:
    return _change(
        (
            Command(virsh("net-start", action.name), fine=("already active",)),
            Command(virsh("net-autostart", action.name)),
        ),
        (
            Command(virsh("net-autostart", action.name, "--disable")),
            Command(virsh("net-destroy", action.name), fine=("not active",)),
        ),
    )


def _time_source(action: prep.TimeSource, run: str) -> Work:
    reload = Command(limited("chronyc reload sources", 10))
    return _change(
        (write(TIME, f"{first_line(run)}server {action.server} iburst\n"), reload),
        (remove(TIME), reload),
        (TIME,),
    )


def _refuse_passwords(action: prep.RefusePasswords, run: str) -> Work:
    reload = Command(limited("systemctl reload ssh", 20))
    return _change(
        (
            write(SSHD, f"{first_line(run)}PasswordAuthentication no\n"),
            Command(limited("/usr/sbin/sshd -t", 10)),
            reload,
        ),
        (remove(SSHD), reload),
        (SSHD,),
    )


def store_path(action: prep.Action) -> str:
    """Where the datastore of an action comes to lie. Raises TypeError for other actions."""
    match action:
        case prep.FolderStore():
            return action.path.rstrip("/")
        case prep.NfsStore() | prep.DiskStore():
            return f"{IMAGES}/{action.name}"
        case _:
            raise TypeError(action.kind)


def _network(name: str, xml: str) -> Operation:
    return Operation(
        Op.DEFINE_NETWORK,
        (
            Command(virsh("net-define", "/dev/stdin"), xml, ("already exists",)),
            Command(virsh("net-autostart", name)),
            Command(virsh("net-start", name), fine=("already active",)),
        ),
        (
            Command(virsh("net-destroy", name), fine=("not active",)),
            Command(virsh("net-undefine", name)),
        ),
    )


def _pool(name: str, xml: str, *, delete: bool = True) -> Operation:
    gone = (Command(virsh("pool-delete", name), fine=("No such file",)),) if delete else ()
    return Operation(
        Op.DEFINE_POOL,
        (
            Command(virsh("pool-define", "/dev/stdin"), xml, ("already exists",)),
            Command(virsh("pool-build", name), fine=("already active",)),
            Command(virsh("pool-start", name, seconds=60), fine=("already active",)),
            Command(virsh("pool-autostart", name)),
        ),
        (
            Command(virsh("pool-destroy", name), fine=("not active",)),
            *gone,
            Command(virsh("pool-undefine", name)),
        ),
    )


def _rename(action: prep.RenameStore, before: Datastore | None) -> Work:
    if before is None:
        raise Conflict(
            f"datastore {action.name} of {action.host} was not read",
            code="not-read",
            hint="Refresh the host.",
        )
    server, _, export = before.shared.partition(":")
    kind = before.kind if before.kind in ("dir", "netfs") else "dir"

    def called(old: str, new: str) -> tuple[Command, ...]:
        xml = pool_xml(new, before.uuid, kind, before.path, server=server, export=export)
        return (
            Command(virsh("pool-destroy", old), fine=("not active", "not found")),
            Command(virsh("pool-undefine", old), fine=("not found",)),
            Command(virsh("pool-define", "/dev/stdin"), xml),
            Command(virsh("pool-start", new, seconds=60), fine=("already active",)),
            Command(virsh("pool-autostart", new)),
        )

    return _change(called(action.name, action.to), called(action.to, action.name))


def carry_files(action: prep.CarryNetwork, run: str) -> dict[str, str]:
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


def _carry(action: prep.CarryNetwork, run: str) -> Work:
    files = carry_files(action, run)
    folders = sorted(
        {path.rpartition("/")[0] for path in files if path.rpartition("/")[0].endswith(".d")}
    )
    made = [Command(limited(f"mkdir -p {quote(folder)}", 10)) for folder in folders] + [
        write(path, text) for path, text in files.items()
    ]
    ports = [action.port] if action.vlan else []
    if action.setup == "ifupdown":
        up = Command(limited(f"ifup {' '.join([*ports, action.bridge])}", 60))
        reload: tuple[Command, ...] = ()
        down: tuple[Command, ...] = (
            Command(limited(f"ifdown {' '.join([action.bridge, *ports])}", 60)),
        )
    else:
        up = Command(limited("networkctl reload", 30))
        down, reload = (
            tuple(
                Command(limited(f"ip link delete {quote(name)}", 10), fine=("Cannot find device",))
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


_WORK: dict[type[Any], Callable[[Any, str], Work]] = {
    prep.AddKey: _key,
    prep.AddNames: _names,
    prep.IsolatedNetwork: _isolated,
    prep.CarryNetwork: _carry,
    prep.FolderStore: _folder_store,
    prep.DiskStore: _disk_store,
    prep.NfsStore: _nfs_store,
    prep.FencingVolume: _fencing_volume,
    prep.WipeDisk: _wipe,
    prep.RemoveVm: _remove_vm,
    prep.StartStore: _start_store,
    prep.StartNetwork: _start_network,
    prep.TimeSource: _time_source,
    prep.RefusePasswords: _refuse_passwords,
}
