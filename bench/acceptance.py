"""What acceptance asks of many nodes, against bare asyncio and bare SSH doing the same; and how
long a kit takes to be read.
"""

from __future__ import annotations

import asyncio
import re
import time
from collections.abc import Awaitable, Callable
from dataclasses import replace
from functools import partial
from ipaddress import IPv4Network
from types import SimpleNamespace
from typing import Any

import asyncssh

from nimble_stone.app.kits import read_kit, shipped
from nimble_stone.core import yaml_text
from nimble_stone.core.kit.checks import AcceptanceCheck
from nimble_stone.core.plan.sheet import Sheet, reached
from nimble_stone.core.runs import document
from nimble_stone.engine import asking
from nimble_stone.engine.frozen import FrozenRun
from nimble_stone.reach import DialPolicy, Reach
from nimble_stone.reach.policy import Mapping
from nimble_stone.reach.ssh import Pins
from tests.core import scene

NODES, QUESTIONS, MESH, LOW, PORT = 1000, 10, 60, 30_000, 38_080
SIDE_BY_SIDE = 16
BODY = b'{"state": "ready", "version": "4.2.0"}'
ANSWER = b"HTTP/1.1 200 OK\r\nConnection: close\r\nContent-Length: %d\r\n\r\n%s" % (len(BODY), BODY)


async def _answered(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    await reader.readuntil(b"\r\n\r\n")
    writer.write(ANSWER)
    await writer.drain()
    writer.close()


def _sheet(nodes: int, checks: list[dict[str, Any]]) -> Sheet:
    found = scene.sheet(scene.estate(200), roles__archive__count=nodes - 1)
    made = tuple(AcceptanceCheck.model_validate(one) for one in checks)
    # the scene's pool is small
    own = {
        node.id: {"address": f"10.44.{100 + n // 250}.{1 + n % 250}"}
        for n, node in enumerate(found.nodes)
    }
    found = document.with_values(found, own)
    return replace(found, kit=found.kit.model_copy(update={"acceptance": made}))


def _ports() -> Any:
    async def get(_: str) -> str | None:
        return None

    async def put(_: str, __: str) -> None:
        return None

    async def opened(_: str, __: str) -> str:
        return "secret"

    lies = Mapping(planned=IPv4Network("10.44.0.0/16"), real=IPv4Network("127.44.0.0/16"))
    policy = DialPolicy(mapped=(lies,), low_ports=LOW, connect_seconds=20)
    return SimpleNamespace(
        reach=Reach(policy, Pins(get, put)),
        sessions={},
        hide=lambda _: None,
        open_for_plan=opened,
        monotonic=time.monotonic,
    )


async def _each(what: list[Callable[[], Awaitable[object]]]) -> float:
    gate = asyncio.Semaphore(SIDE_BY_SIDE)

    async def one(ask: Callable[[], Awaitable[object]]) -> None:
        async with gate:
            await ask()

    began = time.perf_counter()
    await asyncio.gather(*(one(ask) for ask in what))
    return time.perf_counter() - began


async def _questions() -> None:
    """1,000 nodes, each asked 10 things by HTTP: a connection each."""
    call = {"path": "/status", "port": PORT, "login": "none"}
    checks = [
        {"id": f"c{n}", "label": "C", "kind": "call", "call": call, "value": "$.version"}
        for n in range(QUESTIONS)
    ]
    sheet, ports = _sheet(NODES, checks), _ports()
    run: Any = FrozenRun("r", sheet, {}, {})
    real = [ports.reach.policy.real(reached(sheet.kit, n), PORT)[0] for n in sheet.nodes]

    async def bare(address: str) -> None:
        async def one() -> None:
            reader, writer = await asyncio.open_connection(address, PORT)
            writer.write(b"GET /status HTTP/1.1\r\nHost: x\r\n\r\n")
            assert BODY in await reader.read()
            writer.close()

        await asyncio.gather(*(one() for _ in range(QUESTIONS)))

    server = await asyncio.start_server(_answered, "0.0.0.0", PORT, backlog=4096)
    async with server:
        ours, plain = [], []
        for _ in range(3):
            ours.append(await _each([partial(asking.ask, ports, run, n) for n in sheet.nodes]))
            plain.append(await _each([partial(bare, a) for a in real]))
    await ports.reach.close()
    print(
        f"{NODES} nodes × {QUESTIONS} checks by HTTP: {min(ours):.1f} s, bare asyncio"
        f" {min(plain):.1f} s, ratio {min(ours) / min(plain):.2f}"
    )


async def _mesh() -> None:
    """60 nodes, each of which asks all others for 3 ports: 3,540 pairs; against the same SSH
    connections with a command that does nothing.
    """

    class Anybody(asyncssh.SSHServer):
        def begin_auth(self, username: str) -> bool:
            return False

    async def carried_out(process: asyncssh.SSHServerProcess[str]) -> None:
        for mark in re.findall(r"&& echo (\S+?)\) &", process.command or ""):
            process.stdout.write(f"{mark}\n")
        process.exit(0)

    check = {"id": "m", "label": "M", "kind": "reach", "of": "cluster", "ports": [22, 80, 443]}
    sheet, ports = _sheet(MESH, [check]), _ports()
    run: Any = FrozenRun("r", sheet, {}, {})
    key = asyncssh.generate_private_key("ssh-ed25519")
    server = await asyncssh.create_server(
        Anybody, "0.0.0.0", LOW + 22, server_host_keys=[key], process_factory=carried_out
    )

    async def bare(address: str) -> None:
        async with asyncssh.connect(
            address, LOW + 22, username="admin", known_hosts=None, config=None, agent_path=None
        ) as link:
            await link.run("true")

    real = [ports.reach.policy.real(reached(sheet.kit, n), 22)[0] for n in sheet.nodes]
    began = time.perf_counter()
    found = (await asking.ask(ports, run, None))["check:m"]
    ours = time.perf_counter() - began
    assert len(found.value) == MESH * (MESH - 1), found
    assert all(pair.reached for pair in found.value)
    plain = await _each([partial(bare, a) for a in real])
    await ports.reach.close()
    server.close()
    print(
        f"Mesh of {MESH} nodes, {len(found.value)} pairs × 3 ports: {ours:.1f} s, bare SSH to"
        f" each {plain:.1f} s, ratio {ours / plain:.2f}"
    )


def _kits() -> None:
    """The largest kit that ships, read with all its checks, against its YAML alone."""
    text = max(
        (yaml_text.write(kit.model_dump(mode="json", by_alias=True, exclude_unset=True)), kit.id)
        for kit in shipped().values()
    )[0]

    def best(work: Callable[[], object]) -> float:
        found = []
        for _ in range(5):
            began = time.perf_counter()
            work()
            found.append(time.perf_counter() - began)
        return min(found)

    ours, plain = best(lambda: read_kit(text, "x")), best(lambda: yaml_text.load(text, "x"))
    print(
        f"A kit of {len(text.splitlines())} lines is read and checked: {ours * 1000:.0f} ms, its"
        f" YAML alone {plain * 1000:.0f} ms, ratio {ours / plain:.2f}"
    )


def main() -> None:
    """All of it."""
    _kits()
    asyncio.run(_questions())
    asyncio.run(_mesh())
