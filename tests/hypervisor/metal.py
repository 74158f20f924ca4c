"""The scene of real machines: estate, kit and plan, for tests and for `make metal-demo`."""

from __future__ import annotations

import re
from collections.abc import Sequence
from importlib.resources import files
from pathlib import Path

from inspection import build
from nimble_stone.cli.client import Client
from nimble_stone.lab.scenario import demo
from tests.hypervisor.machines import DIAL, GATEWAY, NODES, SUBNET, Room
from tests.support.processes import ServerProcess

NETWORKS = {
    "networks": [
        {
            "name": "survey",
            "subnet": SUBNET,
            "gateway": GATEWAY,
            "dns": ["10.44.20.3"],
            "ntp": "10.44.20.3",
            "domain": "kelda.holm.example",
        }
    ],
}
PEERS = {"name": "peers", "subnet": "10.44.24.0/24", "gateway": "10.44.24.1"}
PLAN = """nimble-stone: plan/1
name: real
kit: gauge-metal
package: Gauge Collector 4.2.0
bay: kelda-metal
values: {pool: survey, station: west, size: small}
"""


def metal_kit() -> str:
    """The kit of the Gauge Collector for bare machines: no further disks, one archive is enough."""
    text = (files("nimble_stone.kits") / "gauge-collector.yaml").read_text()
    text = re.sub(r"extra_disks:.*?\n\n", "", text, flags=re.DOTALL)
    text = text.replace("id: gauge-collector", "id: gauge-metal", 1)
    text = text.replace("count: {least: 2, most: 300, usual: 2}", "count: {least: 1, most: 300}")
    places = "    lives_on: machines\n    system_drive: smallest\n    count: {"
    return text.replace("    count: {", places)


QUORUM = Path(__file__).parent / "quorum/kit.yaml"


def serve(data: Path, *more: str) -> ServerProcess:
    """A server that machines reach, with the inspection image and the kits."""
    data.mkdir(mode=0o700)
    build.build(data / "inspection.iso", neighbours=2, kind="cloud")
    (data / "dial.yaml").write_text(DIAL)
    (data / "kits").mkdir()
    (data / "kits/gauge-metal.yaml").write_text(metal_kit())
    (data / "kits/quorum.yaml").write_text(QUORUM.read_text())
    return ServerProcess(data, pace=1.0, reachable=GATEWAY, more=more)


def add(client: Client, room: Room, nodes: Sequence[str] = NODES) -> None:
    """Networks with a pool of these addresses, the login of the controllers, and the machines."""
    pools = [
        {"name": "survey", "network": "survey", "first": nodes[0], "last": nodes[-1]},
        {"name": "peers", "network": "peers", "first": "10.44.24.21", "last": "10.44.24.29"},
    ]
    networks = [*NETWORKS["networks"], PEERS]
    client.call("POST", "/api/estate", {"networks": networks, "pools": pools})
    client.call("PUT", "/api/secrets/controllers", {"value": demo.BMC_PASSWORD})
    for name, one in room.machines.items():
        shown = client.call(
            "POST",
            "/api/estate/look",
            {
                "entries": [{"kind": "machine", "address": "127.0.0.1", "port": one.port}],
                "credential": "controllers",
                "user": "admin",
            },
        )
        machine = {
            "name": name,
            "address": "127.0.0.1",
            "port": one.port,
            "credential": "controllers",
            "site": "Kelda",
            "bay": "kelda-metal",
        }
        client.call(
            "POST",
            "/api/estate/machines",
            [{"fingerprint": shown[0]["fingerprint"], "machine": machine}],
        )
