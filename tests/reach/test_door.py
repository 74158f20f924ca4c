"""The one door: hostile and broken peers end in our errors, within bounds, and nothing else opens
sockets.
"""

from __future__ import annotations

import asyncio
import re
from collections.abc import AsyncIterator, Awaitable, Callable
from pathlib import Path

import pytest

from nimble_stone.core import yaml_text
from nimble_stone.core.errors import InputError, RemoteFailed, RemoteTimeout, Unreachable
from nimble_stone.reach import Credential, DialPolicy, Reach, Target
from nimble_stone.reach.calls import Ask, Place
from nimble_stone.reach.ssh import Pins

Serve = Callable[[asyncio.StreamReader, asyncio.StreamWriter], Awaitable[None]]


@pytest.fixture
async def reach() -> AsyncIterator[Reach]:
    async def get(place: str) -> str | None:
        return None

    async def put(place: str, fingerprint: str) -> None:
        return None

    found = Reach(DialPolicy(connect_seconds=1), Pins(get, put))
    yield found
    await found.close()


@pytest.fixture
async def serve() -> AsyncIterator[Callable[[Serve], Awaitable[int]]]:
    """Start a peer of one's own making; its port."""
    servers: list[asyncio.Server] = []

    async def start(handler: Serve) -> int:
        server = await asyncio.start_server(handler, "127.0.0.1", 0)
        servers.append(server)
        return int(server.sockets[0].getsockname()[1])

    yield start
    for server in servers:
        server.close()


def answering(data: bytes, *, hang: bool = False) -> Serve:
    async def handler(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        await reader.read(1024)
        writer.write(data)
        await writer.drain()
        if hang:
            await asyncio.sleep(30)
        writer.close()

    return handler


async def test_an_http_answer_is_read_and_bounded(
    reach: Reach, serve: Callable[[Serve], Awaitable[int]]
) -> None:
    port = await serve(answering(b'HTTP/1.1 200 OK\r\nContent-Length: 11\r\n\r\n{"a": "bc"}'))
    answer = await reach.ask(Place("127.0.0.1", port), Ask("GET", "/"))
    assert (answer.status, answer.json()) == (200, {"a": "bc"})
    port = await serve(answering(b"HTTP/1.1 200 OK\r\n\r\n" + b"x" * (5 << 20)))
    with pytest.raises(RemoteFailed, match="more than 4 MiB"):
        await reach.ask(Place("127.0.0.1", port), Ask("GET", "/"))


@pytest.mark.parametrize(
    "data",
    [
        b"",
        b"garbage\r\n\r\n",
        b"HTTP/1.1 200 OK\r\nContent-Length: 50\r\n\r\nshort",
        b"\x00\xff" * 500,
    ],
)
async def test_a_peer_that_speaks_nonsense_is_unreachable(
    reach: Reach, serve: Callable[[Serve], Awaitable[int]], data: bytes
) -> None:
    with pytest.raises(Unreachable):
        await reach.ask(Place("127.0.0.1", await serve(answering(data))), Ask("GET", "/"))


async def test_a_peer_that_hangs_runs_into_the_limit(
    reach: Reach, serve: Callable[[Serve], Awaitable[int]]
) -> None:
    port = await serve(answering(b"HTTP/1.1 200 OK\r\n", hang=True))
    with pytest.raises(RemoteTimeout, match="no answer within"):
        await reach.ask(Place("127.0.0.1", port), Ask("GET", "/"), limit_s=0.5)


async def test_ports_are_open_or_not(
    reach: Reach, serve: Callable[[Serve], Awaitable[int]]
) -> None:
    assert await reach.port_open("127.0.0.1", await serve(answering(b"")))
    assert not await reach.port_open("127.0.0.1", 1, limit_s=0.5)


@pytest.mark.parametrize(
    ("banner", "hang"),
    [
        (b"", False),
        (b"220 smtp ready\r\n", False),
        (b"SSH-2.0-x\r\n" + b"\x00" * 300, False),
        (b"", True),
    ],
)
async def test_what_is_no_ssh_server_is_unreachable(
    reach: Reach, serve: Callable[[Serve], Awaitable[int]], banner: bytes, hang: bool
) -> None:
    target = Target(
        "gannet", "127.0.0.1", await serve(answering(banner, hang=hang)), Credential("root", "x")
    )
    with pytest.raises(Unreachable, match="gannet"):
        await reach.ssh.run(target, "virsh list")


async def test_a_key_that_is_none_is_a_refused_login(
    reach: Reach, serve: Callable[[Serve], Awaitable[int]]
) -> None:
    from nimble_stone.core.errors import LoginRefused

    with pytest.raises(LoginRefused):
        await reach.ssh.run(
            Target("gannet", "127.0.0.1", 1, Credential("root", key="not a key")), "virsh list"
        )


def test_planned_addresses_are_mapped_bit_for_bit() -> None:
    policy = yaml_text.read(
        "nimble-stone: dial/1\nmapped: [{planned: 10.44.0.0/16, real: 127.60.0.0/16}]\nlow_ports:"
        " 20000\n",
        DialPolicy,
        "dial.yaml",
    )
    assert policy.real("10.44.20.11", 22) == ("127.60.20.11", 20022)
    assert policy.real("10.44.20.11", 8080) == ("127.60.20.11", 8080)
    assert policy.real("10.46.0.1", 22) == ("10.46.0.1", 22)
    for address in ("192.0.2.1", "1.1.1.1", "localhost", ""):
        with pytest.raises(InputError):
            policy.real(address, 80)


def test_credentials_do_not_show_themselves() -> None:
    assert "hidden" not in repr(
        Target("gannet", "10.44.1.11", 22, Credential("root", "hidden", "hidden"))
    )


IMPORT = re.compile(r"^\s*(?:from|import)\s+([\w.]+)", re.MULTILINE)


def test_no_other_room_opens_sockets_or_starts_processes() -> None:
    root = Path(__file__).parents[2] / "src/nimble_stone"
    forbidden = {
        "socket",
        "ssl",
        "httpx",
        "asyncssh",
        "aiohttp",
        "subprocess",
        "urllib.request",
        "http.client",
    }
    for path in root.rglob("*.py"):
        if path.relative_to(root).parts[0] not in ("reach", "lab", "cli"):
            assert not set(IMPORT.findall(path.read_text())) & forbidden, path


def test_the_core_does_no_input_or_output() -> None:
    root = Path(__file__).parents[2] / "src/nimble_stone/core"
    for path in root.rglob("*.py"):
        text = path.read_text()
        assert not set(IMPORT.findall(text)) & {
            "time",
            "datetime",
            "random",
            "os",
            "pathlib",
            "asyncio",
            "secrets",
            "threading",
            "fastapi",
        }, path
        assert not re.search(r"(?<![\w.])(open|print)\(", text), path
