"""40 machines that fetch at once: the inspection medium and an image for their drives, against
plain file servers of the same protocol in the same run (Python's http.server; the same over TLS).
"""

from __future__ import annotations

import asyncio
import contextlib
import functools
import http.server
import os
import ssl
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path

from nimble_stone.core.package.contents import Contents, Member
from nimble_stone.keyring import certificates
from nimble_stone.packages import installers
from nimble_stone.reach.listener import Fetched, ReportListener

MACHINES, IMAGE_MIB, MEDIUM_MIB, ROUNDS = 40, 64, 32, 3
ISO_MIB = 600
MIB = 1 << 20


def fetch_all(addresses: list[str]) -> float:
    """Seconds until all were fetched by one curl each."""
    began = time.perf_counter()
    under_way = [
        subprocess.Popen(["curl", "-sSfk", "-o", "/dev/null", address]) for address in addresses
    ]
    codes = [process.wait() for process in under_way]
    assert not any(codes), codes
    return time.perf_counter() - began


def compared(what: str, mib: int, ours: str, plain: str) -> None:
    """Fetch both by turns, and print the best of each."""
    took: dict[str, list[float]] = {ours: [], plain: []}
    for _ in range(ROUNDS):
        for address, times in took.items():
            times.append(fetch_all([address] * MACHINES))
    best, other = min(took[ours]), min(took[plain])
    total = MACHINES * mib
    print(
        f"{MACHINES} machines fetch {what}: {total / best:.0f} MiB/s,"
        f" plain file server {total / other:.0f} MiB/s, ratio {other / best:.2f}"
    )


class Quiet(http.server.SimpleHTTPRequestHandler):
    """Without a line for each request."""

    def log_message(self, format: str, *args: object) -> None:
        """Say nothing."""


@contextlib.contextmanager
def plain_server(folder: Path, pair: str = "") -> Iterator[str]:
    """A static file server; with a key and certificate over TLS. Yields its address."""
    handler = functools.partial(Quiet, directory=str(folder))
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), handler)
    scheme = "http"
    if pair:
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        (folder / "pair.pem").write_text(pair)
        context.load_cert_chain(folder / "pair.pem")
        server.socket = context.wrap_socket(server.socket, server_side=True)
        scheme = "https"
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"{scheme}://127.0.0.1:{server.server_address[1]}"
    server.shutdown()


@contextlib.contextmanager
def in_a_loop(listener: ReportListener) -> Iterator[int]:
    """The listener, in an event loop of its own. Yields its port."""
    loop = asyncio.new_event_loop()
    threading.Thread(target=loop.run_forever, daemon=True).start()
    port = asyncio.run_coroutine_threadsafe(listener.open("127.0.0.1", 0), loop).result(20)
    yield port
    asyncio.run_coroutine_threadsafe(listener.close(), loop).result(20)
    loop.call_soon_threadsafe(loop.stop)


def resident_mib() -> float:
    """Memory of this process."""
    for line in Path("/proc/self/status").read_text().splitlines():
        if line.startswith("VmRSS:"):
            return int(line.split()[1]) / 1024
    return 0.0


def images(folder: Path) -> None:
    """An image over TLS: the product's listener against a plain file server."""
    now = time.time()
    authority = certificates.make_authority(now, "bench")
    pair = certificates.issue(authority, ["127.0.0.1"], now, 30)
    text = pair.key + pair.certificate
    data = folder / "image.data"
    data.write_bytes(os.urandom(IMAGE_MIB * MIB))

    async def received(token: str, body: bytes) -> int:
        return 204

    async def offered(token: str) -> Fetched | None:
        return Fetched(data, IMAGE_MIB * MIB, "0 1\n", lambda count: None)

    with (
        plain_server(folder, text) as address,
        in_a_loop(ReportListener(text, received, 1 << 16, offered)) as port,
    ):
        before = resident_mib()
        compared(
            f"an image of {IMAGE_MIB} MiB over TLS",
            IMAGE_MIB,
            f"https://127.0.0.1:{port}/image/x/data",
            f"{address}/image.data",
        )
        print(f"  memory of both servers +{resident_mib() - before:.0f} MiB")


def media(folder: Path) -> None:
    """The medium over HTTP: the product's route under uvicorn against a plain file server."""
    medium = folder / "inspection.iso"
    medium.write_bytes(os.urandom(MEDIUM_MIB * MIB))
    server = subprocess.Popen(
        [sys.executable, "-m", "bench.media", "serve", str(medium)],
        stdout=subprocess.PIPE,
        text=True,
    )
    assert server.stdout is not None
    address = server.stdout.readline().strip()
    try:
        with plain_server(folder) as other:
            what = f"a medium of {MEDIUM_MIB} MiB over HTTP"
            compared(what, MEDIUM_MIB, address, f"{other}/inspection.iso")
    finally:
        server.terminate()
        server.wait()


def rooms(folder: Path) -> None:
    """An installer ISO gets room for answers, against a copy of it."""
    tree, iso = folder / "tree", folder / "installer.iso"
    tree.mkdir()
    for number in range(4):
        (tree / f"part{number}.bin").write_bytes(os.urandom(ISO_MIB // 4 * MIB))
    subprocess.run(["grub-mkrescue", "-o", iso, tree], check=True, capture_output=True)
    digest, size = "a" * 64, iso.stat().st_size
    (folder / "blobs").mkdir()
    iso.rename(folder / "blobs" / digest)
    contents = Contents(digest, size, (Member("i.iso", size, 0, "", False, digest),), "iso")
    best, other = 1e9, 1e9
    for _ in range(ROUNDS):
        installers.forget(folder, digest)
        began = time.perf_counter()
        installers.make(folder, contents, ["/answers.xml"], lambda *_: None)
        best = min(best, time.perf_counter() - began)
        began = time.perf_counter()
        copy = folder / "copy"
        subprocess.run(["cp", folder / "blobs" / digest, copy], check=True)
        subprocess.run(["sync", copy], check=True)
        other = min(other, time.perf_counter() - began)
    print(
        f"room for answers in an ISO of {size // MIB} MiB: {best:.2f} s, cp and sync {other:.2f} s,"
        f" ratio {best / other:.2f}"
    )


def serve(path: Path) -> None:
    """The product's route for one medium, under uvicorn, with the address on standard output."""
    import socket

    import uvicorn
    from fastapi import FastAPI

    from nimble_stone.server.media import Media, Medium
    from nimble_stone.server.routes import media as route

    class Alone(Media):
        """Without a store: every token is on offer."""

        def __init__(self) -> None:
            # as an installer: two answer files in their rooms
            room = installers.in_room("name: one\n")
            self._found = Medium(path, path.stat().st_size, {2048: room, 4 * MIB: room})

        async def opened(self, token: str, name: str, *, read: bool) -> Medium:
            return self._found

    app = FastAPI()
    app.include_router(route.router)
    app.state.media = Alone()
    with socket.socket() as listening:
        listening.bind(("127.0.0.1", 0))
        listening.listen(256)
        port = listening.getsockname()[1]
        print(f"http://127.0.0.1:{port}/media/x/inspection.iso", flush=True)
        config = uvicorn.Config(app, log_level="warning")
        uvicorn.Server(config).run(sockets=[listening])


def main(folder: Path) -> None:
    """All."""
    images(folder)
    media(folder)
    rooms(folder)


if __name__ == "__main__":
    serve(Path(sys.argv[2]))
