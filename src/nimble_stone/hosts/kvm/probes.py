"""Questions to the network, asked from a KVM host."""

from __future__ import annotations

import re
from collections.abc import AsyncIterator, Mapping, Sequence

from nimble_stone.core.errors import RemoteFailed
from nimble_stone.hosts.api import InUse, Passage
from nimble_stone.hosts.kvm import commands, linux_in
from nimble_stone.hosts.kvm.session import Session
from nimble_stone.reach import Answer

_MAC = re.compile(r"\b([0-9A-Fa-f]{2}:){5}[0-9A-Fa-f]{2}\b")


def fetch_words(answer: Answer) -> str:
    """Why a transfer by the host failed, in the words of its program."""
    if answer.status == 127:
        return "curl is not installed there"
    words = " ".join(line.removeprefix("curl:").strip() for line in answer.err.splitlines())[:200]
    return words or f"status {answer.status}"


class KvmProbes:
    """Asks from a host."""

    def __init__(self, session: Session) -> None:
        self._session = session

    async def answers_ping(self, address: str) -> bool:
        """Whether an address answers, seen from this host."""
        return (await self._session.run(commands.ping(address), limit_s=8)).status == 0

    async def in_use(self, address: str, bridge: str) -> InUse:
        """Whether anyone on the bridge's network has an address."""
        name = self._session.name
        own = await self._session.run(commands.own_address(address), limit_s=8)
        if own.status == 0 and own.text.strip():
            return InUse(True, f"{name} itself has it")
        six = ":" in address
        tool = "ndisc6" if six else "arping"
        ask = commands.ask_neighbour if six else commands.ask_arp
        answer = await self._session.run(ask(address, bridge), limit_s=10)
        if answer.status == 127:
            return InUse(None, f"{tool} is not installed on {name}")
        free, used = (2, 0) if six else (0, 1)
        mac = _MAC.search(answer.text)
        if answer.status == used and mac:
            found = mac[0].lower()
            return InUse(True, f"{found} answers on {bridge} of {name}", found)
        if answer.status == free:
            return InUse(False)
        lines = (answer.err or answer.text).strip().splitlines()[:1]
        words = lines[0] if lines else f"status {answer.status}"
        return InUse(None, f"{tool} on {name}: {words[:120]}")

    async def tells_time(self, server: str) -> bool:
        """Whether a time server answers; what is no name of one does not."""
        try:
            answer = await self._session.run(commands.ask_time(server), limit_s=8)
        except ValueError:
            return False
        return answer.text.strip() == "48"

    async def addresses_of(self, names: Sequence[str]) -> Mapping[str, str]:
        """Name → IPv4 address, '' for names that the host does not know."""
        if not names:
            return {}
        answer = await self._session.run(commands.addresses_of(names), limit_s=12)
        return linux_in.resolved(answer.text, tuple(names))

    async def name_of(self, address: str) -> str:
        """The name of an address for this host, '' when it has none."""
        answer = await self._session.run(commands.name_of(address), limit_s=8)
        words = answer.text.split()
        return words[1][:120] if answer.status == 0 and len(words) > 1 else ""

    async def reaches(self, name: str, port: int) -> str:
        """'' when a TCP connection from this host comes about, else why not, in the host's words.
        Raises RemoteError when the host cannot be asked.
        """
        try:
            answer = await self._session.run(commands.reach(name, port), limit_s=8)
        except ValueError:
            return "it is neither a host name nor an address"
        if answer.status == 0:
            return ""
        if answer.status == 124:
            return "no answer within 4 s"
        words = answer.err.strip().splitlines()[:1] or ["no connection"]
        return words[0].rpartition(": ")[2][:120]

    async def passes(self, address: str, mtu: int) -> Passage:
        """Whether a packet of full size reaches an address unbroken, and the host's words."""
        answer = await self._session.run(commands.full_ping(address, mtu), limit_s=8)
        lines = [
            line
            for line in (answer.text + "\n" + answer.err).splitlines()
            if "mtu" in line.lower() or "too long" in line or "bytes from" in line
        ]
        if lines:
            return Passage(answer.status == 0, lines[0][:160])
        return Passage(answer.status == 0, "" if answer.status == 0 else "no answer")

    async def push_rate(self, pieces: AsyncIterator[bytes], size: int) -> float:
        """Bytes per second that reach the host over SSH. Raises RemoteError."""
        answer = await self._session.stream(commands.swallow(30), pieces, limit_s=35)
        return size / max(0.01, answer.seconds) if answer.status == 0 else 0.0

    async def pull_rate(self, url: str) -> float:
        """Bytes per second at which the host fetches from a URL. Raises RemoteFailed when it
        cannot.
        """
        config = (
            f'url = "{url}"\noutput = "/dev/null"\nfail\nsilent\nshow-error\nconnect-timeout ='
            ' 3\nmax-time = 10\nwrite-out = "%{speed_download}"\n'
        )
        answer = await self._session.run(
            commands.fetch(15), config.encode(), limit_s=20, shown=config
        )
        if answer.status != 0:
            raise RemoteFailed(
                f"{self._session.name} cannot fetch from this server: {fetch_words(answer)}",
                target=self._session.name,
                operation="fetch",
            )
        try:
            return float(answer.text.strip().splitlines()[-1].replace(",", "."))
        except (ValueError, IndexError):
            return 0.0
