"""What we tell curl, told to the real curl: it fetches, goes on after a cut, keeps to a rate, and
says why it cannot.
"""

from __future__ import annotations

import asyncio
import http.server
import os
import random
import subprocess
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from nimble_stone.core.errors import RemoteFailed
from nimble_stone.hosts.kvm.driver import KvmHost
from nimble_stone.reach import Answer, Credential, Target

BODY = random.Random(4).randbytes(3_000_000)


class Here:
    """A reach that runs commands on this very machine."""

    def __init__(self) -> None:
        self.ssh = self

    async def run(
        self, target: Target, command: str, *, data: bytes = b"", limit_s: float = 60.0
    ) -> Answer:
        done = await asyncio.to_thread(
            subprocess.run,
            ["bash", "-c", command],
            input=data,
            capture_output=True,
            timeout=limit_s,
        )
        return Answer(done.returncode, done.stdout, done.stderr.decode(), 0.1)


class Web(http.server.BaseHTTPRequestHandler):
    """Serves BODY by range; cuts the first connection short."""

    cut = 0

    def do_GET(self) -> None:
        if self.path == "/gone":
            self.send_error(404)
            return
        start = int(self.headers["Range"][6:-1]) if "Range" in self.headers else 0
        self.send_response(206 if start else 200)
        self.send_header("Content-Length", str(len(BODY) - start))
        if start:
            self.send_header("Content-Range", f"bytes {start}-{len(BODY) - 1}/{len(BODY)}")
        self.end_headers()
        end, type(self).cut = (start + self.cut if self.cut else len(BODY)), 0
        self.wfile.write(BODY[start:end])
        self.close_connection = True

    def log_message(self, *_: Any) -> None:
        return


@pytest.fixture
def web() -> Iterator[str]:
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Web)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_port}"
    server.shutdown()
    server.server_close()


@pytest.fixture
def told() -> list[str]:
    return []


@pytest.fixture
def host(told: list[str]) -> KvmHost:
    return KvmHost(
        Here(),
        Target("here", "127.0.0.1", 22, Credential("root", "x")),
        lambda target, command, *_: told.append(command),
    )  # type: ignore[arg-type]


async def test_it_fetches_into_a_file_that_is_there_and_goes_on_after_a_cut(
    web: str, host: KvmHost, tmp_path: Path, told: list[str]
) -> None:
    target = tmp_path / "volume with a space.qcow2"
    target.write_bytes(b"what the volume held before" * 100)
    Web.cut = 1_000_000
    with pytest.raises(RemoteFailed, match=r"\(18\)"):
        await host.storage.pull(
            f"{web}/pull/0123456789abcdef.1.{'a' * 32}",
            str(target),
            resume=False,
            rate=0,
            limit_s=30,
        )
    assert target.stat().st_size == 1_000_000
    await host.storage.pull(
        f"{web}/pull/0123456789abcdef.1.{'a' * 32}",
        str(target),
        resume=True,
        rate=500e6,
        limit_s=30,
    )
    assert target.read_bytes() == BODY
    assert await host.storage.file_size(str(target)) == len(BODY)
    assert all("a" * 32 not in command for command in told)


async def test_it_tells_the_rate_or_why_it_cannot(web: str, host: KvmHost, tmp_path: Path) -> None:
    assert await host.probes.pull_rate(f"{web}/trial") > 1000
    for url in (f"{web}/gone", "http://127.0.0.1:9/trial"):
        with pytest.raises(RemoteFailed, match="cannot fetch"):
            await host.probes.pull_rate(url)
    with pytest.raises(RemoteFailed):
        await host.storage.pull(
            f"{web}/x", str(tmp_path / "none/x"), resume=False, rate=0, limit_s=20
        )
    assert not os.listdir(tmp_path)
