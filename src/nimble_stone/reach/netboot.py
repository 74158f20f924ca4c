"""Network boot: Debian's dnsmasq on one interface. It answers planned MAC addresses only, brings
their firmware to iPXE, and that to a script of this server (RFC 4578, RFC 2131; PXE 2.1).
"""

from __future__ import annotations

import asyncio
import contextlib
import fcntl
import logging
import os
import shutil
import signal
import socket
import tempfile
from collections.abc import Collection, Sequence
from ipaddress import IPv4Address, IPv4Interface
from pathlib import Path

from nimble_stone.core.errors import InputError

log = logging.getLogger("nimble_stone.reach")
BOOT_FILES = ("undionly.kpxe", "snponly.efi")
IPXE = Path("/usr/lib/ipxe")
WHERE = ("/usr/sbin/dnsmasq", "/usr/bin/dnsmasq")
PREFIX = "nimble-stone-netboot-"
END_S, STARTS_POLLS = 5.0, 100
SIOCGIFADDR, SIOCGIFNETMASK = 0x8915, 0x891B
"""Linux, netdevice(7)."""


def address_of(interface: str) -> IPv4Interface:
    """The first IPv4 address of an interface, with its network. Raises InputError."""
    name = interface.encode()[:15].ljust(256, b"\0")
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as asked:
        try:
            found = [
                socket.inet_ntoa(fcntl.ioctl(asked.fileno(), what, name)[20:24])
                for what in (SIOCGIFADDR, SIOCGIFNETMASK)
            ]
        except OSError as error:
            raise InputError(
                f"interface {interface} has no IPv4 address: {error.strerror}",
                hint="Name an interface of this machine that machines boot through.",
            ) from error
    return IPv4Interface(f"{found[0]}/{found[1]}")


def config(folder: Path, interface: str, network: IPv4Interface, span: str, script: str) -> str:
    """dnsmasq's configuration. `span`: FIRST-LAST of the addresses that it gives out, '' where
    another DHCP server does (proxy DHCP). `script`: the address of the iPXE script.

    Raises: InputError for a span that cannot be read.
    """
    lines = [
        "port=0",
        "pid-file",
        f"interface={interface}",
        "bind-interfaces",
        f"dhcp-hostsdir={folder / 'hosts'}",
        f"dhcp-leasefile={folder / 'leases'}",
        "dhcp-ignore=tag:!known",
        "enable-tftp",
        f"tftp-root={folder / 'tftp'}",
        "dhcp-match=set:ipxe,175",
    ]
    if not span:
        lines += [
            f"dhcp-range={network.network.network_address},proxy,{network.netmask}",
            'pxe-service=tag:!ipxe,x86PC,"boot",undionly.kpxe',
            'pxe-service=tag:!ipxe,BC_EFI,"boot",snponly.efi',
            'pxe-service=tag:!ipxe,x86-64_EFI,"boot",snponly.efi',
            f'pxe-service=tag:ipxe,x86PC,"script",{script}',
            f'pxe-service=tag:ipxe,BC_EFI,"script",{script}',
            f'pxe-service=tag:ipxe,x86-64_EFI,"script",{script}',
        ]
        return "".join(f"{line}\n" for line in lines)
    first, _, last = span.partition("-")
    try:
        ends = IPv4Address(first.strip()), IPv4Address(last.strip())
    except ValueError as error:
        raise InputError(
            f"“{span}” is no range of addresses", hint="Write FIRST-LAST, two IPv4 addresses."
        ) from error
    lines += [
        "dhcp-authoritative",
        f"dhcp-range={ends[0]},{ends[1]},{network.netmask},10m",
        "dhcp-match=set:bios,option:client-arch,0",
        "dhcp-match=set:efi,option:client-arch,7",
        "dhcp-match=set:efi,option:client-arch,9",
        f"dhcp-boot=tag:ipxe,{script}",
        "dhcp-boot=tag:!ipxe,tag:bios,undionly.kpxe",
        "dhcp-boot=tag:!ipxe,tag:efi,snponly.efi",
    ]
    return "".join(f"{line}\n" for line in lines)


