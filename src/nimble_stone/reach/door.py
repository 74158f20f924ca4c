"""All kinds of reaching out behind one object, so that there is one place where they can be
replaced and limited.
"""

from __future__ import annotations

import asyncio
import socket
from contextlib import AbstractAsyncContextManager

import aiohttp

from nimble_stone.core.errors import InputError
from nimble_stone.core.reply import Reply
from nimble_stone.reach import calls, datagrams, lines
from nimble_stone.reach.calls import Ask, Place
from nimble_stone.reach.http import Fetched, fetch, locate
from nimble_stone.reach.https import Certificate, HttpsPeer, certificate, trust
from nimble_stone.reach.names import NameDoor, NameServer, look_up
from nimble_stone.reach.policy import DialPolicy
from nimble_stone.reach.ssh import Pins, Ssh


class Reach:
    """The door. Close with `close`."""

    def __init__(self, policy: DialPolicy, pins: Pins) -> None:
        self.policy = policy
        self.ssh = Ssh(policy, pins)
        self._calls: aiohttp.ClientSession | None = None

    async def close(self) -> None:
        """Close what is open."""
        await self.ssh.close()
        if self._calls is not None:
            await self._calls.close()

    async def ask(self, place: Place, wanted: Ask, *, limit_s: float = 15.0) -> Reply:
        """A request to a product's interface; see reach.calls."""
        if self._calls is None or self._calls.closed:
            self._calls = calls.session()
        return await calls.ask(self._calls, self.policy, place, wanted, limit_s=limit_s)

    async def ask_line(
        self, place: Place, line: str, *, until: str = "", limit_s: float = 15.0
    ) -> Reply:
        """A line of text by TCP; see reach.lines. Raises InputError for a place that wants TLS."""
        if place.trusted:
            raise InputError(f"{place.url} wants TLS; a line is said in the open")
        return await lines.ask_line(
            self.policy, place.address, place.port, line, until, limit_s=limit_s
        )

    async def ask_datagram(self, place: Place, text: str, limit_s: float) -> Reply:
        """A text by UDP; see reach.datagrams."""
        return await datagrams.ask_datagram(
            self.policy, place.address, place.port, text, limit_s=limit_s
        )

    async def ask_name(self, place: Place, name: str, kind: str, limit_s: float) -> Reply:
        """A name by DNS; see reach.datagrams."""
        return await datagrams.ask_name(
            self.policy, place.address, place.port, name, kind, limit_s=limit_s
        )

    async def ask_time(self, place: Place, limit_s: float) -> Reply:
        """The time by NTP; see reach.datagrams."""
        return await datagrams.ask_time(self.policy, place.address, place.port, limit_s=limit_s)

    def fetch(self, url: str, offset: int = 0) -> AbstractAsyncContextManager[Fetched]:
        """A large file from a web server; see reach.http.fetch."""
        return fetch(self.policy, url, offset)

    async def may_fetch(self, url: str) -> None:
        """Raises InputError or Unreachable when a URL may not or cannot be dialled."""
        await locate(self.policy, url)

    async def addresses(self, name: str) -> list[str]:
        """IPv4 addresses of a name, [] when it is not known."""
        try:
            found = await asyncio.get_running_loop().getaddrinfo(
                name, None, family=socket.AF_INET, type=socket.SOCK_STREAM
            )
        except (OSError, UnicodeError):
            return []
        return list(dict.fromkeys(str(entry[4][0]) for entry in found))

    def names(self, server: NameServer) -> NameDoor:
        """A name server that takes updates; see reach.names."""
        return NameDoor(self.policy, server)

    async def look_up(self, server: str, name: str, kind: str) -> list[str]:
        """What a name server tells any client; see reach.names."""
        return await look_up(self.policy, server, name, kind)

    async def certificate(self, address: str, port: int, now: float) -> Certificate:
        """The certificate a server shows; see reach.https."""
        return await certificate(self.policy, address, port, now)

    def https(
        self, address: str, port: int, fingerprint: str, *, limit_s: float = 30.0
    ) -> HttpsPeer:
        """A server that is known by its certificate; see reach.https."""
        return HttpsPeer(self.policy, address, port, fingerprint, limit_s=limit_s)

    async def trust(
        self, address: str, port: int, trusted: str, name: str, *, exactly: bool = False
    ) -> str:
        """What is wrong with a server's certificate, '' nothing; see reach.https.trust."""
        return await trust(self.policy, address, port, trusted, name, exactly=exactly)

    async def greeting(self, address: str, port: int, *, limit_s: float = 3.0) -> str | None:
        """The first line that a server says by itself (an SSH banner, RFC 4253 section 4.2), ''
        when it waits to be spoken to, None when
        nothing listens. Raises InputError for an address that may not be dialled."""
        host, real_port = self.policy.real(address, port)
        try:
            async with asyncio.timeout(limit_s):
                reader, writer = await asyncio.open_connection(host, real_port, limit=512)
        except (OSError, TimeoutError):
            return None
        try:
            async with asyncio.timeout(min(1.0, limit_s)):
                return (await reader.readline()).decode("ascii", "replace").strip()[:255]
        except (OSError, TimeoutError, ValueError):
            return ""
        finally:
            writer.close()

    async def port_open(self, address: str, port: int, *, limit_s: float = 3.0) -> bool:
        """Whether something accepts TCP connections there within the time."""
        host, real_port = self.policy.real(address, port)
        try:
            async with asyncio.timeout(limit_s):
                _, writer = await asyncio.open_connection(host, real_port)
        except (OSError, TimeoutError):
            return False
        writer.close()
        return True
