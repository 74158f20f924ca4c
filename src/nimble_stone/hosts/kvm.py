"""A KVM host, agentless over SSH with virsh. One object per host and purpose; it records what it sends and receives."""

from __future__ import annotations

import asyncio
import re
from collections.abc import AsyncIterator, Callable
from typing import Literal, Protocol

from nimble_stone.core.errors import Conflict, RemoteFailed, StoneError
from nimble_stone.core.estate import Datastore, Facts
from nimble_stone.hosts import commands, xml_in, xml_out
from nimble_stone.reach import Answer, Reach, Target


class Recorder(Protocol):
    """Keeps commands and answers (the transcript)."""

    def __call__(self, target: str, command: str, answer: str, status: int, seconds: float) -> None: ...


def no_record(target: str, command: str, answer: str, status: int, seconds: float) -> None:
    """A recorder that keeps nothing."""


class KvmHost:
    """Commands to one host. Raises RemoteError and its kinds; virsh's exit code says nothing, so its words are read."""

    def __init__(self, reach: Reach, target: Target, record: Recorder = no_record) -> None:
        self._reach, self._target, self._record = reach, target, record

    @property
    def name(self) -> str:
        """The host's name."""
        return self._target.name

    async def _run(self, command: str, data: bytes = b"", *, limit_s: float = 35.0, shown: str = "") -> Answer:
        try:
            answer = await self._reach.ssh.run(self._target, command, data=data, limit_s=limit_s)
        except StoneError as error:
            self._record(self.name, command + (f" <<'END'\n{shown}END" if shown else ""), str(error), -1, 0.0)
            raise
        self._record(self.name, command + (f" <<'END'\n{shown}END" if shown else ""),
                     "\n".join(part for part in (answer.text if b"\0" not in answer.out[:64] else f"({len(answer.out)} bytes)", answer.err) if part),
                     answer.status, answer.seconds)
        return answer

    async def _virsh(self, *words: str, data: str = "", seconds: int = 30) -> str:
        """Answer text of a virsh command. Raises RemoteFailed with the host's own words."""
        answer = await self._run(commands.virsh(*words, seconds=seconds), data.encode(), limit_s=seconds + 5, shown=data)
        if answer.status != 0:
            raise self._failure(" ".join(words), answer)
        return answer.text

    def _failure(self, what: str, answer: Answer) -> RemoteFailed:
        words = " ".join(line.removeprefix("error:").strip() for line in answer.err.splitlines() if line.strip())[:400]
        if answer.status in (124, 137):
            words = "the command ran into its time limit on the host"
        if answer.status == 127:
            words = "virsh is not installed, or not in the path of this account"
        hint = next((text for key, text in _HINTS.items() if key in words), "See the transcript; repair the host, then retry.")
        return RemoteFailed(f"{self.name}: {what.split(' /dev/stdin')[0]}: {words or f'status {answer.status}'}", target=self.name, operation=what, hint=hint)

    async def _maybe(self, *words: str) -> str | None:
        """Like _virsh, but None when the thing named does not exist."""
        answer = await self._run(commands.virsh(*words))
        if answer.status == 0:
            return answer.text
        if any(text in answer.err for text in ("not found", "failed to get domain", "failed to get vol", "no domain with")):
            return None
        raise self._failure(" ".join(words), answer)

    async def read_facts(self, now: float, known: Facts | None = None) -> Facts:
        """All facts of the host, read side by side. The domain type is probed once and then kept from `known`."""
        link, *answers = await asyncio.gather(
            self._plain("ip -j link"), self._virsh("hostname"), self._virsh("capabilities", seconds=60), self._virsh("nodememstats"),
            self._virsh("version", seconds=60),
            self._virsh("pool-list", "--all", "--name"), self._virsh("pool-list", "--name"),
            self._virsh("net-list", "--all", "--name"), self._virsh("net-list", "--name"), self._virsh("domstats", "--state"))
        hostname, capabilities, memory, version, pools, active_pools, nets, active_nets, state = answers
        links = xml_in.links(link)
        running = xml_in.states(state)
        running_pools, running_nets = set(xml_in.names(active_pools)), set(xml_in.names(active_nets))
        stores, networks, guests, probe = await asyncio.gather(
            asyncio.gather(*(self._datastore(name, name in running_pools) for name in xml_in.names(pools))),
            asyncio.gather(*(self._virsh("net-dumpxml", name) for name in xml_in.names(nets))),
            asyncio.gather(*(self._maybe("dumpxml", name) for name in running)),
            self._probe(known))
        model, threads = xml_in.capabilities(capabilities)
        return Facts(
            host=self.name, read_at=now, hostname=hostname, cpu_model=model, threads=threads, memory_bytes=xml_in.memory_bytes(memory),
            hypervisor=xml_in.key_values(version).get("Running hypervisor", ""), domain_type=probe[0], domain_reason=probe[1],
            datastores=tuple(store for store in stores if store),
            networks=tuple(xml_in.network(text, name in running_nets, links) for name, text in zip(xml_in.names(nets), networks, strict=True)),
            guests=tuple(xml_in.guest(text, running[name]) for name, text in zip(running, guests, strict=True) if text))

    async def _plain(self, command: str) -> str:
        return (await self._run(commands.limited(command, 10))).text

    async def _datastore(self, name: str, active: bool) -> Datastore | None:
        text = await self._maybe("pool-dumpxml", name)
        if text is None:
            return None
        found = xml_in.pool(text)
        answer = await self._run(commands.free_space(found.path)) if active and found.path else None
        lines = answer.text.split() if answer and answer.status == 0 else []
        return xml_in.datastore(found, active, int(lines[-1]) if lines and lines[-1].isdigit() else None)

    async def _probe(self, known: Facts | None) -> tuple[Literal["kvm", "qemu"], str]:
        if known and known.domain_type:
            return known.domain_type, known.domain_reason
        answer = await self._run(commands.kvm_probe(), limit_s=commands.PROBE_S + 5)
        if b"Booting from" in answer.out or b"No bootable device" in answer.out:
            return "kvm", "a guest's firmware ran under KVM"
        return "qemu", "KVM is advertised or absent, but a guest's firmware did not get through under it"

    async def answers_ping(self, address: str) -> bool:
        """Whether somebody answers on an address, seen from this host."""
        return (await self._run(commands.ping(address), limit_s=8)).status == 0

    # --- volumes ---

    async def volume(self, datastore: str, name: str) -> xml_in.Volume | None:
        """The volume, or None."""
        text = await self._maybe("vol-dumpxml", "--pool", datastore, name)
        return xml_in.volume(text) if text is not None else None

    async def refresh(self, datastore: str) -> None:
        """Make the host see what others put into a shared datastore."""
        await self._virsh("pool-refresh", datastore)

    async def create_volume(self, datastore: str, name: str, form: str, capacity_bytes: int) -> None:
        """An empty thin volume."""
        await self._virsh("vol-create", datastore, "/dev/stdin", data=xml_out.volume(name, form, capacity_bytes))

    async def upload(self, datastore: str, name: str, pieces: AsyncIterator[bytes], *, limit_s: int, sent: Callable[[int], None]) -> None:
        """Stream bytes into a volume. Raises RemoteFailed in the host's words, Unreachable when it is lost in mid-transfer."""
        words = ("vol-upload", "--pool", datastore, name, "/dev/stdin")
        command = commands.virsh(*words, seconds=limit_s)
        try:
            answer = await self._reach.ssh.stream(self._target, command, pieces, limit_s=limit_s + 5, sent=sent)
        except StoneError as error:
            self._record(self.name, command, str(error), -1, 0.0)
            raise
        self._record(self.name, command, answer.err or answer.text, answer.status, answer.seconds)
        if answer.status != 0:
            raise self._failure(" ".join(words), answer)

    async def push_rate(self, pieces: AsyncIterator[bytes], size: int) -> float:
        """Bytes per second that reach the host over SSH. Raises RemoteError."""
        answer = await self._reach.ssh.stream(self._target, commands.swallow(30), pieces, limit_s=35)
        self._record(self.name, commands.swallow(30), answer.err, answer.status, answer.seconds)
        return size / max(0.01, answer.seconds) if answer.status == 0 else 0.0

    async def pull_rate(self, url: str) -> float:
        """Bytes per second at which the host fetches from a URL. Raises RemoteFailed when it cannot."""
        config = f'url = "{url}"\noutput = "/dev/null"\nfail\nsilent\nshow-error\nconnect-timeout = 3\nmax-time = 10\nwrite-out = "%{{speed_download}}"\n'
        answer = await self._run(commands.fetch(15), config.encode(), limit_s=20, shown=config)
        if answer.status != 0:
            raise RemoteFailed(f"{self.name} cannot fetch from this server: {_curl_words(answer)}", target=self.name, operation="fetch")
        try:
            return float(answer.text.strip().splitlines()[-1].replace(",", "."))
        except (ValueError, IndexError):
            return 0.0

    async def pull(self, url: str, path: str, *, resume: bool, rate: float, limit_s: int) -> None:
        """Let the host fetch a URL into a file, going on where the file ends when `resume`. Raises RemoteFailed in curl's words."""
        config = (f'url = "{url}"\noutput = "{path}"\nfail\nsilent\nshow-error\nconnect-timeout = 10\nspeed-limit = 1024\nspeed-time = 30\n'
                  + ('continue-at = "-"\n' if resume else "") + (f"limit-rate = {int(rate)}\n" if rate else ""))
        shown = re.sub(r"(/pull/[0-9a-f]+)\.[^\"]*", r"\1.…", config)            # the ticket is good for one transfer, but it is a ticket
        answer = await self._run(commands.fetch(limit_s), config.encode(), limit_s=limit_s + 5, shown=shown)
        if answer.status != 0:
            raise RemoteFailed(f"{self.name} could not fetch the disk: {_curl_words(answer)}", target=self.name, operation="fetch",
                               hint="See whether the host reaches this server; retry.")

    async def file_size(self, path: str) -> int:
        """Bytes of a file on the host, -1 when it is not there."""
        answer = await self._run(commands.file_size(path))
        return int(answer.text) if answer.status == 0 and answer.text.strip().isdigit() else -1

    async def digest(self, path: str) -> str:
        """SHA-256 of a file on the host."""
        answer = await self._run(commands.digest(path), limit_s=3605)
        if answer.status != 0:
            raise self._failure(f"sha256sum {path}", answer)
        return answer.text.split(" ")[0].lstrip("\\")

    async def overlay(self, datastore: str, base_path: str, name: str, capacity_bytes: int) -> None:
        """A volume that holds only what differs from another one of the same datastore."""
        await self._virsh("vol-create", datastore, "/dev/stdin", data=xml_out.volume(name, "qcow2", capacity_bytes, backing_path=base_path))

    async def clone(self, datastore: str, base: str, name: str, *, full: bool, capacity_bytes: int) -> None:
        """A copy of a volume, thin, or with all its space reserved."""
        if full:
            await self._virsh("vol-create-from", datastore, "/dev/stdin", base, "--inputpool", datastore, "--prealloc-metadata", seconds=3600,
                              data=xml_out.volume(name, "qcow2", capacity_bytes, capacity_bytes))
        else:
            await self._virsh("vol-clone", "--pool", datastore, base, name, seconds=3600)

    async def delete_volume(self, datastore: str, name: str) -> None:
        """Remove a volume of ours; the name carries the mark, others are refused."""
        if not name.startswith("ns-"):
            raise Conflict(f"volume “{name}” does not bear our mark and is left alone", code="not-ours")
        await self._virsh("vol-delete", "--pool", datastore, name)

    # --- guests ---

    async def domain(self, name: str) -> xml_in.Domain | None:
        """The guest, or None."""
        text = await self._maybe("dumpxml", name)
        return xml_in.domain(text) if text is not None else None

    async def running(self, name: str) -> bool:
        """Whether the guest runs."""
        return (await self._maybe("domstate", name) or "") in ("running", "paused", "idle", "in shutdown")

    async def define(self, design: xml_out.GuestDesign) -> None:
        """Define a guest with our mark."""
        await self._virsh("define", "--validate", "/dev/stdin", data=xml_out.domain(design))

    async def start(self, name: str) -> None:
        """Start a guest."""
        await self._virsh("start", name, seconds=90)

    async def remove(self, name: str, run: str) -> bool:
        """Stop and undefine a guest that bears the mark of `run`; False when there is none. Raises Conflict for a guest without it."""
        found = await self.domain(name)
        if found is None:
            return False
        if found.mark is None or found.mark.run != run:
            raise Conflict(f"guest “{name}” on {self.name} does not bear the mark of run {run} and is left alone", code="not-ours",
                           hint="Remove or rename it yourself if it is in the way.")
        if await self.running(name):
            await self._virsh("destroy", name, seconds=60)
        await self._virsh("undefine", name)
        return True

    async def console(self, name: str) -> str:
        """The tail of the serial console, '' when there is none yet."""
        answer = await self._reach.ssh.run(self._target, commands.console_tail(name), limit_s=15)
        return answer.text if answer.status == 0 else ""


def _curl_words(answer: Answer) -> str:
    if answer.status == 127:
        return "curl is not installed there"
    return " ".join(line.removeprefix("curl:").strip() for line in answer.err.splitlines())[:200] or f"status {answer.status}"


_HINTS = {
    "No space left on device": "Free space on the datastore or choose another, then retry.",
    "cannot allocate": "Free space on the datastore or choose another, then retry.",
    "Cannot allocate memory": "The host has too little memory free; stop something or choose another host.",
    "Cannot get interface MTU": "The network's bridge is missing on this host; repair it, then retry.",
    "failed to connect to the hypervisor": "Start libvirtd on the host, then retry.",
    "already exists": "Something of that name is there; look whose it is, rename the node or remove it.",
    "time limit": "See whether the host is overloaded, then retry.",
    "not installed": "Install libvirt's client on the host, or use another account.",
}
