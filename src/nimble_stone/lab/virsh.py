"""The commands a stand-in host understands, and its answers: the same words, errors and exit codes as the real ones."""

from __future__ import annotations

import asyncio
import hashlib
import json
import re
import shutil
import time
import uuid as uuids
from collections.abc import Awaitable, Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

import aiohttp
from lxml import etree

from nimble_stone.lab.demo import StorePlan
from nimble_stone.lab.state import LabGuest, LabHost, LabVolume, Volumes


class Stdin(Protocol):
    """The command's standard input."""

    async def read(self, size: int = -1) -> bytes: ...


class Guests(Protocol):
    """Who boots and stops guests."""

    def boot(self, host: LabHost, guest: LabGuest) -> None: ...
    def halt(self, host: LabHost, guest: LabGuest) -> None: ...
    def answers(self, address: str) -> bool: ...
    def console(self, host: LabHost, name: str) -> str: ...


@dataclass
class Out:
    """Exit code and outputs."""

    status: int = 0
    out: bytes = b""
    err: str = ""


class Failed(Exception):
    """virsh fails: always exit code 1, the words say why."""


def _arguments(words: list[str]) -> tuple[list[str], dict[str, str]]:
    plain: list[str] = []
    options: dict[str, str] = {}
    with_value = {"--pool", "--inputpool"}
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

    def __init__(self, host: LabHost, volumes: Volumes, guests: Guests, speed: Callable[[], float] = lambda: 1.0) -> None:
        self.host, self.volumes, self.guests, self.speed = host, volumes, guests, speed

    async def run(self, words: list[str], stdin: Stdin) -> Out:
        """Carry one command out."""
        while words and ("=" in words[0] and words[0].split("=")[0].isupper()):
            words = words[1:]
        if words[:1] == ["timeout"]:
            words = words[4:]
        name, rest = (words[0], words[1:]) if words else ("", [])
        tools: dict[str, Callable[[list[str], Stdin], Awaitable[Out]]] = {
            "virsh": self._virsh, "ip": self._ip, "df": self._df, "sha256sum": self._sha256sum, "ping": self._ping, "tail": self._tail,
            "curl": self._curl, "cat": self._cat, "stat": self._stat, "qemu-system-x86_64": self._firmware}
        if name not in tools:
            return Out(127, b"", f"bash: line 1: {name}: command not found")
        return await tools[name](rest, stdin)

    # --- plain tools ---

    async def _ip(self, words: list[str], stdin: Stdin) -> Out:
        names = ["lo", "eno1", *(f"br-{name}" for name in self.host.plan.networks)]
        return Out(0, json.dumps([{"ifindex": n, "ifname": name, "mtu": 65536 if name == "lo" else 1500, "operstate": "UP"}
                                  for n, name in enumerate(names, 1)]).encode())

    async def _df(self, words: list[str], stdin: Stdin) -> Out:
        store = next((store for store in self.host.plan.stores if words[-1] == _path(store.name)), None)
        if store is None:
            return Out(1, b"", f"df: {words[-1]}: No such file or directory")
        return Out(0, f"       Avail\n{self._free(store)}\n".encode())

    async def _sha256sum(self, words: list[str], stdin: Stdin) -> Out:
        for store in self.host.plan.stores:
            for name, volume in self._volumes(store).items():
                if words[-1] == f"{_path(store.name)}/{name}":
                    return Out(0, f"{hashlib.sha256(Path(volume.file).read_bytes()).hexdigest()}  {words[-1]}\n".encode())
        return Out(1, b"", f"sha256sum: {words[-1]}: No such file or directory")

    async def _cat(self, words: list[str], stdin: Stdin) -> Out:
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
        for store in self.host.plan.stores:
            for name, volume in self.volumes.of(self._place(store)).items():
                if path == f"{_path(store.name)}/{name}":
                    return Path(volume.file)
        return None

    async def _curl(self, words: list[str], stdin: Stdin) -> Out:
        """Fetch for real, as curl would: its options come as a config on standard input."""
        if self.host.knobs.no_curl:
            return Out(127, b"", "bash: line 1: curl: command not found")
        options = dict(re.findall(r'^([a-z-]+) = "?([^"\n]*)"?$', (await _all(stdin)).decode(), re.MULTILINE))
        target = None if options["output"] == "/dev/null" else self._file(options["output"])
        if target is None and options["output"] != "/dev/null":
            return Out(23, b"", f"curl: (23) Failed to open the file {options['output']}: No such file or directory")
        offset = target.stat().st_size if target and "continue-at" in options else 0
        began, total = time.monotonic(), 0
        try:
            timeout = aiohttp.ClientTimeout(total=float(options.get("max-time", 6 * 3600)), sock_connect=float(options["connect-timeout"]))
            async with (aiohttp.ClientSession(timeout=timeout) as session,
                        session.get(options["url"], headers={"Range": f"bytes={offset}-"} if offset else {}) as answer):
                if answer.status >= 400:
                    return Out(22, b"", f"curl: (22) The requested URL returned error: {answer.status}")
                with open(target or "/dev/null", "r+b" if offset else "wb") as file:
                    file.seek(offset)
                    async for piece in answer.content.iter_chunked(1 << 18):
                        if self.host.knobs.full and target:
                            return Out(23, b"", "curl: (23) Failure writing output to destination")
                        file.write(piece)
                        total += len(piece)
                        if 0 < self.host.knobs.pull_cut_after < total and target:
                            self.host.knobs.pull_cut_after = 0
                            return Out(18, b"", "curl: (18) transfer closed with outstanding read data remaining")
                        if self.host.knobs.rate:
                            await asyncio.sleep(len(piece) / self.host.knobs.rate / self.speed())
        except (aiohttp.ClientError, TimeoutError, OSError) as error:
            return Out(7, b"", f"curl: (7) Failed to connect: {error}")
        if target:
            self.host.note(f"uploaded {options['output'].rsplit('/', 1)[-1]}")
        return Out(0, f"{total / max(0.001, time.monotonic() - began):.0f}".encode() if "write-out" in options else b"")

    async def _ping(self, words: list[str], stdin: Stdin) -> Out:
        if self.guests.answers(words[-1]):
            return Out(0, f"64 bytes from {words[-1]}: icmp_seq=1 ttl=64 time=0.4 ms\n".encode())
        return Out(1, f"1 packets transmitted, 0 received, 100% packet loss to {words[-1]}\n".encode())

    async def _tail(self, words: list[str], stdin: Stdin) -> Out:
        name = words[-1].rsplit("/", 1)[-1].removesuffix("-console.log")
        return Out(0, self.guests.console(self.host, name).encode()[-8192:])

    async def _firmware(self, words: list[str], stdin: Stdin) -> Out:
        lines = ["SeaBIOS (version stand-in)", "Found 1 cpu(s) max supported 1 cpu(s)"]
        if not self.host.knobs.emulation:
            lines += ["Booting from Floppy...", "Boot failed: could not read the boot disk", "No bootable device."]
        return Out(124, "\n".join(lines).encode())

    # --- virsh ---

    async def _virsh(self, words: list[str], stdin: Stdin) -> Out:
        while words and words[0].startswith("-"):
            words = words[2:] if words[0] == "-c" else words[1:]
        verb, rest = (words[0], words[1:]) if words else ("", [])
        plain, options = _arguments(rest)
        method = getattr(self, "v_" + verb.replace("-", "_"), None)
        if method is None:
            return Out(1, b"", f"error: unknown command: '{verb}'")
        if self.host.knobs.garbage and verb in ("capabilities", "dumpxml"):
            return Out(0, b"<domain><name>\xff\xfe half an ans")
        try:
            text = await method(plain, options, stdin)
        except Failed as error:
            return Out(1, b"", f"error: {error}")
        return Out(0, (text + "\n\n").encode() if text else b"\n")

    async def v_hostname(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        return f"{self.host.plan.name}.holm.example"

    async def v_version(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        return "Compiled against library: libvirt 9.0.0\nUsing library: libvirt 9.0.0\nUsing API: QEMU 9.0.0\nRunning hypervisor: QEMU 7.2.22"

    async def v_capabilities(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        return (f"<capabilities><host><cpu><arch>x86_64</arch><model>Cascadelake-Server</model></cpu><topology><cells num='1'><cell id='0'>"
                f"<cpus num='{self.host.plan.threads}'/></cell></cells></topology></host>"
                "<guest><os_type>hvm</os_type><arch name='x86_64'><domain type='qemu'/><domain type='kvm'/></arch></guest></capabilities>")

    async def v_nodememstats(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        total = self.host.plan.memory_bytes >> 10
        return f"total  : {total:>20} KiB\nfree   : {total // 3:>20} KiB\nbuffers: {1024:>20} KiB\ncached : {2048:>20} KiB"

    async def v_pool_list(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        return "\n".join(store.name for store in self.host.plan.stores)

    async def v_net_list(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        return "\n".join(self.host.plan.networks)

    async def v_domstats(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        return "\n\n".join(f"Domain: '{guest.name}'\n  state.state={1 if guest.running else 5}\n  state.reason=1" for guest in self.host.guests.values())

    async def v_pool_dumpxml(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        store = self._store(plain[0])
        free = self._free(store)
        source = "<source/>"
        if store.shared:
            server, _, folder = store.shared.partition(":")
            source = f"<source><host name='{server}'/><dir path='{folder}'/><format type='nfs'/></source>"
        return (f"<pool type='{'netfs' if store.shared else 'dir'}'><name>{store.name}</name><uuid>{uuids.uuid5(uuids.NAMESPACE_DNS, store.name)}</uuid>"
                f"<capacity unit='bytes'>{store.capacity_bytes}</capacity><allocation unit='bytes'>{store.capacity_bytes - free}</allocation>"
                f"<available unit='bytes'>{free}</available>{source}<target><path>{_path(store.name)}</path></target></pool>")

    async def v_net_dumpxml(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        if plain[0] not in self.host.plan.networks:
            raise Failed(f"failed to get network '{plain[0]}'\nerror: Network not found: no network with matching name '{plain[0]}'")
        return f"<network><name>{plain[0]}</name><forward mode='bridge'/><bridge name='br-{plain[0]}'/></network>"

    async def v_pool_refresh(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        store = self._store(plain[0])
        self.host.visible[store.name] = set(self.volumes.of(self._place(store)))
        return f"Pool {store.name} refreshed"

    # volumes

    async def v_vol_dumpxml(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        store = self._store(options["--pool"])
        volume = self._volume(store, plain[0])
        size = Path(volume.file).stat().st_size
        return (f"<volume type='file'><name>{plain[0]}</name><capacity unit='bytes'>{volume.capacity}</capacity><allocation unit='bytes'>{size}</allocation>"
                f"<physical unit='bytes'>{size}</physical><target><path>{_path(store.name)}/{plain[0]}</path><format type='{volume.form}'/></target>"
                + (f"<backingStore><path>{volume.backing}</path><format type='qcow2'/></backingStore>" if volume.backing else "") + "</volume>")

    async def v_vol_create(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        store, root = self._store(plain[0]), etree.fromstring(await _all(stdin))
        name = str(root.findtext("name"))
        form = root.find("target/format")
        below = root.findtext("backingStore/path") or ""
        if below and self._file(below) is None:
            raise Failed(f"Failed to create vol from /dev/stdin\nerror: Cannot access backing file '{below}': No such file or directory")
        self._new(store, name, int(root.findtext("capacity") or 0), str(form.get("type")) if form is not None else "raw", below)
        return f"Vol {name} created"

    async def v_vol_create_from(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        store, root = self._store(plain[0]), etree.fromstring(await _all(stdin))
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
                    raise Failed(f"cannot write to volume {plain[0]}\nerror: cannot write data to file"
                                 f" '{_path(store.name)}/{plain[0]}': No space left on device")
                file.write(piece)
        self.host.note(f"uploaded {plain[0]}")
        return ""

    async def v_vol_delete(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        store = self._store(options["--pool"])
        volume = self._volume(store, plain[0])
        Path(volume.file).unlink(missing_ok=True)
        del self.volumes.of(self._place(store))[plain[0]]
        self.volumes.save()
        self.host.note(f"deleted {plain[0]}")
        return f"Vol {plain[0]} deleted"

    def _new(self, store: StorePlan, name: str, capacity: int, form: str, backing: str = "") -> LabVolume:
        volumes = self.volumes.of(self._place(store))
        if name in volumes:
            raise Failed(f"Failed to create vol from /dev/stdin\nerror: storage volume '{name}' exists already")
        if self.host.knobs.full:
            raise Failed(f"Failed to create vol {name}\nerror: cannot allocate {capacity} bytes in file"
                         f" '{_path(store.name)}/{name}': No space left on device")
        volumes[name] = LabVolume(capacity, form, self.volumes.new_file(), backing)
        Path(volumes[name].file).touch()
        self.volumes.save()
        self.host.visible.setdefault(store.name, set()).add(name)
        self.host.note(f"made {name}")
        return volumes[name]

    def _store(self, name: str) -> StorePlan:
        store = next((store for store in self.host.plan.stores if store.name == name), None)
        if store is None:
            raise Failed(f"failed to get pool '{name}'\nerror: Storage pool not found: no storage pool with matching name '{name}'")
        return store

    def _place(self, store: StorePlan) -> str:
        return store.shared or f"{self.host.plan.name}:{store.name}"

    def _volumes(self, store: StorePlan) -> dict[str, LabVolume]:
        """What this host knows of the datastore: what another host put there is seen only after a refresh."""
        known = self.host.visible.get(store.name, set())
        return {name: volume for name, volume in self.volumes.of(self._place(store)).items() if name in known}

    def _volume(self, store: StorePlan, name: str) -> LabVolume:
        volume = self._volumes(store).get(name)
        if volume is None:
            raise Failed(f"failed to get vol '{name}'\nerror: Storage volume not found: no storage vol with matching path '{name}'")
        return volume

    def _free(self, store: StorePlan) -> int:
        if self.host.knobs.full:
            return 0
        return store.free_bytes - sum(Path(volume.file).stat().st_size for volume in self.volumes.of(self._place(store)).values())

    # guests

    def _guest(self, name: str) -> LabGuest:
        if name not in self.host.guests:
            raise Failed(f"failed to get domain '{name}'")
        return self.host.guests[name]

    async def v_dumpxml(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        return self._guest(plain[0]).xml

    async def v_domstate(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        return "running" if self._guest(plain[0]).running else "shut off"

    async def v_define(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        try:
            root = etree.fromstring(await _all(stdin))
        except etree.XMLSyntaxError as error:
            raise Failed(f"Failed to define domain from /dev/stdin\nerror: (domain_definition):1: {error}") from error
        name = str(root.findtext("name"))
        if name in self.host.guests:
            raise Failed(f"Failed to define domain from /dev/stdin\nerror: operation failed: domain '{name}' already exists"
                         f" with uuid {self.host.guests[name].uuid}")
        ident = str(uuids.uuid4())
        etree.SubElement(root, "uuid").text = ident
        self.host.guests[name] = LabGuest(name, ident, etree.tostring(root, encoding="unicode"))
        self.host.note(f"defined {name}")
        return f"Domain '{name}' defined from /dev/stdin"

    async def v_start(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        guest = self._guest(plain[0])
        fail = f"Failed to start domain '{guest.name}'\nerror: "
        if guest.running:
            raise Failed("Domain is already active")
        root = etree.fromstring(guest.xml.encode())
        for source in root.findall("devices/interface/source"):
            if source.get("network") not in self.host.plan.networks:
                raise Failed(fail + f"Network not found: no network with matching name '{source.get('network')}'")
        for source in root.findall("devices/disk/source"):
            self._volume(self._store(str(source.get("pool"))), str(source.get("volume")))
        running = sum(int(etree.fromstring(g.xml.encode()).findtext("memory") or 0) << 10 for g in self.host.guests.values() if g.running)
        if running + (int(root.findtext("memory") or 0) << 10) > self.host.plan.memory_bytes:
            raise Failed(fail + "internal error: process exited while connecting to monitor: cannot set up guest memory 'pc.ram': Cannot allocate memory")
        guest.running = True
        self.host.note(f"started {guest.name}")
        self.guests.boot(self.host, guest)
        return f"Domain '{guest.name}' started"

    async def v_destroy(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        guest = self._guest(plain[0])
        if not guest.running:
            raise Failed(f"Failed to destroy domain '{guest.name}'\nerror: Requested operation is not valid: domain is not running")
        guest.running = False
        self.guests.halt(self.host, guest)
        self.host.note(f"destroyed {guest.name}")
        return f"Domain '{guest.name}' destroyed"

    async def v_undefine(self, plain: list[str], options: dict[str, str], stdin: Stdin) -> str:
        guest = self._guest(plain[0])
        del self.host.guests[guest.name]
        self.host.note(f"undefined {guest.name}")
        return f"Domain '{guest.name}' has been undefined"


def _path(pool: str) -> str:
    return f"/var/lib/libvirt/images/{pool}"


async def _all(stdin: Stdin) -> bytes:
    data = b""
    while piece := await stdin.read(1 << 16):
        data += piece
        if len(data) > 1 << 20:
            raise Failed("document too large")
    return data
