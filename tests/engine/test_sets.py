"""A package of several systems: its systems become roles, in the order and with the delays of its
descriptor.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest

from nimble_stone.cli.client import Client
from nimble_stone.lab.scenario import demo
from tests.support import gauge_set
from tests.support.processes import (
    LabProcess,
    ServerProcess,
    ended,
    lab_and_server,
    prepare,
    ready_plan,
    small_package,
)

PLAN = """nimble-stone: plan/1
name: {name}
kit: {kit}
package: {package}
bay: kelda-main
values: {{pool: kelda-survey, station: west, size: small}}
"""


@dataclass
class Scene:
    lab: LabProcess
    server: ServerProcess
    client: Client
    folder: Path

    def take_in(self, **more: str) -> str:
        """A set; its digest."""
        file = self.folder / "set.ova"
        file.write_bytes(gauge_set.small(**more))
        return str(self.client.upload(file, lambda *_: None)["sha256"])

    def planned(self, name: str, package: str, kit: str = "gauge-set") -> dict[str, Any]:
        text = PLAN.format(name=name, kit=kit, package=package)
        return ready_plan(self.client, text)


@pytest.fixture(scope="module")
def scene(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Scene]:
    folder = tmp_path_factory.mktemp("sets")
    with lab_and_server(folder) as (lab, server, client):
        (server.data / "kits").mkdir(exist_ok=True)
        (server.data / "kits/gauge-set.yaml").write_text(gauge_set.kit())
        prepare(client, lab, small_package(folder), plan=demo.PLAN)
        yield Scene(lab, server, client, folder)


def test_systems_are_roles_and_start_in_the_packages_order(scene: Scene) -> None:
    client, package = scene.client, scene.take_in()
    shown = client.call("GET", f"/api/packages/{package}")
    assert [one["id"] for one in shown["systems"]] == ["keeper", "shelf"]
    assert shown["unusable"] == ""
    assert shown["kits"] == [gauge_set.PRODUCT]
    view = scene.planned("set", package)
    assert [f["message"] for f in view["findings"] if f["severity"] == "blocker"] == []
    started = client.call("POST", "/api/plans/set/run")
    assert started["run"], started["plan"]["findings"]
    done = ended(client, started["run"])
    assert done["state"] == "done", [s["message"] for s in done["steps"] if s["message"]]
    at = {step["key"]: step for step in done["steps"]}
    assert at["start/archive-1"]["started_at"] >= at["services/lead-1"]["ended_at"]


def test_a_delay_between_systems_is_a_step(scene: Scene) -> None:
    package = scene.take_in(first='ovf:startDelay="40"')
    scene.planned("slowly", package)
    started = scene.client.call("POST", "/api/plans/slowly/run")
    assert started["run"], started["plan"]["findings"]
    done = ended(scene.client, started["run"])
    assert done["state"] == "done"
    at = {step["key"]: step for step in done["steps"]}
    delay = at["delay/1"]
    assert delay["label"] == "Start delay 40 s"
    assert at["start/lead-1"]["ended_at"] <= at[delay["key"]]["started_at"]
    assert at[delay["key"]]["ended_at"] <= at["start/archive-1"]["started_at"]


def test_a_kit_that_names_no_system_is_told_before_the_run(scene: Scene) -> None:
    package = scene.take_in()
    view = scene.planned("astray", package, kit="gauge-collector")
    found = {one["code"]: one["message"] for one in view["findings"]}
    assert "keeper, shelf" in found["package-systems"]
    # and the other way round: a package of one system
    view = scene.planned("single", "Gauge Collector 4.2.0")
    found = {one["code"]: one["message"] for one in view["findings"]}
    assert "holds 1 system (gauge-collector)" in found["package-systems"]
