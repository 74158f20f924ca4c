"""What a plan's nodes need around them is asked from each host that will carry them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from types import SimpleNamespace
from typing import Any

from nimble_stone.core import checks
from nimble_stone.core.checks import Situation
from nimble_stone.core.errors import RemoteFailed
from nimble_stone.core.kit.networks import OutsidePlace
from nimble_stone.engine import surroundings
from nimble_stone.engine.surroundings import Surroundings
from nimble_stone.hosts.api import InUse
from tests.core import scene


class Probes:
    """A host's view of the world."""

    def __init__(self, host: str, world: dict[str, Any], asked: list[tuple[str, str]]) -> None:
        self.host, self.world, self.asked = host, world, asked

    async def reaches(self, name: str, port: int) -> str:
        self.asked.append((self.host, name))
        return str(self.world.get("walls", {}).get(self.host, ""))

    async def in_use(self, address: str, bridge: str) -> InUse:
        return InUse(address not in self.world.get("silent", ()), bridge)

    async def answers_ping(self, address: str) -> bool:
        return False

    async def tells_time(self, server: str) -> bool:
        if self.host in self.world.get("lost", ()):
            raise RemoteFailed("lost", target=self.host)
        return server not in self.world.get("silent", ())

    async def addresses_of(self, names: Sequence[str]) -> Mapping[str, str]:
        return {name: self.world.get("names", {}).get(name, "") for name in names}

    async def name_of(self, address: str) -> str:
        return str(self.world.get("back", {}).get(address, ""))


async def looked(**world: Any) -> tuple[Surroundings, list[tuple[str, str]]]:
    asked: list[tuple[str, str]] = []

    async def driver(host: Any) -> Any:
        return SimpleNamespace(name=host.name, probes=Probes(host.name, world, asked))

    estate = scene.estate()
    ports: Any = SimpleNamespace(driver=driver)
    sheet = scene.sheet(estate)
    place = OutsidePlace(label="Mirror", host="mirror.holm.example", port=443)
    sheet = replace(sheet, kit=sheet.kit.model_copy(update={"outside": (place,)}))
    return await surroundings.look(ports, sheet, estate), asked


async def test_each_host_that_carries_nodes_is_asked() -> None:
    hosts = sorted({node.value("host") for node in scene.sheet(scene.estate()).nodes})
    assert len(hosts) > 1
    found, asked = await looked(walls={hosts[0]: "No route to host"})
    assert sorted({host for host, _ in asked}) == hosts
    assert found.unreached
    assert set(found.unreached.values()) == {f"No route to host (tried from {hosts[0]})"}
    assert (found.gateways, found.clocks, found.names) == ({}, {}, {})


async def test_what_several_hosts_say_is_said_once() -> None:
    sheet = scene.sheet(scene.estate())
    hosts = [node.value("host") for node in sheet.nodes]
    node = sheet.nodes[0]
    gateway, clock = node.value("gateway"), node.value("ntp").split()[0]
    found, _ = await looked(silent=(gateway, clock))
    for why in (found.gateways[gateway], found.clocks[clock]):
        assert all(host in why for host in dict.fromkeys(hosts))
        assert why.count("tried from") == 1


async def test_a_name_or_address_that_is_another_machine_is_told() -> None:
    sheet = scene.sheet(scene.estate())
    first, second = sheet.nodes[:2]
    name = f"{first.name}.{first.value('domain')}"
    found, _ = await looked(
        names={name: "10.9.9.9"}, back={second.value("address"): "old-archive.kelda.holm.example"}
    )
    assert "10.9.9.9" in found.names[first.id]
    assert "old-archive" in found.names[second.id]
    own = {name: first.value("address")}
    assert (await looked(names=own, back={first.value("address"): name}))[0].names == {}
    estate = scene.estate()
    told = {
        f.code: f
        for f in checks.check(
            Situation(sheet, estate, misnamed=found.names, gateways={"g": "w"}, clocks={"c": "w"})
        )
    }
    assert told["name-elsewhere"].node in (first.id, second.id)
    assert {"gateway-silent", "ntp-silent"} <= set(told)


async def test_a_host_that_is_lost_says_nothing_of_others() -> None:
    sheet = scene.sheet(scene.estate())
    found, _ = await looked(lost=[node.value("host") for node in sheet.nodes])
    assert found == Surroundings()


async def test_a_host_that_cannot_be_logged_in_to_stops_no_check() -> None:
    estate = scene.estate()

    async def driver(host: Any) -> Any:
        raise RemoteFailed("no such credential", target=host.name)

    ports: Any = SimpleNamespace(driver=driver)
    assert await surroundings.look(ports, scene.sheet(estate), estate) == Surroundings()
