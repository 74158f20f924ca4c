"""What machines ask of us by themselves: HTTPS with a certificate of our own, whose key they were
given on their medium. They send a report, bounded before it is read, and fetch the image that is
written to a drive.
"""

from __future__ import annotations

import asyncio
import ssl
import tempfile
from collections.abc import Awaitable, Callable
from dataclasses import dataclass
from pathlib import Path

from aiohttp import web

Received = Callable[[str, bytes], Awaitable[int]]
"""Takes a token and what was sent; the status to answer with."""
READ_S = 60.0
AT_ONCE = 64
FETCHERS = 256
PIECE = 1 << 18
"""Larger ones make others wait while they are encrypted."""


@dataclass(frozen=True)
class Fetched:
    """An image on offer: its data in a file of `size` bytes, where it goes (`map`), and who is told
    how many bytes of it were sent.
    """

    path: Path
    size: int
    map: str
    sent: Callable[[int], None]


Offered = Callable[[str], Awaitable[Fetched | None]]
"""Takes a token; the image that is on offer for it."""


class ReportListener:
    """Listens from `open` to `close`. `pair`: private key and certificate (PEM); `most` bytes of a
    report are taken.
    """

    def __init__(self, pair: str, received: Received, most: int, offered: Offered) -> None:
        self._pair, self._received, self._offered = pair, received, offered
        self._fetchers = asyncio.Semaphore(FETCHERS)
        self._app = web.Application(client_max_size=most)
        self._app.add_routes(
            [
                web.post("/report/{token}", self._report),
                web.get("/image/{token}/map", self._map),
                web.get("/image/{token}/data", self._data),
            ]
        )
        self._runner: web.AppRunner | None = None
        self._gate = asyncio.Semaphore(AT_ONCE)

    async def open(self, host: str, port: int) -> int:
        """Listen; the port. Raises OSError when it is taken."""
        self._runner = web.AppRunner(self._app, access_log=None, keepalive_timeout=5)
        await self._runner.setup()
        await web.TCPSite(self._runner, host, port, ssl_context=self._tls()).start()
        found: int = self._runner.addresses[0][1]
        return found

    async def close(self) -> None:
        """End it."""
        if self._runner is not None:
            await self._runner.cleanup()
            self._runner = None

    async def _report(self, request: web.Request) -> web.Response:
        if self._gate.locked():
            return web.Response(status=503, headers={"Retry-After": "2"})
        async with self._gate:
            try:
                async with asyncio.timeout(READ_S):
                    body = await request.read()
            except TimeoutError:
                return web.Response(status=408)
            return web.Response(status=await self._received(request.match_info["token"], body))

    async def _map(self, request: web.Request) -> web.Response:
        found = await self._offered(request.match_info["token"])
        return web.Response(text=found.map) if found else web.Response(status=404)

    async def _data(self, request: web.Request) -> web.StreamResponse:
        if self._fetchers.locked():
            return web.Response(status=503, headers={"Retry-After": "10"})
        async with self._fetchers:
            found = await self._offered(request.match_info["token"])
            if found is None:
                return web.Response(status=404)
            answer = web.StreamResponse(headers={"Content-Type": "application/octet-stream"})
            answer.content_length = found.size
            file = await asyncio.to_thread(found.path.open, "rb")
            try:
                await answer.prepare(request)
                while piece := await asyncio.to_thread(file.read, PIECE):
                    # waits while the machine writes more slowly than we send
                    await answer.write(piece)
                    found.sent(len(piece))
                await answer.write_eof()
            finally:
                file.close()
            return answer

    def _tls(self) -> ssl.SSLContext:
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        with tempfile.TemporaryDirectory() as folder:
            # made 0700, and gone when the context has read it
            path = Path(folder) / "pair.pem"
            path.write_text(self._pair)
            context.load_cert_chain(path)
        return context
