"""Real machines: QEMU processes with blank disks behind the lab's Redfish controllers. What the
controller is told is done to the process: power, the image, where it boots from.
"""

from __future__ import annotations

import asyncio
import shutil
import signal
import socket
import subprocess
import threading
from collections import Counter
from collections.abc import Callable, Coroutine, Iterable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, TypeVar
from urllib.parse import urlsplit

from nimble_stone.lab.controllers.bmc import Controller
from nimble_stone.lab.controllers.machine import LabMachine
from nimble_stone.lab.scenario.demo import MachinePlan

T = TypeVar("T")

GATEWAY = "10.44.20.1"
"""As which machines reach this machine's loopback address."""
SUBNET = "10.44.20.0/23"
NODES = ("10.44.20.11", "10.44.20.12", "10.44.20.13")
"""Addresses of nodes."""
DIAL = """nimble-stone: dial/1
mapped:
  - {planned: 10.44.20.0/24, real: 127.61.20.0/24}
  - {planned: 10.44.24.0/24, real: 127.61.24.0/24}
low_ports: 20000
connect_seconds: 40
"""
OVMF = Path("/usr/share/OVMF")
DISK_MIB = 256
MEMORY_MIB = 384


def plan(name: str, firmware: str, last: int, mib: int = DISK_MIB) -> MachinePlan:
    """A machine with two drives of that size."""
    return MachinePlan(
        name,
        f"10.44.3.{last}",
        "Kelda",
        "kelda-metal",
        "HS-110",
        MEMORY_MIB << 20,
        2,
        2,
        mib << 20,
        "HDD",
        {"firmware": firmware},
    )


def real(address: str) -> str:
    """Where a node's address lies on the loopback interface."""
    return address.replace("10.44.", "127.61.", 1)