class NetBoot:
    """dnsmasq as a process of ours. `log_file`: what it prints.

    It takes further MAC addresses while it runs; to forget some it is started again, when none is
    left: an image that another machine fetches meanwhile is not cut. A machine that it still knows
    gets a script that sends it on to its own drive.
    """

    def __init__(self, log_file: Path, interface: str, network: IPv4Interface, span: str) -> None:
        self._log, self._interface, self._network = log_file, interface, network
        self._number = log_file.with_suffix(".pid")
        self._span, self._script = span, ""
        # dnsmasq gives its rights up and reads its files later: they are nothing to hide
        self._holder = tempfile.TemporaryDirectory(prefix=PREFIX)
        self._folder = Path(self._holder.name)
        self._known: set[str] = set()
        self._changing = asyncio.Lock()
        self._process: asyncio.subprocess.Process | None = None
        self._watch: asyncio.Task[None] | None = None
        self.trouble = "it was not started"
        """Why machines are not answered, '' when they are."""

    async def open(self, script: str) -> None:
        """Start it. What is missing is kept as `trouble`."""
        self._script = script
        missing = [name for name in BOOT_FILES if not (IPXE / name).exists()]
        if not _program() or missing:
            self.trouble = "packages dnsmasq-base and ipxe are not installed"
            return
        await self._end_of_before()
        await asyncio.to_thread(self._lay_out)
        await self._start()

    async def _end_of_before(self) -> None:
        """End what a server that was killed left running: it holds the ports. Its number was kept;
        a process that has it by now and is not ours stays.
        """
        with contextlib.suppress(OSError, ValueError):
            pid = int(self._number.read_text())
            place = Path(f"/proc/{pid}/cmdline")
            if PREFIX.encode() not in place.read_bytes():
                return
            os.kill(pid, signal.SIGTERM)
            for _ in range(STARTS_POLLS):
                if not place.read_bytes():
                    return
                await asyncio.sleep(0.05)

    def _lay_out(self) -> None:
        self._folder.chmod(0o755)
        for name in ("tftp", "hosts"):
            (self._folder / name).mkdir(exist_ok=True)
        for name in BOOT_FILES:
            shutil.copyfile(IPXE / name, self._folder / "tftp" / name)
        text = config(self._folder, self._interface, self._network, self._span, self._script)
        (self._folder / "dnsmasq.conf").write_text(text)

    async def _start(self) -> None:
        with self._log.open("ab") as out:
            before = out.tell()
            self._process = await asyncio.create_subprocess_exec(
                _program(),
                "--keep-in-foreground",
                "--log-facility=-",
                f"--conf-file={self._folder / 'dnsmasq.conf'}",
                stdout=out,
                stderr=out,
            )
        self._number.write_text(str(self._process.pid))
        self.trouble = ""
        self._watch = asyncio.create_task(self._watched(self._process))
        for _ in range(STARTS_POLLS):
            if self.trouble or b"started, version" in self._log.read_bytes()[before:]:
                break
            await asyncio.sleep(0.05)

    async def _watched(self, process: asyncio.subprocess.Process) -> None:
        code = await process.wait()
        self.trouble = f"dnsmasq ended with status {code}; see {self._log}"
        log.error("network boot: %s", self.trouble)

    async def answer(self, macs: Collection[str]) -> None:
        """Answer these MAC addresses from now on."""
        async with self._changing:
            wanted = {mac.lower() for mac in macs}
            if self._process is None:
                return
            if not wanted and self._known:
                await self._forget()
            elif new := wanted - self._known:
                self._known |= new
                await asyncio.to_thread(self._tell, sorted(new))
            if self.trouble:
                # it ended by itself: what it knew is in its folder
                await self._start()

    def _tell(self, macs: Sequence[str]) -> None:
        """Further lines, in a file that comes as a whole."""
        part = self._folder / "next"
        part.write_text("".join(f"{mac},set:known\n" for mac in macs))
        part.rename(self._folder / "hosts" / f"{len(self._known)}-{macs[0].replace(':', '')}")

    async def _forget(self) -> None:
        await self._end()
        for path in (self._folder / "hosts").iterdir():
            path.unlink()
        self._known = set()
        await self._start()

    async def close(self) -> None:
        """End it."""
        await self._end()
        self._holder.cleanup()

    async def _end(self) -> None:
        if self._watch is not None:
            self._watch.cancel()
        if self._process is None or self._process.returncode is not None:
            return
        with contextlib.suppress(ProcessLookupError):
            self._process.terminate()
        try:
            await asyncio.wait_for(self._process.wait(), END_S)
        except TimeoutError:
            self._process.kill()
            await self._process.wait()


def _program() -> str:
    """Where dnsmasq is, '' where it is not."""
    return next((path for path in WHERE if Path(path).exists()), "")
