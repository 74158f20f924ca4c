"""The commands a stand-in host understands, and its answers: the same words, errors and exit codes
as the real ones.
"""

from __future__ import annotations

import asyncio
import hashlib
import re
import shlex
import shutil
import time
import uuid as uuids
from collections.abc import Awaitable, Callable
from pathlib import Path
from typing import Any, Protocol

import aiohttp
from lxml import etree

from nimble_stone.lab.guests import memory
from nimble_stone.lab.hypervisor.ground import IMAGES, LabDisk, LabNet, LabStore
from nimble_stone.lab.hypervisor.state import LabGuest, LabHost, LabVolume, Volumes
from nimble_stone.lab.scenario import demo
from nimble_stone.lab.shell.linux import Linux, Out, Stdin, all_of, fresh_uuid

PROCESSORS = (
    *("Nehalem", "SandyBridge", "IvyBridge", "Haswell-noTSX", "Broadwell-noTSX"),
    *("Skylake-Server", "Cascadelake-Server"),
)
OLDER = 5
"""How many of them a host with an older processor has."""


class Guests(Protocol):
    """Who boots and stops guests."""

    def boot(self, host: LabHost, guest: LabGuest) -> None: ...
    def halt(self, host: LabHost, guest: LabGuest) -> None: ...
    async def several(self, command: str) -> list[str]: ...

    async def takes(self, address: str, port: int) -> bool | None: ...

    def answers(self, address: str) -> bool: ...
    def console(self, host: LabHost, name: str) -> str: ...


class Failed(Exception):
    """virsh fails: always exit code 1, the words say why."""


def _memory(root: etree._Element, name: str, kib: str) -> None:
    found = root.find(name)
    if found is None:
        found = etree.SubElement(root, name)
    found.text = kib
    found.set("unit", "KiB")


def _arguments(words: list[str]) -> tuple[list[str], dict[str, str]]:
    plain: list[str] = []
    options: dict[str, str] = {}
    with_value = {"--pool", "--inputpool", "--source", "--key", "--set"}
    i = 0
    while i < len(words):
        if words[i] in with_value and i + 1 < len(words):
            options[words[i]] = words[i + 1]
            i += 1
        elif words[i].startswith("--"):
            options[words[i]] = ""
        else:
            plain.append(words[i])
        i += 1
    return plain, options


