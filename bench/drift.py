"""Reading a deployment for drift: 300 nodes on 60 stand-in hosts, against the same commands and
requests from a bare script; and making it 30 nodes larger.
"""

from __future__ import annotations

import asyncio
import statistics
import time
from importlib.resources import files
from pathlib import Path
from typing import Any

import aiohttp
import asyncssh

from bench import estate
from bench.scene import many_hosts
from nimble_stone.cli.client import Client
from nimble_stone.lab.scenario import demo
from tests.support.processes import PASSWORD, LabProcess, ended, ready_plan

HOSTS, NODES, MORE, ROUNDS = 60, 300, 30, 3
PLAN, KIT = "many", "gauge-many"
SIDE_BY_SIDE = 16
VIRSH = "virsh -q -c qemu:///system"


def _kit() -> str:
    """Its checks ask hosts and nodes one by one: no node asks the others."""
    text = (files("nimble_stone.kits") / "gauge-collector.yaml").read_text()
    text = text.replace("id: gauge-collector\n", f"id: {KIT}\n", 1)
    text = text.replace("healthy: [members, one-lead]", "healthy: []")
    return text[: text.index("  - {id: reach,")]


def _link(address: str, port: int, user: str, password: str) -> Any:
    """A connection by SSH, with the algorithms that the product asks for."""
    return asyncssh.connect(
        address,
        port,
        username=user,
        password=password,
        known_hosts=None,
        config=None,
        agent_path=None,
        compression_algs=["none"],
        encryption_algs=["aes128-gcm@openssh.com"],
    )


async def _raw(lab: LabProcess, nodes: list[dict[str, Any]], run: str) -> float:
    """Each host is connected to once; of each node its definitions, state and volumes are asked,
    its port and its status, and by SSH whether it reaches its gateway. Then its hosts' facts;
    seconds.
    """
    gate = asyncio.Semaphore(SIDE_BY_SIDE)
    plans = {host.name: host for host in lab.plan.hosts}
    links: dict[str, asyncssh.SSHClientConnection] = {}

    async def one(node: dict[str, Any], http: aiohttp.ClientSession) -> None:
        name, link = node["name"], links[node["host"]]
        store = node["cells"]["datastore"]["value"]
        words = [
            *(f"dumpxml {name} --inactive", f"domstate {name} --reason", f"dominfo {name}"),
            f"dumpxml {name}",
            f"vol-dumpxml --pool {store} ns-{run}-{name}-disk0",
            f"vol-dumpxml --pool {store} ns-{run}-{name}-config.iso",
        ]
        async with gate:
            for word in words:
                await link.run(f"{VIRSH} {word}")
            own = node["cells"]["address"]["value"]
            address, port = lab.plan.real(own, 8080)
            _, writer = await asyncio.open_connection(address, port)
            writer.close()
            async with http.get(f"http://{address}:{port}/cgi-bin/status") as answer:
                await answer.read()
            address, port = lab.plan.real(own, 22)
            async with _link(address, port, "admin", PASSWORD) as door:
                await door.run(f"ping -c 1 -W 2 {node['cells']['gateway']['value']}")

    began = time.perf_counter()
    for name in {node["host"] for node in nodes}:
        address, port = lab.plan.real(plans[name].address, 22)
        links[name] = await _link(address, port, "root", demo.PASSWORD)
    async with aiohttp.ClientSession() as http:
        await asyncio.gather(*(one(node, http) for node in nodes))
    await estate.bare(lab, [plans[name] for name in links])
    took = time.perf_counter() - began
    for link in links.values():
        link.close()
    return took


def _read(client: Client) -> float:
    """How long a reading takes, seconds; it must find nothing."""
    began = time.perf_counter()
    found = client.call("POST", f"/api/deployments/{PLAN}/read")
    took = time.perf_counter() - began
    assert (found["drift"], found["unasked"]) == ([], 0), found["drift"][:3]
    return took


def _run(client: Client) -> tuple[str, float]:
    """A run of the plan, until it has ended: its id and seconds."""
    began = time.perf_counter()
    run = client.call("POST", f"/api/plans/{PLAN}/run")["run"]
    view = ended(client, run, 1200)
    assert view["state"] == "done", [one["message"] for one in view["steps"] if one["message"]][:3]
    return str(run), time.perf_counter() - began


def main(folder: Path) -> None:
    """Print both."""
    with many_hosts(folder, HOSTS) as scene:
        client = scene.client
        client.call("PUT", "/api/kits", {"text": _kit()})
        ready_plan(
            client,
            demo.PLAN.replace("name: western", f"name: {PLAN}")
            .replace("kit: gauge-collector", f"kit: {KIT}")
            .replace("kelda-main", "outfield")
            .replace("kelda-survey", "outfield")
            .replace("  archive:\n", f"  relay:\n    count: {NODES - 3}\n  archive:\n"),
        )
        run, _ = _run(client)
        nodes = client.call("GET", f"/api/plans/{PLAN}")["nodes"]
        hosts = len({node["host"] for node in nodes})
        pairs = [(_read(client), asyncio.run(_raw(scene.lab, nodes, run))) for _ in range(ROUNDS)]
        ratio = statistics.median(ours / bare for ours, bare in pairs)
        ours, bare = (statistics.median(one) for one in zip(*pairs, strict=True))
        print(
            f"drift of {NODES} nodes on {hosts} hosts: {ours:.1f} s; the same commands and requests"
            f" from a bare script {bare:.1f} s; ratio {ratio:.2f}"
        )
        plan = client.call("GET", f"/api/plans/{PLAN}")
        edit = {"path": ["roles", "relay", "count"], "value": NODES - 3 + MORE}
        body = {"version": plan["version"], "edits": [edit]}
        client.call("PATCH", f"/api/plans/{PLAN}", body)
        _, took = _run(client)
        print(f"{MORE} nodes more, with the checks of all {NODES + MORE}: {took:.0f} s")
