"""Name records of a rollout: created with it, gone with it, and nobody else's touched."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from importlib.resources import files
from typing import Any

import pytest

from nimble_stone.cli.client import Client
from nimble_stone.core.errors import InputError
from nimble_stone.lab import name_server
from nimble_stone.lab.scenario import products
from tests.support.named import LabNames, dig, nsupdate
from tests.support.processes import LabProcess, ended, lab_and_server, prepare, small_package

PLAN = """nimble-stone: plan/1
name: {name}
kit: skerry
bay: kelda-main
package: {package}
values:
  pool: kelda-survey
  records: create
  virtual.api.name: {name}-api
roles:
  worker: {{count: 1}}
"""


@dataclass
class Scene:
    lab: LabProcess
    client: Client
    names: LabNames
    package: str


@pytest.fixture(scope="module")
def scene(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Scene]:
    folder = tmp_path_factory.mktemp("names")
    with lab_and_server(folder) as (lab, server, client):
        (server.data / "kits").mkdir(exist_ok=True)
        kit = (files("nimble_stone.kits") / "skerry.yaml").read_text()
        check = "  - {id: names, label: Names both ways, kind: names}\n"
        kit = kit.replace("acceptance:\n", f"acceptance:\n{check}")
        (server.data / "kits/skerry.yaml").write_text(kit)
        client.call("PUT", "/api/secrets/names/holm", {"value": name_server.SECRET})
        prepare(client, lab, small_package(folder))
        ova = folder / "skerry.ova"
        ova.write_bytes(products.ova(products.ALL["skerry"], mib=1))
        package = client.upload(ova, lambda *_: None)["sha256"]
        yield Scene(lab, client, LabNames(*lab.plan.real("10.44.0.5", 53)), package)


def planned(scene: Scene, name: str) -> None:
    """A plan with its password and licence."""
    client, text = scene.client, PLAN.format(name=name, package=scene.package)
    view = client.call("POST", "/api/plans", {"text": text})
    for column in (one["id"] for one in view["columns"] if one["kind"] == "secret"):
        view = client.call(
            "POST",
            f"/api/plans/{name}/secret",
            {"version": view["version"], "column": column, "value": "Tide-tables 1893"},
        )
    if view["licence_text"]:
        body = {"version": view["version"], "by": "mira"}
        client.call("POST", f"/api/plans/{name}/licence", body)


def test_records_stand_with_the_nodes_and_go_with_them(scene: Scene) -> None:
    client = scene.client
    planned(scene, "reef")
    foreign = "update add other.kelda.holm.example 60 A 10.44.20.250"
    assert nsupdate(scene.names, foreign) == ""
    started = client.call("POST", "/api/plans/reef/run")
    assert started["run"], started["plan"]["findings"]
    done = ended(client, started["run"])
    assert done["state"] == "done", [s["message"] for s in done["steps"] if s["message"]]
    nodes = client.call("GET", "/api/plans/reef")["nodes"]
    for node in nodes:
        name = f"{node['cells']['name']['value']}.kelda.holm.example"
        address = node["cells"]["address"]["value"]
        assert dig(scene.names, name, "A") == [address]
        back = ".".join(reversed(address.split("."))) + ".in-addr.arpa"
        assert dig(scene.names, back, "PTR") == [f"{name}."]
    _are_checked(scene, started["run"])
    api = nodes[0]["cells"]["virtual.api"]["value"]
    assert dig(scene.names, "reef-api.kelda.holm.example", "A") == [api]
    # a node more: the names of those that stand are theirs
    version = client.call("GET", "/api/plans/reef")["version"]
    edits = [{"path": ["roles", "worker", "count"], "value": 2}]
    client.call("PATCH", "/api/plans/reef", {"version": version, "edits": edits})
    grown = client.call("POST", "/api/plans/reef/run")
    assert grown["run"], [f["message"] for f in grown["plan"]["findings"]]
    more = ended(client, grown["run"])
    assert more["state"] == "done", [s["message"] for s in more["steps"] if s["message"]]
    nodes = client.call("GET", "/api/plans/reef")["nodes"]
    for node in nodes:
        name = f"{node['cells']['name']['value']}.kelda.holm.example"
        assert dig(scene.names, name, "A") == [node["cells"]["address"]["value"]]
    for run in (grown["run"], started["run"]):
        client.call("POST", f"/api/runs/{run}/undo", {})
        ended(client, run, states=("undone",))
    for node in nodes:
        name = f"{node['cells']['name']['value']}.kelda.holm.example"
        assert dig(scene.names, name, "A") == []
        assert dig(scene.names, f"_nimble-stone.{name}", "TXT") == []
    assert dig(scene.names, "reef-api.kelda.holm.example", "A") == []
    assert dig(scene.names, "other.kelda.holm.example", "A") == ["10.44.20.250"]


def _are_checked(scene: Scene, run: str) -> None:
    """Each of the nodes' own name servers is asked; somebody takes a name's way back out."""

    def told() -> dict[str, dict[str, Any]]:
        proofs = scene.client.call("POST", f"/api/runs/{run}/prove", {})["proofs"]
        return {one["node"]: one for one in proofs if one["proof"] == "names"}

    found = told()
    assert {one["passed"] for one in found.values()} == {True}
    some = found["worker-1"]
    name = some["found"].split(": ")[1].split("; ")[0]
    assert some["found"] == f"10.44.0.5: {name}; 10.45.0.5: {name}"
    address, full = name.split(", ")
    back = ".".join(reversed(address.split("."))) + ".in-addr.arpa"
    assert nsupdate(scene.names, f"update delete {back} PTR") == ""
    worse = told()["worker-1"]
    assert (worse["passed"], worse["checked"]) == (False, True)
    assert worse["found"] == f"10.44.0.5: {address}, no name; 10.45.0.5: {address}, no name"
    assert nsupdate(scene.names, f"update add {back} 300 PTR {full}.") == ""
    assert told()["worker-1"]["passed"]


def test_a_name_that_is_taken_is_found_before_the_run_and_left(scene: Scene) -> None:
    client = scene.client
    planned(scene, "shoals")
    node = client.call("GET", "/api/plans/shoals")["nodes"][1]
    name = f"{node['cells']['name']['value']}.kelda.holm.example"
    assert nsupdate(scene.names, f"update add {name} 60 A 10.44.21.77") == ""
    started = client.call("POST", "/api/plans/shoals/run")
    assert not started["run"]
    codes = {one["code"]: one for one in started["plan"]["findings"]}
    assert codes["name-taken"]["node"] == node["id"]
    assert "10.44.21.77" in codes["name-taken"]["message"]
    assert dig(scene.names, name, "A") == ["10.44.21.77"]
    # what another rollout made is nobody's to take, either
    mark = f"_nimble-stone.{name}"
    assert nsupdate(scene.names, f"update delete {name} A") == ""
    assert nsupdate(scene.names, f'update add {mark} 60 TXT "run=1 plan=other node=w"') == ""
    started = client.call("POST", "/api/plans/shoals/run")
    assert not started["run"]
    codes = {one["code"]: one for one in started["plan"]["findings"]}
    assert codes["name-taken"]["message"] == f"{name} belongs to another rollout."
    # a key that the server does not take is said, not its silence
    client.call("PUT", "/api/secrets/names/holm", {"value": "d3Jvbmcgd3Jvbmcgd3Jvbmc="})
    started = client.call("POST", "/api/plans/shoals/run")
    assert "names-refused" in {one["code"] for one in started["plan"]["findings"]}
    client.call("PUT", "/api/secrets/names/holm", {"value": name_server.SECRET})


def test_without_a_name_server_nothing_is_promised(scene: Scene) -> None:
    text = PLAN.format(name="inland", package=scene.package)
    view = scene.client.call(
        "POST", "/api/plans", {"text": text.replace("pool: kelda-survey", "network: storage")}
    )
    found = [one for one in view["findings"] if one["code"] == "names-no-server"]
    assert [one["node"] for one in found] == [view["nodes"][0]["id"]]
    # what the finding offers puts it right
    view = scene.client.call(
        "PATCH",
        "/api/plans/inland",
        {"version": view["version"], "edits": [found[0]["remedy"]["edit"]]},
    )
    assert "names-no-server" not in {one["code"] for one in view["findings"]}


def test_a_network_gets_its_name_server_on_its_page(scene: Scene) -> None:
    client = scene.client
    network = {"name": "inner", "subnet": "10.44.99.0/24", "gateway": "10.44.99.1"}
    with pytest.raises(InputError, match="a name server needs a key and its keyring entry"):
        client.call("PUT", "/api/networks", network | {"name_server": "10.44.0.5"})
    more = {
        "name_server": "10.44.0.5",
        "name_port": "5353",
        "name_key": "rollouts",
        "name_algorithm": "hmac-sha512",
        "name_credential": "names/holm",
    }
    found = client.call("PUT", "/api/networks", network | more)["networks"]
    kept = next(one for one in found if one["name"] == "inner")
    assert {key: str(kept[key]) for key in more} == more
    client.call("DELETE", "/api/networks/inner")