class Shell:
    """One host's command line."""

    def __init__(
        self,
        host: LabHost,
        volumes: Volumes,
        guests: Guests,
        speed: Callable[[], float] = lambda: 1.0,
        peers: Callable[[str], LabHost | None] = lambda _: None,
        account: str = "root",
    ) -> None:
        self.host, self.volumes, self.guests, self.speed, self.account = (
            host,
            volumes,
            guests,
            speed,
            account,
        )
        self.plain = True
        self.linux = Linux(host, peers, account, self._in_folder)

    async def run(self, words: list[str], stdin: Stdin) -> Out:
        """Carry one command out."""
        self.plain = "LC_ALL=C" in words[:2]
        while words and ("=" in words[0] and words[0].split("=")[0].isupper()):
            words = words[1:]
        if words[:1] == ["timeout"]:
            words = words[4:]
        if words[:1] == ["stdbuf"]:
            words = words[2:]
        name, rest = (words[0].removeprefix("/usr/sbin/"), words[1:]) if words else ("", [])
        tools: dict[str, Callable[[list[str], Stdin], Awaitable[Out]]] = {
            "virsh": self._virsh,
            "ip": self._ip,
            "df": self._df,
            "sha256sum": self._sha256sum,
            "ping": self._ping,
            "arping": self._arping,
            "tail": self._tail,
            "curl": self._curl,
            "cat": self._cat,
            "stat": self._stat,
            "qemu-system-x86_64": self._firmware,
            "chmod": self._chmod,
            "sh": self._sh,
            "bash": self._bash,
        }
        plain = (
            "head",
            "grep",
            "lscpu",
            "lsblk",
            "findmnt",
            "date",
            "chronyc",
            "sshd",
            "ls",
            "getent",
            "id",
            "test",
            "networkctl",
            "tee",
            "rm",
            "mkdir",
            "sed",
            "systemctl",
            "wipefs",
            "blkid",
            "ifup",
            "ifdown",
        )
        tools |= {tool: getattr(self.linux, tool) for tool in plain} | {
            "mkfs.ext4": self.linux.mkfs
        }
        if name not in tools or name in self.host.plan.odd.get("lacks", ()):
            return Out(127, b"", f"bash: line 1: {name}: command not found")
        if self.host.knobs.hang and name in ("lsblk", "sh"):
            await asyncio.sleep(3600)
        return await tools[name](rest, stdin)

    # --- plain tools ---

    def _in_folder(self, path: str) -> list[str]:
        store = next(
            (store for store in self.host.ground.stores.values() if store.path == path), None
        )
        return sorted(self.volumes.of(store.place(self.host.plan.name))) if store else []

    async def _sh(self, words: list[str], stdin: Stdin) -> Out:
        """A script on standard input: commands a line each, and the marks between their answers."""
        out, err, status = b"", "", 0
        exported: list[str] = []
        if self.host.knobs.flood_mib:
            return Out(0, b"flood " * (self.host.knobs.flood_mib * (1 << 20) // 6))
        for line in (await all_of(stdin)).decode().splitlines():
            if line.startswith("export "):
                exported = [line.removeprefix("export ")]
                continue
            if line.startswith('echo "@@'):
                out += f"@@ {status}\n".encode()
                err += "@@\n"
                continue
            answer = await self.run(
                [*exported, *shlex.split(line.removesuffix(" </dev/null"))], Nothing()
            )
            out += answer.out + (b"\n" if answer.out and not answer.out.endswith(b"\n") else b"")
            err += answer.err + "\n" if answer.err else ""
            status = answer.status
        return Out(0, out, err)

    async def _bash(self, words: list[str], stdin: Stdin) -> Out:
        """A volume read through the hypervisor, or a TCP connection by bash's own means. Beyond the
        hosts there is whatever bears a name of the survey.
        """
        if words[:1] == ["-c"] and "vol-download" in words[-1]:
            return self._read_through(words[-1])
        if words[:1] == ["-c"] and "/dev/udp/" in words[-1]:
            return Out(0, b"0\n" if self.host.knobs.walled else b"48\n")
        _, _, place = " ".join(words).partition("/dev/tcp/")
        name, _, port = place.rpartition("/")
        if words[:1] != ["-c"] or not port.isdigit():
            return Out(127, b"", "bash: line 1: not understood here")
        if not name.endswith(".holm.example") and not name.startswith("10."):
            return Out(1, b"", f"bash: {name}: Name or service not known")
        if await self.guests.takes(name, int(port)) is False:
            return Out(1, b"", f"bash: line 1: /dev/tcp/{name}/{port}: Connection refused")
        return (
            Out(
                1,
                b"",
                f"bash: connect: No route to host\nbash: line 1: /dev/tcp/{name}/{port}: No route"
                " to host",
            )
            if self.host.knobs.walled
            else Out()
        )

    def _read_through(self, pipe: str) -> Out:
        """`virsh … vol-download PATH /dev/stdout | …`: its digest, or the end of a console."""
        path = pipe.partition("vol-download ")[2].split()[0]
        if path.endswith("-console.log"):
            name = next((name for name in self.host.guests if f"-{name}-console.log" in path), "")
            return Out(0, self.guests.console(self.host, name).encode()[-8192:])
        for store in self.host.ground.stores.values():
            for name, volume in self._volumes(store).items():
                if path == f"{store.path}/{name}":
                    digest = hashlib.sha256(Path(volume.file).read_bytes()).hexdigest()
                    return Out(0, f"{digest}  -\n".encode())
        return Out(1, b"", f"error: failed to get vol '{path}'")

    async def _ip(self, words: list[str], stdin: Stdin) -> Out:
        if words[:2] == ["link", "delete"]:
            return await self.linux.ip_link_delete(words[-1])
        if words[:2] == ["-o", "addr"]:
            own = words[-1] == self.host.plan.address
            line = f"2: br0    inet {words[-1]}/24 brd + scope global br0\n"
            return Out(0, line.encode() if own else b"")
        return await self.linux.ip(words, stdin)

    async def _df(self, words: list[str], stdin: Stdin) -> Out:
        store = next(
            (store for store in self.host.ground.stores.values() if words[-1] == store.path), None
        )
        if store is None:
            return Out(1, b"", f"df: {words[-1]}: No such file or directory")
        return Out(0, f"       Avail\n{self._free(store)}\n".encode())

    async def _sha256sum(self, words: list[str], stdin: Stdin) -> Out:
        if self.account != "root":
            return Out(1, b"", f"sha256sum: {words[-1]}: Permission denied")
        for store in self.host.ground.stores.values():
            for name, volume in self._volumes(store).items():
                if words[-1] == f"{store.path}/{name}":
                    return Out(
                        0,
                        f"{hashlib.sha256(Path(volume.file).read_bytes()).hexdigest()} "
                        f" {words[-1]}\n".encode(),
                    )
        return Out(1, b"", f"sha256sum: {words[-1]}: No such file or directory")

    async def _cat(self, words: list[str], stdin: Stdin) -> Out:
        if words[:1] != [">"]:
            text = self.host.ground.files.get(
                "/root" + words[-1][1:] if words[-1].startswith("~") else words[-1]
            )
            return (
                Out(0, text.encode())
                if text is not None
                else Out(1, b"", f"cat: {words[-1]}: No such file or directory")
            )
        path = words[1] if words[:1] == [">"] and words[1:] else "/dev/null"
        target = Path("/dev/null") if path == "/dev/null" else self.volumes.folder / "scratch"
        with target.open("wb") as file:
            while piece := await stdin.read(1 << 16):
                file.write(piece)
        return Out()

    async def _stat(self, words: list[str], stdin: Stdin) -> Out:
        file = self._file(words[-1])
        if file is None:
            return Out(1, b"", f"stat: cannot statx '{words[-1]}': No such file or directory")
        return Out(0, f"{file.stat().st_size}\n".encode())

    def _file(self, path: str) -> Path | None:
        for store in self.host.ground.stores.values():
            for name, volume in self.volumes.of(store.place(self.host.plan.name)).items():
                if path == f"{store.path}/{name}":
                    return Path(volume.file)
        return None

    async def _chmod(self, words: list[str], stdin: Stdin) -> Out:
        """`chmod MODE FILE`, of a volume's file."""
        mode, path = words
        for store in self.host.ground.stores.values():
            for name, volume in self.volumes.of(store.place(self.host.plan.name)).items():
                if path == f"{store.path}/{name}":
                    volume.mode = mode
                    return Out()
        return Out(1, b"", f"chmod: cannot access '{path}': No such file or directory")

    async def _curl(self, words: list[str], stdin: Stdin) -> Out:
        """Fetch for real, as curl would: its options come as a config on standard input."""
        if self.host.knobs.no_curl:
            return Out(127, b"", "bash: line 1: curl: command not found")
        options = dict(
            re.findall(r'^([a-z-]+) = "?([^"\n]*)"?$', (await all_of(stdin)).decode(), re.MULTILINE)
        )
        target = None if options["output"] == "/dev/null" else self._file(options["output"])
        if target is None and options["output"] != "/dev/null":
            return Out(
                23,
                b"",
                f"curl: (23) Failed to open the file {options['output']}: No such file or"
                " directory",
            )
        offset = target.stat().st_size if target and "continue-at" in options else 0
        began, total = time.monotonic(), 0
        try:
            timeout = aiohttp.ClientTimeout(
                total=float(options.get("max-time", 6 * 3600)),
                sock_connect=float(options["connect-timeout"]),
            )
            async with (
                aiohttp.ClientSession(timeout=timeout) as session,
                session.get(
                    options["url"], headers={"Range": f"bytes={offset}-"} if offset else {}
                ) as answer,
            ):
                if answer.status >= 400:
                    return Out(
                        22, b"", f"curl: (22) The requested URL returned error: {answer.status}"
                    )
                with open(target or "/dev/null", "r+b" if offset else "wb") as file:
                    file.seek(offset)
                    async for piece in answer.content.iter_chunked(1 << 18):
                        if self.host.knobs.full and target:
                            return Out(23, b"", "curl: (23) Failure writing output to destination")
                        file.write(piece)
                        total += len(piece)
                        if 0 < self.host.knobs.pull_cut_after < total and target:
                            self.host.knobs.pull_cut_after = 0
                            return Out(
                                18,
                                b"",
                                "curl: (18) transfer closed with outstanding read data remaining",
                            )
                        if self.host.knobs.rate:
                            await asyncio.sleep(len(piece) / self.host.knobs.rate / self.speed())
        except (aiohttp.ClientError, TimeoutError, OSError) as error:
            return Out(7, b"", f"curl: (7) Failed to connect: {error}")
        if target:
            self.host.note(f"uploaded {options['output'].rsplit('/', 1)[-1]}")
        return Out(
            0,
            (
                f"{total / max(0.001, time.monotonic() - began):.0f}".encode()
                if "write-out" in options
                else b""
            ),
        )

    async def _ping(self, words: list[str], stdin: Stdin) -> Out:
        if (among := await self.linux.ping(words, stdin)) is not None:
            return among
        if self.guests.answers(words[-1]):
            return Out(0, f"64 bytes from {words[-1]}: icmp_seq=1 ttl=64 time=0.4 ms\n".encode())
        return Out(
            1, f"1 packets transmitted, 0 received, 100% packet loss to {words[-1]}\n".encode()
        )

    async def _arping(self, words: list[str], stdin: Stdin) -> Out:
        """As iputils' does: status 1 when anyone answers."""
        address = words[-1]
        told = f"ARPING {address} from 0.0.0.0 {words[words.index('-I') + 1]}\n"
        if self.guests.answers(address):
            mac = f"52:54:00:{hashlib.sha256(address.encode()).hexdigest()[:2]}:00:01".upper()
            return Out(1, f"{told}Unicast reply from {address} [{mac}]  0.6ms\n".encode())
        return Out(0, told.encode())

    async def _tail(self, words: list[str], stdin: Stdin) -> Out:
        name = words[-1].rsplit("/", 1)[-1].removesuffix("-console.log")
        return Out(0, self.guests.console(self.host, name).encode()[-8192:])

    async def _firmware(self, words: list[str], stdin: Stdin) -> Out:
        if "kvm" in words:
            await asyncio.sleep(self.host.knobs.slow_kvm_s)
        lines = ["SeaBIOS (version stand-in)", "Found 1 cpu(s) max supported 1 cpu(s)"]
        if not self.host.knobs.emulation or "tcg" in words:
            lines += [
                "Booting from Floppy...",
                "Boot failed: could not read the boot disk",
                "No bootable device.",
            ]
            return Out(0, "\n".join(lines).encode())
        return Out(124, "\n".join(lines).encode())

    # --- virsh ---

    async def _virsh(self, words: list[str], stdin: Stdin) -> Out:
        while words and words[0].startswith("-"):
            words = words[2:] if words[0] == "-c" else words[1:]
        verb, rest = (words[0], words[1:]) if words else ("", [])
        plain, options = _arguments(rest)
        method = getattr(self, "v_" + verb.replace("-", "_"), None)
        if self.account == "guest":
            return Out(
                1,
                b"",
                "error: failed to connect to the hypervisor\nerror: authentication unavailable: no"
                " polkit agent available to authenticate",
            )
        if method is None:
            return Out(1, b"", f"error: unknown command: '{verb}'")
        if self.host.knobs.garbage and verb in ("capabilities", "dumpxml"):
            return Out(0, b"<domain><name>\xff\xfe half an ans")
        try:
            text = await method(plain, options, stdin)
        except Failed as error:
            # a host that speaks its people's language when it is not told otherwise
            if self.host.knobs.locale and not self.plain:
                return Out(1, b"", "Fehler: das ging nicht")
            return Out(1, b"", f"error: {error}")
        if isinstance(text, bytes):
            return Out(0, text)
        return Out(0, (text + "\n\n").encode() if text else b"\n")

    async def v_hostname(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        return str(self.host.plan.odd.get("hostname") or f"{self.host.plan.name}.holm.example")

    async def v_version(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        return (
            "Compiled against library: libvirt 9.0.0\nUsing library: libvirt 9.0.0\nUsing API: QEMU"
            " 9.0.0\n" + f"Running hypervisor: {self.host.plan.odd.get('version', 'QEMU 7.2.22')}"
        )

    async def v_capabilities(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        half, memory = self.host.plan.threads // 2, self.host.plan.memory_bytes >> 11
        cells = "".join(
            f"<cell id='{n}'><memory unit='KiB'>{memory}</memory><cpus num='{half}'/></cell>"
            for n in range(2)
        )
        return (
            "<capabilities><host><cpu><arch>x86_64</arch><model>Cascadelake-Server</model></cpu>"
            f"<topology><cells num='2'>{cells}</cells></topology></host>"
            "<guest><os_type>hvm</os_type><arch"
            " name='x86_64'><domain type='qemu'/><domain"
            " type='kvm'/></arch></guest></capabilities>"
        )

    async def v_domcapabilities(
        self, plain: list[str], options: dict[str, str], stdin: Stdin
    ) -> str:
        able = "no" if "tpm" in self.host.plan.odd.get("lacks", ()) else "yes"
        models = "".join(
            f"<model usable='{'yes' if self._has_processor(one) else 'no'}' vendor='Intel'>{one}"
            "</model>"
            for one in PROCESSORS
        )
        return (
            "<domainCapabilities><os supported='yes'><loader supported='yes'><enum name='secure'>"
            "<value>yes</value><value>no</value></enum></loader></os><cpu>"
            "<mode name='host-passthrough' supported='yes'/><mode name='custom' supported='yes'>"
            f"{models}</mode></cpu><devices>"
            f"<tpm supported='{able}'><enum name='backendModel'><value>emulator</value></enum>"
            "</tpm></devices></domainCapabilities>"
        )

    def _has_processor(self, model: str) -> bool:
        known = PROCESSORS[:OLDER] if self.host.knobs.older else PROCESSORS
        return model in known

    async def v_nodememstats(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        total = self.host.plan.memory_bytes >> 10
        return (
            f"total  : {total:>20} KiB\nfree   : {total // 3:>20} KiB\nbuffers: {1024:>20}"
            f" KiB\ncached : {2048:>20} KiB"
        )

    async def v_pool_list(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        return "\n".join(
            store.name
            for store in self.host.ground.stores.values()
            if (store.active or "--all" in options)
            and (store.autostart or "--autostart" not in options)
        )

    async def v_net_list(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        return "\n".join(
            net.name
            for net in self.host.ground.nets.values()
            if (net.active or "--all" in options)
            and (net.autostart or "--autostart" not in options)
        )

    async def v_list(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        return "\n".join(
            guest.name for guest in self.host.guests.values() if guest.running or "--all" in options
        )

    async def v_pool_dumpxml(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        store = self._any_store(plain[0])
        free = self._free(store) if store.active else 0
        source = (
            f"<source><device path='{store.device}'/></source>" if store.device else "<source/>"
        )
        if store.shared:
            server, _, folder = store.shared.partition(":")
            source = (
                f"<source><host name='{server}'/><dir path='{folder}'/><format"
                " type='nfs'/></source>"
            )
        capacity = store.capacity_bytes if store.active else 0
        return (
            f"<pool type='{store.kind}'><name>{store.name}</name><uuid>{store.uuid}</uuid>"
            f"<capacity unit='bytes'>{capacity}</capacity><allocation"
            f" unit='bytes'>{capacity - free}</allocation>"
            f"<available unit='bytes'>{free}</available>{source}"
            f"<target><path>{store.path}</path></target></pool>"
        )

    async def v_net_dumpxml(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        net = self._net(plain[0])
        forward = "<forward mode='bridge'/>" if net.forward else ""
        return (
            f"<network><name>{net.name}</name><uuid>{net.uuid}</uuid>{forward}"
            f"<bridge name='{net.bridge}'/></network>"
        )

    def _net(self, name: str) -> LabNet:
        if name not in self.host.ground.nets:
            raise Failed(
                f"failed to get network '{name}'\nerror: Network not found: no network with"
                f" matching name '{name}'"
            )
        return self.host.ground.nets[name]

    async def v_net_define(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        text = (await all_of(stdin)).decode()
        root = etree.fromstring(text.encode())
        name, bridge = str(root.findtext("name")), root.find("bridge")
        nets = self.host.ground.nets
        if name in nets and nets[name].uuid != fresh_uuid(text):
            raise Failed(
                "Failed to define network from /dev/stdin\nerror: operation failed: network"
                f" '{name}' already exists with uuid {nets[name].uuid}"
            )
        nets[name] = LabNet(
            name,
            str(bridge.get("name")) if bridge is not None else f"virbr{len(nets)}",
            fresh_uuid(text),
            False,
            False,
            root.find("forward") is not None,
        )
        self.host.note(f"defined network {name}")
        return f"Network {name} defined from /dev/stdin"

    async def v_net_start(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        net = self._net(plain[0])
        if net.active:
            raise Failed(
                f"Failed to start network {net.name}\nerror: Requested operation is not valid:"
                " network is already active"
            )
        if net.forward and net.bridge not in self.host.ground.links:
            raise Failed(
                f"Failed to start network {net.name}\nerror: Cannot get interface MTU on"
                f" '{net.bridge}': No such device"
            )
        if not net.forward:
            self.linux.make(net.bridge, parent="", ports="", mtu=1500, address="")
        net.active = True
        self.host.note(f"started network {net.name}")
        return f"Network {net.name} started"

    async def v_net_autostart(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        self._net(plain[0]).autostart = "--disable" not in options
        self.host.save()
        return f"Network {plain[0]} marked as autostarted"

    async def v_net_destroy(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        net = self._net(plain[0])
        if not net.active:
            raise Failed(
                f"Failed to destroy network {net.name}\nerror: Requested operation is not valid:"
                f" network '{net.name}' is not active"
            )
        net.active = False
        if not net.forward:
            self.linux.unmake(net.bridge)
        return f"Network {net.name} destroyed"

    async def v_net_undefine(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        del self.host.ground.nets[self._net(plain[0]).name]
        self.host.note(f"undefined network {plain[0]}")
        return f"Network {plain[0]} has been undefined"

    # pools

    async def v_pool_define(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        text = (await all_of(stdin)).decode()
        root = etree.fromstring(text.encode())
        name, path = str(root.findtext("name")), str(root.findtext("target/path"))
        stores = self.host.ground.stores
        fail = "Failed to define pool from /dev/stdin\nerror: operation failed: "
        if name in stores and stores[name].uuid != fresh_uuid(text):
            raise Failed(f"{fail}pool '{name}' already exists with uuid {stores[name].uuid}")
        if clash := next(
            (
                store
                for store in stores.values()
                if store.path == path and store.uuid != fresh_uuid(text)
            ),
            None,
        ):
            raise Failed(f"{fail}Storage source conflict with pool: '{clash.name}'")
        server, folder, device = (
            root.find("source/host"),
            root.find("source/dir"),
            root.find("source/device"),
        )
        shared = (
            f"{server.get('name')}:{folder.get('path')}"
            if server is not None and folder is not None
            else ""
        )
        export = demo.exports().get(shared, demo.Export(400 * 10**9, 310 * 10**9))
        capacity, free = export.capacity_bytes, export.free_bytes
        if device is not None:
            disk = self._disk(str(device.get("path")))
            capacity = free = disk.size if disk else 0
        old = stores.get(name)
        stores[name] = LabStore(
            name,
            old.capacity_bytes if old else capacity,
            old.free_bytes if old else free,
            shared,
            fresh_uuid(text),
            str(root.get("type")),
            path,
            old.active if old else False,
            False,
            str(device.get("path")) if device is not None else "",
        )
        known = self._by_path.get(path)
        if known:
            stores[name].capacity_bytes, stores[name].free_bytes = known
        self.host.note(f"defined pool {name}")
        return f"Pool {name} defined from /dev/stdin"

    @property
    def _by_path(self) -> dict[str, tuple[int, int]]:
        """Room of the folders that pools of the plan lie on: it stays when a pool is defined anew
        under another name.
        """
        return {
            f"{IMAGES}/{store.name}": (store.capacity_bytes, store.free_bytes)
            for store in self.host.plan.stores
        }

    def _disk(self, device: str) -> LabDisk | None:
        """A disk by its letter or by its file system's UUID."""
        disks, ident = self.host.ground.disks, device.removeprefix("/dev/disk/by-uuid/")
        return disks.get(device.removeprefix("/dev/")) or next(
            (disk for disk in disks.values() if disk.uuid and disk.uuid == ident), None
        )

    async def v_pool_build(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        store = self._any_store(plain[0])
        if store.active:
            raise Failed(
                f"Failed to build pool {store.name}\nerror: Requested operation is not valid:"
                f" storage pool '{store.name}' is already active"
            )
        if store.kind == "fs" and self._disk(store.device) is None:
            raise Failed(
                f"Failed to build pool {store.name}\nerror: cannot stat '{store.device}': No such"
                " file or directory"
            )
        self.host.note(f"built pool {store.name}")
        return f"Pool {store.name} built"

    async def v_pool_start(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        store = self._any_store(plain[0])
        fail = f"Failed to start pool {store.name}\nerror: "
        if store.active:
            raise Failed(
                f"{fail}Requested operation is not valid: storage pool '{store.name}' is already"
                " active"
            )
        if store.shared and store.shared not in demo.exports():
            raise Failed(
                f"{fail}internal error: Child process (mount -o nodev,nosuid,noexec {store.shared}"
                f" {store.path}) unexpected exit status 32: mount.nfs: access denied by server"
                f" while mounting {store.shared}"
            )
        if disk := self._disk(store.device):
            if disk.fstype != "ext4":
                raise Failed(
                    f"{fail}internal error: Child process (mount -t ext4 {store.device}"
                    f" {store.path}) unexpected exit status 32: mount: wrong fs type"
                )
            disk.mount = store.path
        store.active = True
        self.host.note(f"started pool {store.name}")
        return f"Pool {store.name} started"

    async def v_pool_autostart(
        self, plain: list[str], options: dict[str, str], stdin: Stdin
    ) -> str:
        self._any_store(plain[0]).autostart = "--disable" not in options
        self.host.save()
        return f"Pool {plain[0]} marked as autostarted"

    async def v_pool_destroy(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        store = self._store(plain[0])
        store.active = False
        if disk := self._disk(store.device):
            disk.mount = ""
        self.host.note(f"stopped pool {store.name}")
        return f"Pool {store.name} destroyed"

    async def v_pool_delete(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        store = self._any_store(plain[0])
        if self.volumes.of(store.place(self.host.plan.name)):
            raise Failed(
                f"Failed to delete pool {store.name}\nerror: cannot remove directory"
                f" '{store.path}': Directory not empty"
            )
        return f"Pool {store.name} deleted"

    async def v_pool_undefine(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        store = self._any_store(plain[0])
        if store.active:
            raise Failed(
                f"Failed to undefine pool {store.name}\nerror: Requested operation is not valid:"
                f" storage pool '{store.name}' is still active"
            )
        del self.host.ground.stores[store.name]
        self.host.note(f"undefined pool {store.name}")
        return f"Pool {store.name} has been undefined"

    async def v_pool_refresh(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        store = self._store(plain[0])
        self.host.visible[store.name] = set(self.volumes.of(store.place(self.host.plan.name)))
        return f"Pool {store.name} refreshed"

    # volumes

    async def v_vol_dumpxml(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        store = self._store(options["--pool"])
        volume = self._volume(store, plain[0])
        size = Path(volume.file).stat().st_size
        return (
            f"<volume type='file'><name>{plain[0]}</name><capacity"
            f" unit='bytes'>{volume.capacity}</capacity><allocation"
            f" unit='bytes'>{size}</allocation><physical"
            f" unit='bytes'>{size}</physical><target><path>{store.path}/{plain[0]}</path><format"
            f" type='{volume.form}'/><permissions><mode>{volume.mode}</mode></permissions></target>"
            + (
                f"<backingStore><path>{volume.backing}</path><format type='qcow2'/></backingStore>"
                if volume.backing
                else ""
            )
            + "</volume>"
        )

    async def v_vol_create(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        store, root = self._store(plain[0]), etree.fromstring(await all_of(stdin))
        name = str(root.findtext("name"))
        form = root.find("target/format")
        below = root.findtext("backingStore/path") or ""
        if below and self._file(below) is None:
            raise Failed(
                "Failed to create vol from /dev/stdin\nerror: Cannot access backing file"
                f" '{below}': No such file or directory"
            )
        self._new(
            store,
            name,
            int(root.findtext("capacity") or 0),
            str(form.get("type")) if form is not None else "raw",
            below,
        )
        return f"Vol {name} created"

    async def v_vol_create_from(
        self, plain: list[str], options: dict[str, str], stdin: Stdin
    ) -> str:
        store, root = self._store(plain[0]), etree.fromstring(await all_of(stdin))
        name = str(root.findtext("name"))
        base = self._volume(self._store(options["--inputpool"]), plain[2])
        made = self._new(store, name, int(root.findtext("capacity") or 0), "qcow2")
        shutil.copyfile(base.file, made.file)
        return f"Vol {name} created from input vol {plain[2]}"

    async def v_vol_clone(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        store = self._store(options["--pool"])
        base = self._volume(store, plain[0])
        made = self._new(store, plain[1], base.capacity, base.form)
        shutil.copyfile(base.file, made.file)
        return f"Vol {plain[1]} cloned from {plain[0]}"

    async def v_vol_upload(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        store = self._store(options["--pool"])
        volume = self._volume(store, plain[0])
        with open(volume.file, "wb") as file:
            while piece := await stdin.read(1 << 16):
                if self.host.knobs.full:
                    raise Failed(
                        f"cannot write to volume {plain[0]}\nerror: cannot write data to file"
                        f" '{store.path}/{plain[0]}': No space left on device"
                    )
                file.write(piece)
        self.host.note(f"uploaded {plain[0]}")
        return ""

    async def v_vol_download(
        self, plain: list[str], options: dict[str, str], stdin: Stdin
    ) -> bytes:
        volume = self._volume(self._store(options["--pool"]), plain[0])
        return await asyncio.to_thread(Path(volume.file).read_bytes)

    async def v_vol_resize(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        self._grown(self._volume(self._store(options["--pool"]), plain[0]), plain[1])
        return f"Size of volume '{plain[0]}' successfully changed to {plain[1]}"

    async def v_blockresize(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        guest, (folder, _, name) = self._guest(plain[0]), plain[1].rpartition("/")
        if not guest.running:
            raise Failed("Requested operation is not valid: domain is not running")
        for store in self.host.ground.stores.values():
            if store.path == folder and f'volume="{name}"' in guest.xml:
                self._grown(self._volume(store, name), plain[2])
                return f"Block device '{plain[1]}' is resized"
        raise Failed(f"invalid argument: disk '{plain[1]}' was not found in the domain config")

    def _grown(self, volume: LabVolume, size: str) -> None:
        wanted = int(size.removesuffix("b"))
        if wanted < volume.capacity:
            raise Failed(
                "invalid argument: Can't shrink capacity below current capacity unless shrink flag"
                " explicitly specified"
            )
        volume.capacity = wanted
        self.host.note(f"grew {Path(volume.file).name}")

    async def v_vol_delete(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        named = options.get("--pool")
        folder, _, name = plain[0].rpartition("/")
        store = self._store(named) if named else self._store_at(folder)
        if store is None:
            raise Failed(
                f"failed to get vol '{plain[0]}'\nerror: Storage volume not found: no storage vol"
                f" with matching path '{plain[0]}'"
            )
        volume = self._volume(store, name)
        Path(volume.file).unlink(missing_ok=True)
        del self.volumes.of(store.place(self.host.plan.name))[name]
        self.volumes.save()
        self.host.note(f"deleted {name}")
        return f"Vol {plain[0]} deleted"

    def _store_at(self, folder: str) -> LabStore | None:
        """The datastore of a folder."""
        stores = self.host.ground.stores.values()
        return next((one for one in stores if one.path == folder), None)

    def _begin_log(self, root: etree._Element) -> None:
        """The console's log is a file; in a datastore's folder it is a volume too."""
        log = root.find("devices/serial/log")
        folder, _, name = str(log.get("file") if log is not None else "").rpartition("/")
        store = self._store_at(folder)
        if store is not None and name not in self.volumes.of(store.place(self.host.plan.name)):
            self._new(store, name, 0, "raw")

    def _new(
        self, store: LabStore, name: str, capacity: int, form: str, backing: str = ""
    ) -> LabVolume:
        volumes = self.volumes.of(store.place(self.host.plan.name))
        if name in volumes:
            raise Failed(
                f"Failed to create vol from /dev/stdin\nerror: storage volume '{name}' exists"
                " already"
            )
        if self.host.knobs.full:
            raise Failed(
                f"Failed to create vol {name}\nerror: cannot allocate {capacity} bytes in file"
                f" '{store.path}/{name}': No space left on device"
            )
        volumes[name] = LabVolume(capacity, form, self.volumes.new_file(), backing)
        Path(volumes[name].file).touch()
        self.volumes.save()
        self.host.visible.setdefault(store.name, set()).add(name)
        self.host.note(f"made {name}")
        return volumes[name]

    def _any_store(self, name: str) -> LabStore:
        if name not in self.host.ground.stores:
            raise Failed(
                f"failed to get pool '{name}'\nerror: Storage pool not found: no storage pool with"
                f" matching name '{name}'"
            )
        return self.host.ground.stores[name]

    def _store(self, name: str) -> LabStore:
        store = self._any_store(name)
        if not store.active:
            raise Failed(
                f"failed to use pool '{name}'\nerror: Requested operation is not valid: storage"
                f" pool '{name}' is not active"
            )
        return store

    def _volumes(self, store: LabStore) -> dict[str, LabVolume]:
        """What this host knows of the datastore: what another host put there is seen only after a
        refresh.
        """
        known = self.host.visible.get(store.name, set())
        return {
            name: volume
            for name, volume in self.volumes.of(store.place(self.host.plan.name)).items()
            if name in known
        }

    def _volume(self, store: LabStore, name: str) -> LabVolume:
        volume = self._volumes(store).get(name)
        if volume is None:
            raise Failed(
                f"failed to get vol '{name}'\nerror: Storage volume not found: no storage vol with"
                f" matching path '{name}'"
            )
        return volume

    def _free(self, store: LabStore) -> int:
        if self.host.knobs.full:
            return 0
        return store.free_bytes - sum(
            Path(volume.file).stat().st_size
            for volume in self.volumes.of(store.place(self.host.plan.name)).values()
        )

    # guests

    def _guest(self, name: str) -> LabGuest:
        by_uuid = (guest for guest in self.host.guests.values() if guest.uuid == name)
        found = self.host.guests.get(name) or next(by_uuid, None)
        if found is None:
            raise Failed(f"failed to get domain '{name}'")
        return found

    async def v_dumpxml(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        guest = self._guest(plain[0])
        wants_stored = "--inactive" in options or not guest.running
        return guest.stored if wants_stored and guest.stored else guest.xml

    async def v_setvcpus(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        def change(root: etree._Element) -> None:
            found = root.find("vcpu")
            assert found is not None
            most, wanted = int(found.text or 1), int(plain[1])
            if "--maximum" in options:
                found.text = plain[1]
                if int(found.get("current", most)) >= wanted:
                    found.attrib.pop("current", None)
                else:
                    found.set("current", found.get("current", str(most)))
                return
            if wanted > most:
                raise Failed(
                    "invalid argument: requested vcpus is greater than max allowable vcpus for the"
                    f" persistent domain: {wanted} > {most}"
                )
            if wanted == most:
                found.attrib.pop("current", None)
            else:
                found.set("current", plain[1])

        return self._stored(plain[0], options, change)

    async def v_setmaxmem(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        def change(root: etree._Element) -> None:
            _memory(root, "memory", plain[1])
            now = root.find("currentMemory")
            if now is not None and int(now.text or 0) > int(plain[1]):
                _memory(root, "currentMemory", plain[1])

        return self._stored(plain[0], options, change)

    async def v_setmem(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        def change(root: etree._Element) -> None:
            if int(plain[1]) > int(root.findtext("memory") or 0):
                raise Failed("invalid argument: cannot set memory higher than max memory")
            _memory(root, "currentMemory", plain[1])

        return self._stored(plain[0], options, change)

    def _stored(
        self, name: str, options: dict[str, str], change: Callable[[etree._Element], None]
    ) -> str:
        """Change the stored definition, which the next start takes."""
        guest = self._guest(name)
        if "--config" not in options:
            raise Failed("Requested operation is not valid: cannot be changed while it runs")
        root = etree.fromstring((guest.stored or guest.xml).encode())
        change(root)
        guest.stored = etree.tostring(root, encoding="unicode")
        self.host.note(f"changed {name}")
        return ""

    async def v_shutdown(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        guest = self._running(plain[0], "shutdown")
        if not self.host.knobs.deaf and not guest.paused:
            self._halted(guest, "shut down")
        return f"Domain '{guest.name}' is being shutdown"

    async def v_domstate(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        guest = self._guest(plain[0])
        words = ["running", "booted"] if guest.running else ["shut off", guest.why_off]
        if guest.paused:
            words = ["paused", "user"]
        return f"{words[0]} ({words[1]})" if "--reason" in options else words[0]

    async def v_suspend(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        self._running(plain[0], "suspend").paused = True
        self.host.save()
        return f"Domain '{plain[0]}' suspended"

    async def v_resume(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        self._running(plain[0], "resume").paused = False
        self.host.save()
        return f"Domain '{plain[0]}' resumed"

    async def v_dominfo(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        guest = self._guest(plain[0])
        starts = "enable" if guest.autostart else "disable"
        return f"Id:             1\nName:           {guest.name}\nAutostart:      {starts}\n"

    async def v_autostart(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        self._guest(plain[0]).autostart = "--disable" not in options
        self.host.save()
        return f"Domain '{plain[0]}' marked as autostarted"

    async def v_define(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        try:
            root = etree.fromstring(await all_of(stdin))
        except etree.XMLSyntaxError as error:
            raise Failed(
                f"Failed to define domain from /dev/stdin\nerror: (domain_definition):1: {error}"
            ) from error
        name, before = str(root.findtext("name")), self.host.guests.get(str(root.findtext("name")))
        if before is not None and root.findtext("uuid") != before.uuid:
            raise Failed(
                f"Failed to define domain from /dev/stdin\nerror: operation failed: domain '{name}'"
                f" already exists with uuid {before.uuid}"
            )
        ident = root.findtext("uuid") or str(uuids.uuid4())
        if root.find("uuid") is None:
            etree.SubElement(root, "uuid").text = ident
        for number, nic in enumerate(root.findall("devices/interface")):
            # as libvirt does: a local address of its own making
            if nic.find("mac") is None:
                digest = hashlib.sha256(f"{ident} {number}".encode()).digest()
                nic.insert(
                    0,
                    etree.Element(
                        "mac", address="52:54:00:" + ":".join(f"{byte:02x}" for byte in digest[:3])
                    ),
                )
        text = etree.tostring(root, encoding="unicode")
        if before is not None and before.running:
            before.stored = text
        else:
            self.host.guests[name] = LabGuest(
                name,
                ident,
                text,
                autostart=before is not None and before.autostart,
                data=self._remembered(text),
            )
        self.host.note(f"defined {name}")
        return f"Domain '{name}' defined from /dev/stdin"

    async def v_domifaddr(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        guest = self._guest(plain[0])
        if not guest.running:
            raise Failed(
                "Failed to query for interfaces addresses\nerror: Requested operation is not valid:"
                " domain is not running"
            )
        if options.get("--source") == "agent":
            raise Failed(
                "Failed to query for interfaces addresses\nerror: argument unsupported: QEMU guest"
                " agent is not configured"
            )
        mac = etree.fromstring(guest.xml).find("devices/interface/mac")
        lease = guest.data.get("lease") if options.get("--source") == "lease" else None
        return (
            f" vnet0      {mac.get('address')}    ipv4         {lease}"
            if lease and mac is not None
            else ""
        )

    async def v_start(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        guest = self._guest(plain[0])
        fail = f"Failed to start domain '{guest.name}'\nerror: "
        if guest.running:
            raise Failed("Domain is already active")
        guest.xml, guest.stored = guest.stored or guest.xml, ""
        root = etree.fromstring(guest.xml.encode())
        model = root.findtext("cpu/model")
        if model and not self._has_processor(model):
            raise Failed(
                f"{fail}operation failed: guest CPU doesn't match specification: missing features:"
                " avx512f"
            )
        for source in root.findall("devices/interface/source"):
            if source.get("network") not in self.host.ground.nets:
                raise Failed(
                    fail
                    + f"Network not found: no network with matching name '{source.get('network')}'"
                )
        for source in root.findall("devices/disk/source"):
            self._volume(self._store(str(source.get("pool"))), str(source.get("volume")))
        running = sum(
            int(etree.fromstring(g.xml.encode()).findtext("memory") or 0) << 10
            for g in self.host.guests.values()
            if g.running
        )
        if running + (int(root.findtext("memory") or 0) << 10) > self.host.plan.memory_bytes:
            raise Failed(
                fail
                + "internal error: process exited while connecting to monitor: cannot set up guest"
                " memory 'pc.ram': Cannot allocate memory"
            )
        self._begin_log(root)
        guest.running, guest.paused = True, False
        self.host.note(f"started {guest.name}")
        self.guests.boot(self.host, guest)
        return f"Domain '{guest.name}' started"

    async def v_change_media(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        guest = self._guest(plain[0])
        root = etree.fromstring(guest.xml.encode())
        for disk in root.findall("devices/disk[@device='cdrom']"):
            target, source = disk.find("target"), disk.find("source")
            if target is not None and target.get("dev") == plain[1] and source is not None:
                disk.remove(source)
        guest.xml = etree.tostring(root, encoding="unicode")
        self.host.note(f"ejected {plain[1]} of {guest.name}")
        return "Successfully ejected media."

    def _ways(self, guest: LabGuest, options: dict[str, str]) -> list[str]:
        """Which of a VM's definitions a command is about: `xml`, `stored`, or both."""
        if "--live" in options and not guest.running:
            raise Failed("Requested operation is not valid: domain is not running")
        if not guest.running:
            # what is stored is what there is
            guest.xml, guest.stored = guest.stored or guest.xml, ""
            return ["xml"]
        guest.stored = guest.stored or guest.xml
        return ["xml" if "--live" in options else "stored"]

    async def v_metadata(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        guest, uri = self._guest(plain[0]), plain[1]
        for way in self._ways(guest, options):
            root = etree.fromstring(getattr(guest, way).encode())
            place = root.find("metadata")
            if place is None:
                place = etree.SubElement(root, "metadata")
            own = [one for one in place if etree.QName(one).namespace == uri]
            if "--remove" in options and not own:
                raise Failed("metadata not found: Requested metadata element is not present")
            for one in own:
                place.remove(one)
            if "--set" in options:
                given = etree.fromstring(options["--set"])
                spaces = {options["--key"]: uri}
                tag = etree.QName(uri, etree.QName(given).localname)
                made = etree.SubElement(place, tag, nsmap=spaces)
                made.attrib.update(given.attrib)
            setattr(guest, way, etree.tostring(root, encoding="unicode"))
        self.host.note(f"marked {guest.name}")
        return "Metadata modified" if "--set" in options else "Metadata removed"

    async def v_attach_device(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        guest, given = self._guest(plain[0]), etree.fromstring(await all_of(stdin))
        source, target = given.find("source"), given.find("target")
        assert source is not None
        assert target is not None
        self._volume(self._store(str(source.get("pool"))), str(source.get("volume")))
        for way in self._ways(guest, options):
            root = etree.fromstring(getattr(guest, way).encode())
            if any(
                one.get("dev") == target.get("dev") for one in root.findall("devices/disk/target")
            ):
                raise Failed(
                    f"Failed to attach device from {plain[1]}\nerror: operation failed: target"
                    f" {target.get('dev')} already exists"
                )
            devices = root.find("devices")
            assert devices is not None
            devices.append(given)
            setattr(guest, way, etree.tostring(root, encoding="unicode"))
        self.host.note(f"attached {source.get('volume')} to {guest.name}")
        return "Device attached successfully"

    async def v_detach_disk(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        guest = self._guest(plain[0])
        for way in self._ways(guest, options):
            root = etree.fromstring(getattr(guest, way).encode())
            disks = [
                disk
                for disk in root.findall("devices/disk")
                if (target := disk.find("target")) is not None and target.get("dev") == plain[1]
            ]
            if not disks:
                raise Failed(
                    f"No disk found whose source path or target is {plain[1]}\nerror: Failed to"
                    " detach disk"
                )
            devices = root.find("devices")
            assert devices is not None
            for disk in disks:
                devices.remove(disk)
            setattr(guest, way, etree.tostring(root, encoding="unicode"))
        self.host.note(f"detached {plain[1]} from {guest.name}")
        return "Disk detached successfully"

    async def v_destroy(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        guest = self._running(plain[0], "destroy")
        self._halted(guest, "destroyed")
        return f"Domain '{guest.name}' destroyed"

    def _running(self, name: str, what: str) -> LabGuest:
        guest = self._guest(name)
        if not guest.running:
            raise Failed(
                f"Failed to {what} domain '{guest.name}'\nerror: Requested operation is not valid:"
                " domain is not running"
            )
        return guest

    def _halted(self, guest: LabGuest, how: str) -> None:
        guest.running = guest.paused = False
        guest.why_off = "destroyed" if how == "destroyed" else "shutdown"
        self.guests.halt(self.host, guest)
        if guest.data and (disk := self._memory_of(guest.xml)):
            memory.put(Path(disk.file), guest.data)
        self.host.note(f"{how} {guest.name}")

    async def v_undefine(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        guest = self._guest(plain[0])
        if (
            "--nvram" not in options
            and etree.fromstring(guest.xml).find("os[@firmware]") is not None
        ):
            raise Failed(
                f"Failed to undefine domain '{guest.name}'\nerror: Requested operation is not"
                " valid: cannot undefine domain with nvram"
            )
        del self.host.guests[guest.name]
        self.host.note(f"undefined {guest.name}")
        return f"Domain '{guest.name}' has been undefined"

    def _remembered(self, xml: str) -> dict[str, Any]:
        """What a VM finds on its disk: what was there before, with another system as well."""
        disk = self._memory_of(xml)
        return memory.found(Path(disk.file)) if disk and Path(disk.file).exists() else {}

    def _memory_of(self, text: str) -> LabVolume | None:
        """The disk that keeps what matters: the last one, a data disk where there is one."""
        for disk in reversed(etree.fromstring(text.encode()).findall("devices/disk")):
            source = disk.find("source")
            if disk.get("device", "disk") != "disk" or source is None or _is_shared(disk):
                continue
            store = self.host.ground.stores.get(str(source.get("pool")))
            if store is None:
                return None
            known = self.volumes.of(store.place(self.host.plan.name))
            return known.get(str(source.get("volume")))
        return None


def _is_shared(disk: etree._Element) -> bool:
    return disk.find("shareable") is not None


class Nothing:
    """Standard input of a command in a script: there is none."""

    async def read(self, size: int = -1) -> bytes:
        """Nothing."""
        return b""
