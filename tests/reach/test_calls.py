"""Requests to products that answer packed, though nobody asked for it; and each on a connection of
its own.
"""

from __future__ import annotations

import gzip
import threading
import zlib
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import ClassVar

import pytest

from nimble_stone.core.errors import RemoteFailed
from nimble_stone.reach import DialPolicy, Reach
from nimble_stone.reach.calls import MAX_BODY, Ask, Place
from nimble_stone.reach.ssh import Pins

SAID = b'{"state": "ready"}' * 40


class _Packed(BaseHTTPRequestHandler):
    asked: ClassVar[list[str]] = []
    bodies: ClassVar[dict[str, tuple[str, bytes]]] = {
        "/gzip": ("gzip", gzip.compress(SAID)),
        "/deflate": ("deflate", zlib.compress(SAID)),
        "/plain": ("", SAID),
        "/odd": ("br", b"\x0b\x02\x80"),
        "/broken": ("gzip", b"no gzip at all"),
        "/bomb": ("gzip", gzip.compress(b"\0" * (MAX_BODY + 1))),
    }

    def do_GET(self) -> None:
        self.asked.append(self.headers["Accept-Encoding"])
        coding, body = self.bodies[self.path]
        self.send_response(200)
        if coding:
            self.send_header("Content-Encoding", coding)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *_: object) -> None:
        """Nothing on the screen."""


@pytest.fixture
def place() -> Iterator[Place]:
    server = ThreadingHTTPServer(("127.0.0.1", 0), _Packed)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield Place("127.0.0.1", server.server_address[1])
    server.shutdown()
    server.server_close()


async def _get(place: Place, path: str) -> bytes:
    async def none(_: str, __: str = "") -> None:
        return None

    reach = Reach(DialPolicy(), Pins(none, none))
    try:
        return (await reach.ask(place, Ask("GET", path))).body
    finally:
        await reach.close()


@pytest.mark.parametrize("path", ["/gzip", "/deflate", "/plain"])
async def test_a_packed_answer_is_read(place: Place, path: str) -> None:
    assert await _get(place, path) == SAID
    assert _Packed.asked[-1] == "identity"


@pytest.mark.parametrize(
    ("path", "words"),
    [
        ("/odd", "in the coding “br”"),
        ("/broken", "gzip that cannot be read"),
        ("/bomb", "more than 4 MiB, packed"),
    ],
)
async def test_what_cannot_be_unpacked_is_told(place: Place, path: str, words: str) -> None:
    with pytest.raises(RemoteFailed, match=words):
        await _get(place, path)
