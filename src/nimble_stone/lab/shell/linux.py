"""The Linux tools of a stand-in host: what they print is made from its ground, what they change is
kept there.
"""

from __future__ import annotations

import json
import re
import time
import uuid as uuids
from collections.abc import Callable
from dataclasses import dataclass
from ipaddress import ip_interface
from typing import Any, Protocol

from nimble_stone.core.units import GIB
from nimble_stone.lab.hypervisor.ground import LabDisk, LabLink
from nimble_stone.lab.hypervisor.state import LabHost


class Stdin(Protocol):
    """The command's standard input."""

    async def read(self, size: int = -1) -> bytes: ...


@dataclass
class Out:
    """Exit code and outputs."""

    status: int = 0
    out: bytes = b""
    err: str = ""


async def all_of(stdin: Stdin) -> bytes:
    """Everything on standard input, at most 1 MiB."""
    data = b""
    while piece := await stdin.read(1 << 16):
        data += piece
        if len(data) > 1 << 20:
            raise ValueError("document too large")
    return data


class Linux:
    """The tools. `peers` finds a host of the lab by any of its addresses."""

    def __init__(
        self,
        host: LabHost,
        peers: Callable[[str], LabHost | None],
        account: str = "root",
        volumes: Callable[[str], list[str]] = lambda _: [],
    ) -> None:
        self.host, self.peers, self.account, self.volumes = host, peers, account, volumes

    @property
    def _odd(self) -> dict[str, Any]:
        return self.host.plan.odd

    def denied(self, path: str) -> Out:
        """What somebody without the right is told."""
        return Out(1, b"", f"{path}: Permission denied")

    # --- telling ---

    async def head(self, words: list[str], stdin: Stdin) -> Out:
        """`head -v FILE…`"""
        memory, swap = self.host.plan.memory_bytes >> 10, 8 * GIB >> 10
        made = {
            "/proc/uptime": f"{self._uptime():.2f} 1.00",
            "/proc/loadavg": "0.72 0.60 0.51 2/901 4242",
            "/proc/sys/kernel/osrelease": "6.1.0-26-amd64",
            "/proc/meminfo": (
                f"MemTotal:       {memory} kB\nMemAvailable:   {memory // 2} kB\nSwapTotal:     "
                f" {swap} kB\nSwapFree:       {swap - (self._odd.get('swap_used', 0) >> 10)} kB"
            ),
        }
        parts, missing = [], []
        for path in [word for word in words if word.startswith("/")]:
            text = made.get(path, self.host.ground.files.get(path))
            if text is None:
                missing.append(f"head: cannot open '{path}' for reading: No such file or directory")
            else:
                parts.append(f"==> {path} <==\n{text.rstrip()}\n")
        return Out(1 if missing else 0, "\n".join(parts).encode(), "\n".join(missing))

    def _uptime(self) -> float:
        return 1_900_000.0 + sum(map(ord, self.host.plan.name)) * 1000 % 900_000

    async def ip(self, words: list[str], stdin: Stdin) -> Out:
        """`ip -j -d addr`"""
        return Out(
            0,
            json.dumps(
                [
                    self._link(number, link)
                    for number, link in enumerate(self.host.ground.links.values(), 1)
                ]
            ).encode(),
        )

    def _link(self, number: int, link: LabLink) -> dict[str, Any]:
        flags = ["BROADCAST", "UP", "LOWER_UP"]
        if link.kind == "loopback":
            flags = ["LOOPBACK", "UP", "LOWER_UP"]
        elif not link.up:
            flags = ["NO-CARRIER", "BROADCAST", "UP"]
        item: dict[str, Any] = {
            "ifindex": number,
            "ifname": link.name,
            "flags": flags,
            "mtu": link.mtu,
            "operstate": "UP" if link.up else "DOWN",
            "address": link.mac,
            "addr_info": [],
        }
        for address in link.addresses:
            one = ip_interface(address)
            item["addr_info"].append(
                {
                    "family": "inet",
                    "local": str(one.ip),
                    "prefixlen": one.network.prefixlen,
                    "scope": "host" if link.kind == "loopback" else "global",
                }
            )
        if link.kind and link.kind != "loopback":
            item["linkinfo"] = {"info_kind": link.kind} | (
                {"info_data": {"protocol": "802.1Q", "id": link.vlan}} if link.vlan else {}
            )
        return (
            item
            | ({"master": link.master} if link.master else {})
            | ({"link": link.parent} if link.parent else {})
        )

    async def grep(self, words: list[str], stdin: Stdin) -> Out:
        """`grep -s . /sys/class/net/*/speed`"""
        lines = [
            f"/sys/class/net/{link.name}/speed:{link.speed if link.up else -1}"
            for link in self.host.ground.links.values()
            if link.speed or not link.up
        ]
        return Out(0, "\n".join(lines).encode())

    async def lscpu(self, words: list[str], stdin: Stdin) -> Out:
        """`lscpu -J`"""
        sockets = 2
        fields = {
            "Architecture:": "x86_64",
            "CPU(s):": self.host.plan.threads,
            "Model name:": (
                "Holm Menhir 18 at 2.5 GHz"
                if self.host.knobs.older
                else "Holm Menhir 24 at 2.9 GHz"
            ),
            "Thread(s) per core:": 2,
            "Core(s) per socket:": self.host.plan.threads // sockets // 2,
            "Socket(s):": sockets,
        } | (
            {}
            if self._odd.get("no_vt") or self.host.knobs.emulation
            else {"Virtualization:": "VT-x"}
        )
        return Out(
            0,
            json.dumps(
                {"lscpu": [{"field": key, "data": str(value)} for key, value in fields.items()]}
            ).encode(),
        )

    async def lsblk(self, words: list[str], stdin: Stdin) -> Out:
        """`lsblk -J -b -o …`"""

        def told(item: dict[str, Any]) -> dict[str, Any]:
            name = item["name"]
            found: dict[str, Any] = {
                "name": name,
                "path": f"/dev/mapper/{name}" if item.get("kind") == "lvm" else f"/dev/{name}",
                "type": item.get("kind", "disk"),
                "size": item["size"],
                "rota": item.get("rota", False),
                "ro": False,
                "rm": False,
                "model": item.get("model") or None,
                "serial": item.get("serial") or None,
                "tran": item.get("tran") or None,
                "fstype": item.get("fstype") or None,
                "label": item.get("label") or None,
                "mountpoints": [item.get("mount") or None],
                "pttype": item.get("pttype") or None,
            }
            return found | (
                {"children": [told(child) for child in item["children"]]}
                if item.get("children")
                else {}
            )

        return Out(
            0,
            json.dumps(
                {"blockdevices": [told(disk.__dict__) for disk in self.host.ground.disks.values()]}
            ).encode(),
        )

    async def findmnt(self, words: list[str], stdin: Stdin) -> Out:
        """`findmnt -J -l`"""
        mounts = [{"target": "/", "source": "/dev/mapper/vg0-root", "fstype": "ext4"}]
        for store in self.host.ground.stores.values():
            if store.active and store.kind in ("netfs", "fs"):
                mounts.append(
                    {
                        "target": store.path,
                        "source": store.shared or store.device,
                        "fstype": "nfs4" if store.shared else "ext4",
                    }
                )
        return Out(0, json.dumps({"filesystems": mounts}).encode())

    async def date(self, words: list[str], stdin: Stdin) -> Out:
        """`date +%s.%N`"""
        now = time.time() + self.host.knobs.clock_s
        if not self._time():
            now += self._odd.get("clock_s", 0.0)
        return Out(
            0,
            f"{now:.9f}".encode(),
        )

    def _time(self) -> str:
        """The time server it follows: the first of its sources, '' without any."""
        return next(iter(self._sources()), "")

    def _sources(self) -> list[str]:
        return [
            server
            for path, text in sorted(self.host.ground.files.items())
            if path.startswith("/etc/chrony/sources.d/")
            for server in re.findall(r"^server (\S+)", text, re.MULTILINE)
        ]

    async def chronyc(self, words: list[str], stdin: Stdin) -> Out:
        """`chronyc -c tracking`, `chronyc -c -N sources`, `chronyc reload sources`"""
        server = self._time()
        if "tracking" in words:
            follows = (
                f"0A2C0005,{server},3,1700000000.0,0.000013,0.00001,0.00002,"
                "1.2,0.0,0.01,0.001,0.002,64.2,Normal"
            )
            return Out(
                0,
                (
                    follows
                    if server
                    else "00000000,,0,0.0,0.0,0.0,0.0,0.0,0.0,0.0,1.0,1.0,0.0,Not synchronised"
                ).encode(),
            )
        if "sources" in words and "-c" in words:
            return Out(
                0,
                "\n".join(
                    f"^,{'*' if one == server else '+'},{one},2,6,377,20,0.00001,0.00002,0.0003"
                    for one in self._sources()
                ).encode(),
            )
        return Out(0, b"200 OK")

    async def sshd(self, words: list[str], stdin: Stdin) -> Out:
        """`sshd -T`, `sshd -t`"""
        if self.account != "root":
            return Out(1, b"", "sshd: no hostkeys available -- exiting.")
        refused = any(
            "PasswordAuthentication no" in text
            for path, text in self.host.ground.files.items()
            if path.startswith("/etc/ssh/sshd_config.d/")
        )
        if "-T" not in words:
            return Out(0, b"")
        takes = "no" if refused else "yes"
        return Out(0, f"port 22\npermitrootlogin yes\npasswordauthentication {takes}\n".encode())

    async def ls(self, words: list[str], stdin: Stdin) -> Out:
        """`ls -d` of the two ways to set networks up, `ls -A` of a datastore's folder."""
        if "-A" in words:
            return Out(0, "\n".join(self.volumes(words[-1])).encode())
        there = (
            "/etc/network/interfaces.d"
            if self._odd.get("setup") == "ifupdown"
            else "/run/systemd/netif"
        )
        return Out(
            2, f"{there}\n".encode(), "ls: cannot access the other one: No such file or directory"
        )

    def _reverse(self, address: str) -> Out:
        for line in self.host.ground.files.get("/etc/hosts", "").splitlines():
            known = line.split("#")[0].split()
            if known[:1] == [address] and len(known) > 1:
                return Out(0, f"{address:15} {' '.join(known[1:])}\n".encode())
        return Out(2)

    async def getent(self, words: list[str], stdin: Stdin) -> Out:
        """`getent hosts ADDRESS`, or `getent ahostsv4 NAME…`: the hosts file first, then the site's
        name server, which knows all hosts of the lab but a forgetful host's peers.
        """
        if words[:1] == ["hosts"]:
            return self._reverse(words[-1])
        lines, lost = [], False
        for name in words[1:]:
            own = next(
                (
                    line
                    for line in self.host.ground.files.get("/etc/hosts", "").splitlines()
                    if name in line.split("#")[0].split()[1:]
                ),
                "",
            )
            served = self.peers(name)
            if own:
                address, canonical = own.split("#")[0].split()[:2]
                lines += [
                    f"{address:15} STREAM {canonical}",
                    f"{address:15} DGRAM",
                    f"{address:15} RAW",
                ]
            elif served is not None and not self._odd.get("forgetful"):
                lines += [
                    (
                        f"{served.plan.address:15} STREAM"
                        f" {served.plan.name}.{served.plan.site.lower()}.holm.example"
                    ),
                    f"{served.plan.address:15} DGRAM",
                ]
            else:
                lost = True
        return Out(2 if lost else 0, "\n".join(lines).encode())

    async def ping(self, words: list[str], stdin: Stdin) -> Out | None:
        """A ping among hosts: None when the address is none of theirs."""
        peer = self.peers(words[-1])
        if peer is None:
            return None
        size = int(words[words.index("-s") + 1]) + 28 if "-s" in words else 84
        theirs = next(
            (
                link
                for link in peer.ground.links.values()
                if any(a.split("/")[0] == words[-1] for a in link.addresses)
            ),
            None,
        )
        ours = next(
            (
                link
                for link in self.host.ground.links.values()
                if theirs
                and any(
                    ip_interface(a).network == ip_interface(b).network
                    for a in link.addresses
                    for b in theirs.addresses
                )
            ),
            None,
        )
        if ours is not None and size > ours.mtu:
            return Out(1, b"", f"ping: local error: message too long, mtu={ours.mtu}")
        narrow = min(
            (host.knobs.narrow for host in (self.host, peer) if host.knobs.narrow), default=65536
        )
        if peer.knobs.unreachable or theirs is None or size > min(theirs.mtu, narrow):
            return Out(1, b"1 packets transmitted, 0 received, 100% packet loss")
        return Out(
            0, f"{size - 20} bytes from {words[-1]}: icmp_seq=1 ttl=64 time=0.2 ms\n".encode()
        )

    async def id(self, words: list[str], stdin: Stdin) -> Out:
        """`id -u`"""
        return Out(0, b"0" if self.account == "root" else b"1001")

    async def test(self, words: list[str], stdin: Stdin) -> Out:
        """`test -w PATH`: root may write everywhere, others nowhere we ask."""
        return Out(0 if self.account == "root" else 1)

    async def networkctl(self, words: list[str], stdin: Stdin) -> Out:
        """`networkctl --json=short list`, `networkctl reload`"""
        if "reload" in words:
            return self._apply_networkd()
        if self._odd.get("setup") == "ifupdown":
            return Out(1, b"", "systemd-networkd is not running, output might be incomplete.")
        return Out(
            0,
            json.dumps(
                {
                    "Interfaces": [
                        {
                            "Name": link.name,
                            "NetworkFile": f"/etc/systemd/network/10-{link.name}.network",
                        }
                        for link in self.host.ground.links.values()
                        if link.kind != "loopback"
                    ]
                }
            ).encode(),
        )

    # --- changing ---

    async def tee(self, words: list[str], stdin: Stdin) -> Out:
        """`tee [-a] FILE`"""
        path = _home(words[-1])
        if self.account != "root":
            return self.denied(f"tee: {path}")
        text = (await all_of(stdin)).decode()
        files = self.host.ground.files
        files[path] = files.get(path, "") + text if "-a" in words else text
        self.host.note(f"wrote {path}")
        return Out(0, text.encode())

    async def rm(self, words: list[str], stdin: Stdin) -> Out:
        """`rm -f FILE…`"""
        if self.account != "root":
            return self.denied("rm")
        for path in [_home(word) for word in words if not word.startswith("-")]:
            if self.host.ground.files.pop(path, None) is not None:
                self.host.note(f"removed {path}")
        return Out()

    async def mkdir(self, words: list[str], stdin: Stdin) -> Out:
        """Folders are not kept; files say where they are."""
        return Out() if self.account == "root" else self.denied("mkdir")

    async def sed(self, words: list[str], stdin: Stdin) -> Out:
        """`sed -i '/PATTERN$/d' FILE`"""
        path, match = _home(words[-1]), re.fullmatch(r"/(.*)/d", words[-2])
        text = self.host.ground.files.get(path)
        if text is None or match is None:
            return Out(2, b"", f"sed: can't read {path}: No such file or directory")
        kept = [line for line in text.splitlines() if not re.search(match[1], line)]
        self.host.ground.files[path] = "".join(line + "\n" for line in kept)
        self.host.note(f"edited {path}")
        return Out()

    async def systemctl(self, words: list[str], stdin: Stdin) -> Out:
        """Reloading a service."""
        return Out()

    async def wipefs(self, words: list[str], stdin: Stdin) -> Out:
        """`wipefs --all DEVICE…`"""
        if self.account != "root":
            return self.denied("wipefs: error")
        for word in [word for word in words if word.startswith("/dev/")]:
            name = word.removeprefix("/dev/")
            for disk in self.host.ground.disks.values():
                if name == disk.name and _busy(disk):
                    return Out(
                        1,
                        b"",
                        f"wipefs: error: {word}: probing initialization failed: Device or resource"
                        " busy",
                    )
                if name == disk.name:
                    disk.fstype = disk.label = disk.pttype = disk.uuid = ""
                    disk.children = []
                    self.host.note(f"wiped {word}")
                for child in disk.children:
                    if child["name"] == name:
                        child["fstype"] = child["label"] = ""
        return Out()

    async def blkid(self, words: list[str], stdin: Stdin) -> Out:
        """`blkid -p -o export DEVICE`: 2 when nothing is on it."""
        disk = self.host.ground.disks.get(words[-1].removeprefix("/dev/"))
        if disk is None:
            return Out(2, b"", f"blkid: error: {words[-1]}: No such file or directory")
        if not (disk.fstype or disk.pttype):
            return Out(2)
        lines = {
            "DEVNAME": words[-1],
            "UUID": disk.uuid,
            "LABEL": disk.label,
            "TYPE": disk.fstype,
            "PTTYPE": disk.pttype,
        }
        return Out(0, "\n".join(f"{key}={value}" for key, value in lines.items() if value).encode())

    async def mkfs(self, words: list[str], stdin: Stdin) -> Out:
        """`mkfs.ext4 -q [-U UUID] [-L LABEL] DEVICE`: like the real one, it formats over what is
        there when nobody can be asked.
        """
        disk = self.host.ground.disks.get(words[-1].removeprefix("/dev/"))
        if disk is None or self.account != "root":
            return Out(1, b"", f"mkfs.ext4: Device size reported to be zero for {words[-1]}")
        if _busy(disk):
            return Out(1, b"", f"{words[-1]} is mounted; will not make a filesystem here!")
        said = {flag: words[words.index(flag) + 1] for flag in ("-U", "-L") if flag in words}
        disk.fstype, disk.pttype, disk.children = "ext4", "", []
        disk.uuid, disk.label = said.get("-U") or str(uuids.uuid4()), said.get("-L", "")
        self.host.note(f"formatted {words[-1]}")
        return Out()

    async def ifup(self, words: list[str], stdin: Stdin) -> Out:
        """`ifup NAME…` by the stanzas in interfaces.d"""
        for path, text in self.host.ground.files.items():
            if path.startswith("/etc/network/interfaces.d/"):
                for name, body in re.findall(
                    r"^iface (\S+) inet \w+\n((?:[ \t].*\n?)*)", text, re.MULTILINE
                ):
                    if name in words:
                        options = dict(
                            line.split(None, 1)
                            for line in body.splitlines()
                            if len(line.split()) > 1
                        )
                        self.make(
                            name,
                            parent=options.get("vlan-raw-device", ""),
                            ports=options.get("bridge_ports", ""),
                            mtu=int(options.get("mtu", 1500)),
                            address=options.get("address", ""),
                        )
        return Out()

    async def ifdown(self, words: list[str], stdin: Stdin) -> Out:
        """`ifdown NAME…`"""
        for name in words:
            self.unmake(name)
        return Out()

    def _apply_networkd(self) -> Out:
        files = {
            path: text
            for path, text in self.host.ground.files.items()
            if path.startswith("/etc/systemd/network/40-nimble-stone-")
        }
        devices: dict[str, dict[str, str]] = {}
        for path, text in files.items():
            values = dict(re.findall(r"^(\w+)=(.*)$", text, re.MULTILINE))
            if path.endswith((".netdev", ".network")) and "Name" in values:
                devices.setdefault(values["Name"], {}).update(values)
        # VLANs before bridges
        for name, values in sorted(
            devices.items(), key=lambda item: item[1].get("Kind", ""), reverse=True
        ):
            if "Kind" in values:
                ports = " ".join(
                    other for other, theirs in devices.items() if theirs.get("Bridge") == name
                )
                parent = name.rpartition(".")[0] if values["Kind"] == "vlan" else ""
                self.make(
                    name,
                    parent=parent,
                    ports=ports,
                    mtu=int(values.get("MTUBytes", 1500)),
                    address=values.get("Address", ""),
                    vlan=values.get("Id", ""),
                )
        return Out()

    def make(
        self, name: str, *, parent: str, ports: str, mtu: int, address: str, vlan: str = ""
    ) -> None:
        """An interface that was not there, or another size and address for one that was."""
        links = self.host.ground.links
        number = int(vlan or name.rpartition(".")[2] or 0) if parent else 0
        if name not in links:
            links[name] = LabLink(
                name,
                "vlan" if parent else "bridge",
                f"52:54:fe:{len(links):02x}:00:01",
                mtu,
                parent=parent,
                vlan=number,
            )
            self.host.note(f"made interface {name}")
        link = links[name]
        link.mtu, link.addresses = mtu, [address] if address else link.addresses
        for port in ports.split():
            if port in links:
                links[port].master = name
        self.host.save()

    def unmake(self, name: str) -> None:
        """An interface goes, and what belonged to it is free."""
        if self.host.ground.links.pop(name, None) is not None:
            for link in self.host.ground.links.values():
                link.master = "" if link.master == name else link.master
            self.host.note(f"removed interface {name}")

    async def ip_link_delete(self, name: str) -> Out:
        """`ip link delete NAME`"""
        if name not in self.host.ground.links:
            return Out(1, b"", f'Cannot find device "{name}"')
        self.unmake(name)
        return Out()


def _home(path: str) -> str:
    return "/root" + path[1:] if path.startswith("~") else path


def _busy(disk: LabDisk) -> bool:
    def used(item: dict[str, Any]) -> bool:
        return (
            bool(item.get("mount"))
            or item.get("kind", "disk") not in ("disk", "part")
            or any(used(child) for child in item.get("children", []))
        )

    return used(disk.__dict__)


def fresh_uuid(text: str) -> str:
    """The UUID in a document, or a new one."""
    match = re.search(r"<uuid>([0-9a-fA-F-]{36})</uuid>", text)
    return match[1] if match else str(uuids.uuid4())