class Switch:
    """The network that all machines hang on. It learns where each address is, as real ones do: the
    way out must not see what nodes tell one another. `open` answers the port to plug into.
    """

    def __init__(self) -> None:
        self._plugs: set[asyncio.StreamWriter] = set()
        self._known: dict[bytes, asyncio.StreamWriter] = {}
        self._server: asyncio.Server | None = None
        self.tagged: Counter[int] = Counter()
        """VLAN → frames with its tag (IEEE 802.1Q)."""

    async def open(self) -> int:
        """Listen for plugs: connections of QEMU's socket network, frames after their length."""
        self._server = await asyncio.start_server(self._plugged, "127.0.0.1", 0)
        port: int = self._server.sockets[0].getsockname()[1]
        return port

    async def close(self) -> None:
        """Pull all plugs."""
        if self._server is not None:
            self._server.close()
        for writer in list(self._plugs):
            writer.close()

    async def _plugged(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        self._plugs.add(writer)
        try:
            while True:
                head = await reader.readexactly(4)
                frame = await reader.readexactly(int.from_bytes(head, "big"))
                self._known[frame[6:12]] = writer
                if frame[12:14] == b"\x81\x00":
                    self.tagged[int.from_bytes(frame[14:16], "big") & 0xFFF] += 1
                there = self._known.get(frame[:6])
                for other in [there] if there else list(self._plugs):
                    if other is not writer and not other.is_closing():
                        other.write(head + frame)
        except (asyncio.IncompleteReadError, ConnectionError):
            pass
        finally:
            self._plugs.discard(writer)
            self._known = {mac: one for mac, one in self._known.items() if one is not writer}
            writer.close()


def _until_asked(monitor: socket.socket) -> None:
    """Read until QEMU's monitor asks for a command."""
    while not monitor.recv(65536).endswith(b"(qemu) "):
        pass


class Way:
    """The way out of the switch: a process of QEMU without a machine, which hands out addresses by
    DHCP and leads to this machine.
    """

    def __init__(self, folder: Path, plug: int) -> None:
        self._monitor = folder / "way.sock"
        line = [
            *("qemu-system-x86_64", "-machine", "none", "-nodefaults", "-display", "none"),
            *("-serial", "none", "-monitor", f"unix:{self._monitor},server,nowait"),
            "-netdev",
            f"user,id=u,net={SUBNET},host={GATEWAY},dhcpstart=10.44.21.200,dns=10.44.20.3",
            *("-netdev", "hubport,id=hu,hubid=0,netdev=u"),
            *("-netdev", f"socket,id=s,connect=127.0.0.1:{plug}"),
            *("-netdev", "hubport,id=hs,hubid=0,netdev=s"),
        ]
        with (folder / "way.log").open("ab") as log:
            self._process = subprocess.Popen(line, stdout=log, stderr=log)

    def forward(self, nodes: Sequence[str] = NODES, *more: int) -> None:
        """From now on nodes are reached from this machine, at `real` of their addresses; `more`
        ports besides their services' and SSH.
        """
        pairs = ((8080, 8080), (20022, 22), *((one, one) for one in more))
        self._say(
            f"hostfwd_add u tcp:{real(node)}:{outside}-{node}:{inside}"
            for node in nodes
            for outside, inside in pairs
        )

    def end(self, node: str, *more: int) -> None:
        """From now on nothing answers for a node: the way would, also for one that is dead."""
        self._say(f"hostfwd_remove u tcp:{real(node)}:{port}" for port in (8080, 20022, *more))

    def _say(self, words: Iterable[str]) -> None:
        with socket.socket(socket.AF_UNIX) as monitor:
            monitor.settimeout(20)
            monitor.connect(str(self._monitor))
            for word in words:
                _until_asked(monitor)
                monitor.sendall(f"{word}\n".encode())
            # the last one is done when it asks again
            _until_asked(monitor)

    def close(self) -> None:
        """Off."""
        self._process.terminate()
        self._process.wait(20)


class Tap:
    """An interface of this machine that hangs on the switch, with an address: where a boot server
    answers. Close with `close`.
    """

    def __init__(self, folder: Path, plug: int, name: str, address: str) -> None:
        self.name = name
        for words in (
            f"tuntap add dev {name} mode tap",
            f"addr add {address} dev {name}",
            f"link set {name} up",
        ):
            subprocess.run(["ip", *words.split()], check=True)
        line = [
            *("qemu-system-x86_64", "-machine", "none", "-nodefaults", "-display", "none"),
            *("-serial", "none", "-monitor", "none"),
            *("-netdev", f"tap,id=t,ifname={name},script=no,downscript=no"),
            *("-netdev", "hubport,id=ht,hubid=0,netdev=t"),
            *("-netdev", f"socket,id=s,connect=127.0.0.1:{plug}"),
            *("-netdev", "hubport,id=hs,hubid=0,netdev=s"),
        ]
        with (folder / "tap.log").open("ab") as log:
            self._process = subprocess.Popen(line, stdout=log, stderr=log)

    def close(self) -> None:
        """Off, and gone."""
        self._process.terminate()
        self._process.wait(20)
        subprocess.run(["ip", "link", "delete", self.name], check=False)


@dataclass
class QemuBox:
    """The inside of one machine: a process. `folder` keeps its disks over power cycles; `plug`:
    the switch's port it hangs on.
    """

    folder: Path
    plug: int
    drive_bytes: int = DISK_MIB << 20
    rom: bool = False
    """Whether its network card brings iPXE along; with UEFI the firmware boots from the network by
    itself.
    """
    cards: int = 1
    """How many ports it has, all on the same switch."""
    swapped: bool = False
    """Whether its drives come in the other order: the kernel then names them otherwise."""
    process: subprocess.Popen[bytes] | None = None
    serial: Path = field(init=False)

    def __post_init__(self) -> None:
        self.folder.mkdir(parents=True)
        self.serial = self.folder / "serial.log"
        for number in range(2):
            with self.disk(number).open("wb") as file:
                file.truncate(self.drive_bytes)

    def disk(self, number: int) -> Path:
        """The file behind a drive."""
        return self.folder / f"disk{number}.raw"

    async def start(self, machine: LabMachine, source: str, over: Callable[[], None]) -> None:
        """Power on."""
        urls = [url for url in (machine.image, machine.second) if url]
        media = [await asyncio.to_thread(self._medium, url) for url in urls]
        first = {"Cd": "cd", "Pxe": "net"}.get(source, "disk")
        self.process = await asyncio.to_thread(self._begin, self._command(machine, media, first))
        process, loop = self.process, asyncio.get_running_loop()

        def watch() -> None:
            if process.wait() == 0:
                loop.call_soon_threadsafe(over)

        threading.Thread(target=watch, daemon=True).start()

    async def stop(self, machine: LabMachine) -> None:
        """Cut its power."""
        process, self.process = self.process, None
        if process is not None and process.poll() is None:
            process.send_signal(signal.SIGKILL)
            await asyncio.to_thread(process.wait)

    def _card(self, machine: LabMachine, first: str) -> str:
        card = f"virtio-net-pci,netdev=n0,mac={machine.plan.mac(1)}"
        return card + ("" if self.rom else ",romfile=") + (",bootindex=0" if first == "net" else "")

    def _begin(self, command: list[str]) -> subprocess.Popen[bytes]:
        with (self.folder / "qemu.log").open("ab") as log:
            return subprocess.Popen(command, stdout=log, stderr=log)

    def _medium(self, url: str) -> Path:
        """What the controller reads of the image, by curl."""
        path = self.folder / url.rpartition("/")[2]
        place = url.replace(str(urlsplit(url).hostname), "127.0.0.1", 1)
        subprocess.run(["curl", "-sSf", "-o", str(path), place], check=True, timeout=120)
        return path

    def _command(self, machine: LabMachine, media: list[Path], first: str) -> list[str]:
        line = [
            *("qemu-system-x86_64", "-accel", "tcg", "-m", str(MEMORY_MIB), "-smp", "2"),
            *("-display", "none", "-no-reboot", "-serial", f"file:{self.serial}"),
            *("-smbios", f"type=1,serial={machine.serial},uuid={machine.uuid},manufacturer=Holm"),
            *("-netdev", f"socket,id=n0,connect=127.0.0.1:{self.plug}"),
            *("-device", self._card(machine, first)),
            *("-device", "virtio-scsi-pci"),
        ]
        for number in range(1, self.cards):
            mac = machine.plan.mac(number + 1)
            line += [
                *("-netdev", f"socket,id=n{number},connect=127.0.0.1:{self.plug}"),
                *("-device", f"virtio-net-pci,netdev=n{number},mac={mac},romfile="),
            ]
        for number in (1, 0) if self.swapped else (0, 1):
            line += [
                *("-drive", f"file={self.disk(number)},if=none,id=h{number},format=raw"),
                "-device",
                f"virtio-blk-pci,drive=h{number},serial={machine.serial}D{number},"
                f"bootindex={(1 if first == 'disk' else 5) + number}",
            ]
        for number, medium in enumerate(media):
            index = (1 if first == "cd" else 9) + 10 * number
            line += [
                *("-drive", f"file={medium},if=none,id=c{number},format=raw,readonly=on"),
                *("-device", f"scsi-cd,drive=c{number},bootindex={index}"),
            ]
        if machine.plan.odd["firmware"] == "uefi":
            variables = self.folder / "vars.fd"
            if not variables.exists():
                shutil.copy(OVMF / "OVMF_VARS_4M.fd", variables)
            code = OVMF / "OVMF_CODE_4M.fd"
            line += [
                "-drive",
                f"if=pflash,format=raw,unit=0,readonly=on,file={code}",
                "-drive",
                f"if=pflash,format=raw,unit=1,file={variables}",
            ]
        return line


@dataclass
class RealMachine:
    """A machine, its controller, and where that listens on the loopback address."""

    box: QemuBox
    controller: Controller
    port: int

    @property
    def machine(self) -> LabMachine:
        return self.controller.machine


class Room:
    """Machines with their controllers, in a thread of their own. Close with `close`."""

    def __init__(self, folder: Path, plans: list[MachinePlan], ports: list[int]) -> None:
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._loop.run_forever, daemon=True)
        self._thread.start()
        self.machines: dict[str, RealMachine] = {}
        folder.mkdir(parents=True)
        self._switch = Switch()
        self.tagged = self._switch.tagged
        plug = int(self._do(self._switch.open()))
        self.plug, self.folder = plug, folder
        self.way = Way(folder, plug)
        for one, port in zip(plans, ports, strict=True):
            box = QemuBox(folder / one.name, plug, one.drive_bytes)
            controller = Controller(LabMachine(one), folder, lambda: 12.0, box)
            self.machines[one.name] = RealMachine(box, controller, port)
            self._do(controller.open("127.0.0.1", port))

    def _do(self, work: Coroutine[Any, Any, T]) -> T:
        return asyncio.run_coroutine_threadsafe(work, self._loop).result(60)

    def pull(self, name: str) -> None:
        """Cut the power of a machine at its plug."""
        one = self.machines[name]
        self._do(one.box.stop(one.machine))
        one.machine.power = "Off"

    def die(self, name: str) -> None:
        """Cut the power of a machine and of its controller."""
        self.pull(name)
        self._do(self.machines[name].controller.close())

    def revive(self, name: str) -> None:
        """Its controller answers again; the machine stays off."""
        one = self.machines[name]
        self._do(one.controller.open("127.0.0.1", one.port))

    def close(self) -> None:
        """Power off, and listen no more."""
        for one in self.machines.values():
            self._do(one.controller.close())
            self._do(one.controller.power.close())
        self.way.close()
        self._do(self._switch.close())
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join(20)
        self._loop.close()
