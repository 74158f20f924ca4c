"""A KVM host, agentless over SSH with virsh. One object per host and purpose; it records what it
sends and receives.
"""

from __future__ import annotations

import asyncio
import re
from collections.abc import AsyncIterator, Callable, Sequence
from shlex import quote
from typing import Literal, Protocol

from nimble_stone.core.errors import Conflict, RemoteFailed, StoneError
from nimble_stone.core.estate import Facts
from nimble_stone.hosts import commands, reading, xml_in, xml_out
from nimble_stone.hosts.groundwork import Cmd
from nimble_stone.reach import Answer, Reach, Target

QUICK_S, SLACK_S = 1.5, 1.0
"""A firmware that ran this quickly needs no comparing; by how much slower than emulation KVM may
be.
"""


class Recorder(Protocol):
    """Keeps commands and answers (the transcript)."""

    def __call__(
        self, target: str, command: str, answer: str, status: int, seconds: float
    ) -> None: ...


def no_record(target: str, command: str, answer: str, status: int, seconds: float) -> None:
    """A recorder that keeps nothing."""


class KvmHost:
    """Commands to one host. Raises RemoteError and its kinds; virsh's exit code says nothing, so
    its words are read.
    """

    def __init__(self, reach: Reach, target: Target, record: Recorder = no_record) -> None:
        self._reach, self._target, self._record = reach, target, record

    @property
    def name(self) -> str:
        """The host's name."""
        return self._target.name

    async def _run(
        self, command: str, data: bytes = b"", *, limit_s: float = 35.0, shown: str = ""
    ) -> Answer:
        try:
            answer = await self._reach.ssh.run(self._target, command, data=data, limit_s=limit_s)
        except StoneError as error:
            self._record(
                self.name, command + (f" <<'END'\n{shown}END" if shown else ""), str(error), -1, 0.0
            )
            raise
        self._record(
            self.name,
            command + (f" <<'END'\n{shown}END" if shown else ""),
            "\n".join(
                part
                for part in (
                    answer.text if b"\0" not in answer.out[:64] else f"({len(answer.out)} bytes)",
                    answer.err,
                )
                if part
            ),
            answer.status,
            answer.seconds,
        )
        return answer

    async def _virsh(self, *words: str, data: str = "", seconds: int = 30) -> str:
        """Answer text of a virsh command. Raises RemoteFailed with the host's own words."""
        answer = await self._run(
            commands.virsh(*words, seconds=seconds), data.encode(), limit_s=seconds + 5, shown=data
        )
        if answer.status != 0:
            raise self._failure(" ".join(words), answer)
        return answer.text

    def _failure(self, what: str, answer: Answer) -> RemoteFailed:
        words = " ".join(
            line.removeprefix("error:").strip() for line in answer.err.splitlines() if line.strip()
        )[:400]
        if answer.status in (124, 137):
            words = "the command ran into its time limit on the host"
        if answer.status == 127:
            words = "virsh is not installed, or not in the path of this account"
        hint = next(
            (text for key, text in _HINTS.items() if key in words),
            "See the transcript; repair the host, then retry.",
        )
        return RemoteFailed(
            f"{self.name}: {what.split(' /dev/stdin')[0]}: {words or f'status {answer.status}'}",
            target=self.name,
            operation=what,
            hint=hint,
        )

    async def _maybe(self, *words: str) -> str | None:
        """Like _virsh, but None when the thing named does not exist."""
        answer = await self._run(commands.virsh(*words))
        if answer.status == 0:
            return answer.text
        if any(
            text in answer.err
            for text in (
                "not found",
                "failed to get domain",
                "failed to get vol",
                "no domain with",
                "failed to get pool",
            )
        ):
            return None
        raise self._failure(" ".join(words), answer)

    async def read_facts(
        self,
        now: float,
        known: Facts | None = None,
        *,
        names: Sequence[str] = (),
        clock: Callable[[], float] | None = None,
    ) -> Facts:
        """All facts of the host. `names`: peers whose addresses it is asked for; `clock` is held
        against the host's own.

        The domain type is probed once and then kept from `known`. Raises RemoteError.
        """
        ask = reading.first(names)
        sent = clock() if clock else now
        answers = dict(zip(ask, await self._script(list(ask.values()), 120), strict=True))
        received = clock() if clock else now
        reading.needed(self.name, answers)
        things = reading.second(answers)
        chunks = [
            things[start : start + reading.CHUNK] for start in range(0, len(things), reading.CHUNK)
        ]
        said = [
            item
            for part in await asyncio.gather(
                *(self._script([command for _, _, command in chunk], 300) for chunk in chunks)
            )
            for item in part
        ]
        paths = [
            pool.path
            for (kind, _, _), item in zip(things, said, strict=True)
            if kind == "pool" and item.status == 0 and (pool := xml_in.pool(item.out)).path
        ]
        dfs, probe = await asyncio.gather(
            self._script([commands.df(path) for path in paths], 60), self._probe(known)
        )
        free = {
            path: int(lines[-1])
            for path, df in zip(paths, dfs, strict=True)
            if df.status == 0 and (lines := df.out.split()) and lines[-1].isdigit()
        }
        facts = reading.build(self.name, now, sent, received, answers, things, said, free, names)
        return facts.model_copy(update={"domain_type": probe[0], "domain_reason": probe[1]})

    async def _script(self, lines: list[str], limit_s: int) -> list[reading.Said]:
        """Several commands in one conversation."""
        if not lines:
            return []
        text = reading.script(lines)
        answer = await self._run(
            commands.script(limit_s), text.encode(), limit_s=limit_s + 5, shown=text
        )
        return reading.split(answer.out.decode("utf-8", "replace"), answer.err, len(lines))

    async def do(self, command: Cmd) -> None:
        """Carry one command of groundwork out. Raises RemoteFailed in the host's words, unless they
        mean that it is so already.
        """
        answer = await self._run(
            command.text, command.data.encode(), limit_s=700, shown=command.data
        )
        if answer.status != 0 and not any(words in answer.err for words in command.fine):
            raise self._failure(
                command.text.split(" ", 5)[-1].removeprefix(commands.VIRSH).strip(), answer
            )

    async def text_of(self, path: str) -> str | None:
        """A small file, None when it is not there. Raises RemoteFailed when it may not be read."""
        answer = await self._run(commands.limited(f"cat {path}", 10))
        if answer.status != 0 and "No such file" not in answer.err:
            raise self._failure(f"cat {path}", answer)
        return answer.out.decode("utf-8", "replace") if answer.status == 0 else None

    async def listing(self, path: str) -> list[str]:
        """Names of what lies in a folder, [] when there is none."""
        answer = await self._run(commands.limited(f"ls -A {quote(path)}", 10))
        return xml_in.names(answer.text) if answer.status == 0 else []

    async def pool(self, name: str) -> xml_in.Pool | None:
        """A datastore's definition, or None."""
        text = await self._maybe("pool-dumpxml", name)
        return xml_in.pool(text) if text is not None else None

    async def pool_runs(self, name: str) -> bool:
        """Whether the datastore is started, and will be with the host."""
        return name in xml_in.names(
            await self._virsh("pool-list", "--name")
        ) and name in xml_in.names(await self._virsh("pool-list", "--all", "--autostart", "--name"))

    async def network(self, name: str) -> tuple[xml_in.Net, bool] | None:
        """A network's definition, and whether it is started and will be with the host; or None."""
        text = await self._maybe("net-dumpxml", name)
        if text is None:
            return None
        runs = name in xml_in.names(await self._virsh("net-list", "--name"))
        return xml_in.net(text), runs and name in xml_in.names(
            await self._virsh("net-list", "--all", "--autostart", "--name")
        )

    async def answer(self, command: str) -> Answer:
        """A question whose exit code says something."""
        return await self._run(command)

    async def passes(self, address: str, mtu: int) -> tuple[bool, str]:
        """Whether a packet of full size reaches an address unbroken, and the host's words."""
        answer = await self._run(commands.full_ping(address, mtu), limit_s=8)
        lines = [
            line
            for line in (answer.text + "\n" + answer.err).splitlines()
            if "mtu" in line.lower() or "too long" in line or "bytes from" in line
        ]
        return answer.status == 0, (
            lines[0][:160] if lines else "" if answer.status == 0 else "no answer"
        )

    async def _probe(self, known: Facts | None) -> tuple[Literal["kvm", "qemu"], str]:
        if known and known.domain_type:
            return known.domain_type, known.domain_reason
        answer = await self._run(commands.firmware_probe("kvm"), limit_s=commands.PROBE_S + 5)
        if b"Booting from" not in answer.out and b"No bootable device" not in answer.out:
            return (
                "qemu",
                "KVM is advertised or absent, but a guest's firmware did not get through under it",
            )
        if answer.seconds > QUICK_S:
            # It works, but slowly: nested in another virtual machine it may be many times slower
            # than emulation, and guests never come up.
            plain = await self._run(commands.firmware_probe("tcg"), limit_s=commands.PROBE_S + 5)
            if plain.seconds + SLACK_S < answer.seconds:
                return (
                    "qemu",
                    (
                        f"under KVM a guest's firmware takes {answer.seconds:.1f} s, in software"
                        f" emulation {plain.seconds:.1f} s"
                    ),
                )
        return "kvm", "a guest's firmware ran under KVM"

    async def answers_ping(self, address: str) -> bool:
        """Whether somebody answers on an address, seen from this host."""
        return (await self._run(commands.ping(address), limit_s=8)).status == 0

    async def reaches(self, name: str, port: int) -> str:
        """'' when a TCP connection from this host comes about, else why not, in the host's words.
        Raises RemoteError when the host cannot be asked.
        """
        try:
            answer = await self._run(commands.reach(name, port), limit_s=8)
        except ValueError:
            return "it is neither a host name nor an address"
        if answer.status == 0:
            return ""
        if answer.status == 124:
            return "nobody answers within 4 s"
        words = answer.err.strip().splitlines()[:1] or ["no connection"]
        return words[0].rpartition(": ")[2][:120]

    # --- volumes ---

    async def volume(self, datastore: str, name: str) -> xml_in.Volume | None:
        """The volume, or None."""
        text = await self._maybe("vol-dumpxml", "--pool", datastore, name)
        return xml_in.volume(text) if text is not None else None

    async def refresh(self, datastore: str) -> None:
        """Make the host see what others put into a shared datastore."""
        await self._virsh("pool-refresh", datastore)

    async def create_volume(
        self, datastore: str, name: str, form: str, capacity_bytes: int
    ) -> None:
        """An empty thin volume."""
        await self._virsh(
            "vol-create", datastore, "/dev/stdin", data=xml_out.volume(name, form, capacity_bytes)
        )

    async def upload(
        self,
        datastore: str,
        name: str,
        pieces: AsyncIterator[bytes],
        *,
        limit_s: int,
        sent: Callable[[int], None],
    ) -> None:
        """Stream bytes into a volume. Raises RemoteFailed in the host's words, Unreachable when it
        is lost in mid-transfer.
        """
        words = ("vol-upload", "--pool", datastore, name, "/dev/stdin")
        command = commands.virsh(*words, seconds=limit_s)
        try:
            answer = await self._reach.ssh.stream(
                self._target, command, pieces, limit_s=limit_s + 5, sent=sent
            )
        except StoneError as error:
            self._record(self.name, command, str(error), -1, 0.0)
            raise
        self._record(self.name, command, answer.err or answer.text, answer.status, answer.seconds)
        if answer.status != 0:
            raise self._failure(" ".join(words), answer)

    async def push_rate(self, pieces: AsyncIterator[bytes], size: int) -> float:
        """Bytes per second that reach the host over SSH. Raises RemoteError."""
        answer = await self._reach.ssh.stream(
            self._target, commands.swallow(30), pieces, limit_s=35
        )
        self._record(self.name, commands.swallow(30), answer.err, answer.status, answer.seconds)
        return size / max(0.01, answer.seconds) if answer.status == 0 else 0.0

    async def pull_rate(self, url: str) -> float:
        """Bytes per second at which the host fetches from a URL. Raises RemoteFailed when it
        cannot.
        """
        config = (
            f'url = "{url}"\noutput = "/dev/null"\nfail\nsilent\nshow-error\nconnect-timeout ='
            ' 3\nmax-time = 10\nwrite-out = "%{speed_download}"\n'
        )
        answer = await self._run(commands.fetch(15), config.encode(), limit_s=20, shown=config)
        if answer.status != 0:
            raise RemoteFailed(
                f"{self.name} cannot fetch from this server: {_curl_words(answer)}",
                target=self.name,
                operation="fetch",
            )
        try:
            return float(answer.text.strip().splitlines()[-1].replace(",", "."))
        except (ValueError, IndexError):
            return 0.0

    async def pull(self, url: str, path: str, *, resume: bool, rate: float, limit_s: int) -> None:
        """Let the host fetch a URL into a file, going on where the file ends when `resume`. Raises
        RemoteFailed in curl's words.
        """
        config = (
            f'url = "{url}"\noutput = "{path}"\nfail\nsilent\nshow-error\nconnect-timeout ='
            " 10\nspeed-limit = 1024\nspeed-time = 30\n"
            + ('continue-at = "-"\n' if resume else "")
            + (f"limit-rate = {int(rate)}\n" if rate else "")
        )
        # the ticket is good for one transfer, but it is a ticket
        shown = re.sub(r"(/pull/[0-9a-f]+)\.[^\"]*", r"\1.…", config)
        answer = await self._run(
            commands.fetch(limit_s), config.encode(), limit_s=limit_s + 5, shown=shown
        )
        if answer.status != 0:
            raise RemoteFailed(
                f"{self.name} could not fetch the disk: {_curl_words(answer)}",
                target=self.name,
                operation="fetch",
                hint="See whether the host reaches this server; retry.",
            )

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
        await self._virsh(
            "vol-create",
            datastore,
            "/dev/stdin",
            data=xml_out.volume(name, "qcow2", capacity_bytes, backing_path=base_path),
        )

    async def clone(
        self, datastore: str, base: str, name: str, *, full: bool, capacity_bytes: int
    ) -> None:
        """A copy of a volume, thin, or with all its space reserved."""
        if full:
            await self._virsh(
                "vol-create-from",
                datastore,
                "/dev/stdin",
                base,
                "--inputpool",
                datastore,
                "--prealloc-metadata",
                seconds=3600,
                data=xml_out.volume(name, "qcow2", capacity_bytes, capacity_bytes),
            )
        else:
            await self._virsh("vol-clone", "--pool", datastore, base, name, seconds=3600)

    async def delete_volume(self, datastore: str, name: str) -> None:
        """Remove a volume of ours; the name carries the mark, others are refused."""
        if not name.startswith("ns-"):
            raise Conflict(
                f"volume “{name}” does not bear our mark and is left alone", code="not-ours"
            )
        await self._virsh("vol-delete", "--pool", datastore, name)

    # --- guests ---

    async def domain(self, name: str) -> xml_in.Domain | None:
        """The guest, or None."""
        text = await self._maybe("dumpxml", name)
        return xml_in.domain(text) if text is not None else None

    async def running(self, name: str) -> bool:
        """Whether the guest runs."""
        return (await self._maybe("domstate", name) or "") in (
            "running",
            "paused",
            "idle",
            "in shutdown",
        )

    async def first_addresses(self, name: str) -> list[tuple[str, str]]:
        """(IPv4 address, prefix length) of a running guest's first interface: by lease, else by its
        agent, else by the host's neighbour table.
        """
        domain = await self.domain(name)
        first = domain.macs[0] if domain and domain.macs else ""
        for source in ("lease", "agent", "arp"):
            answer = await self._run(commands.virsh("domifaddr", name, "--source", source))
            found = xml_in.interface_addresses(answer.text) if answer.status == 0 else []
            mine = [(address, prefix) for mac, address, prefix in found if mac == first]
            if mine:
                return mine
        return []

    async def define(self, design: xml_out.GuestDesign) -> None:
        """Define a guest with our mark."""
        await self._virsh("define", "--validate", "/dev/stdin", data=xml_out.domain(design))

    async def start(self, name: str) -> None:
        """Start a guest."""
        await self._virsh("start", name, seconds=90)

    async def remove(self, name: str, run: str) -> bool:
        """Stop and undefine a guest that bears the mark of `run`; False when there is none. Raises
        Conflict for a guest without it.
        """
        found = await self.domain(name)
        if found is None:
            return False
        if found.mark is None or found.mark.run != run:
            raise Conflict(
                f"guest “{name}” on {self.name} does not bear the mark of run {run} and is left"
                " alone",
                code="not-ours",
                hint="Remove or rename it yourself if it is in the way.",
            )
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
    return (
        " ".join(line.removeprefix("curl:").strip() for line in answer.err.splitlines())[:200]
        or f"status {answer.status}"
    )


_HINTS = {
    "No space left on device": "Free space on the datastore or choose another, then retry.",
    "cannot allocate": "Free space on the datastore or choose another, then retry.",
    "Cannot allocate memory": (
        "The host has too little memory free; stop something or choose another host."
    ),
    "Cannot get interface MTU": (
        "The network's bridge is missing on this host; repair it, then retry."
    ),
    "failed to connect to the hypervisor": "Start libvirtd on the host, then retry.",
    "already exists": (
        "Something of that name is there; look whose it is, rename the node or remove it."
    ),
    "time limit": "See whether the host is overloaded, then retry.",
    "not installed": "Install libvirt's client on the host, or use another account.",
}
