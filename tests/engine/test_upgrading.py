"""A deployment gets another version of its package: system disks are replaced, or nodes made again,
one after the other; rolled back, it is as before.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from importlib.resources import files
from pathlib import Path
from typing import Any

import pytest

from nimble_stone.cli.client import Client
from nimble_stone.core.errors import StoneError
from nimble_stone.lab.scenario import appliance
from tests.engine.test_growing import change, members
from tests.engine.test_kill import killed_on_the_way, made, step_events
from tests.engine.test_runs import ours, plan_text, undo
from tests.support.processes import (
    LabProcess,
    ServerProcess,
    ended,
    prepare,
    ready_plan,
    small_package,
    wait_for,
)
from tests.support.raw import ssh

NEWER = "Gauge Collector 4.3.0"
Place = tuple[LabProcess, ServerProcess, Client]


@pytest.fixture(scope="module")
def place(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Place]:
    folder: Path = tmp_path_factory.mktemp("upgrading")
    lab = LabProcess(folder / "lab")
    data = folder / "data"
    data.mkdir(mode=0o700)
    (data / "dial.yaml").write_text(lab.dial())
    server = ServerProcess(data)
    client = server.client()
    prepare(client, lab, small_package(folder))
    newer = folder / "gauge-collector-4.3.0.ova"
    newer.write_bytes(appliance.ova(version="4.3.0", mib=2, seed=45))
    client.upload(newer, lambda *_: None)
    yield lab, server, client
    server.stop()
    lab.stop()


def rolled_out(client: Client, name: str, relays: int = 2) -> str:
    text = plan_text(name).replace("  archive:\n", f"  relay:\n    count: {relays}\n  archive:\n")
    ready_plan(client, text)
    run = begun(client, name)
    assert ended(client, run)["state"] == "done"
    return run


def begun(client: Client, name: str, *remove: str) -> str:
    found = client.call("POST", f"/api/plans/{name}/run", {"remove": list(remove)})
    assert found["run"], [one["message"] for one in found["plan"]["findings"]]
    return str(found["run"])


def versions(run: dict[str, Any]) -> dict[str, str]:
    """Node → the version that it says it is of."""
    return {
        one["node"]: one["found"].split()[-1] for one in run["proofs"] if one["proof"] == "version"
    }


def identity(lab: LabProcess, run: dict[str, Any], *nodes: str) -> dict[str, list[str]]:
    """Node → the UUID and MAC addresses of its VM, as its host tells."""
    found = {}
    for node in run["nodes"]:
        if node["id"] in nodes:
            command = f"virsh -q -c qemu:///system dumpxml {node['name']}"
            xml = ssh(lab, node["host"], command, "")
            found[node["id"]] = sorted(re.findall("<uuid>.*?</uuid>|<mac address.*?/>", xml))
    return found


def server_events(server: ServerProcess, run: str) -> list[dict[str, str]]:
    """What the journal holds of a run's steps."""
    return [{"step": step, "kind": kind} for _, step, kind in step_events(server, run)]


def resumed(client: Client, run: str) -> None:
    """A person has looked at the first node, and the run goes on."""
    wait_for(lambda: client.call("GET", f"/api/runs/{run}")["state"] == "held", 90, "the hold")
    client.call("POST", f"/api/runs/{run}/resume", {})


def test_an_upgrade_goes_node_by_node_is_looked_at_and_can_be_rolled_back(place: Place) -> None:
    lab, _, client = place
    first = rolled_out(client, "rolling", relays=1)
    kept = ("lead-1", "relay-1")
    before = identity(lab, client.call("GET", f"/api/runs/{first}"), *kept)
    assert all(len(one) >= 2 for one in before.values())
    view = change(client, "rolling", package=NEWER, roles__relay__count=2)
    assert view["sentence"]["strong"] == (f"4 to upgrade to {NEWER}, one after the other, 1 to add")
    found = client.call("GET", "/api/plans/rolling/changes")
    assert {one["node"]: one["way"] for one in found["upgrades"]} == {
        "lead-1": "system",
        "archive-1": "again",
        "archive-2": "again",
        "relay-1": "system",
    }
    told = {one["code"]: one["message"] for one in found["findings"]}
    assert told["copies-fewer"].endswith("data that it held has 1 of 2 copies.")
    run = begun(client, "rolling", "archive-1", "archive-2")
    wait_for(lambda: client.call("GET", f"/api/runs/{run}")["state"] == "held", 90, "the hold")
    halfway = client.call("GET", f"/api/runs/{run}")
    done = {step["key"] for step in halfway["steps"] if step["state"] == "done"}
    assert "healthy/archive-1" in done, "the first one is looked at"
    later = {"retire/archive-2", "swap/relay-1", "start/relay-2"}
    assert not done & later, "the others are not touched yet"
    assert halfway["sentence"]["before"] == "rolling-arc-1: cluster healthy: 2 checks passed. "
    client.call("POST", f"/api/runs/{run}/resume", {})
    after = ended(client, run)
    assert after["state"] == "done", [p for p in after["proofs"] if not p["passed"]]
    assert set(versions(after).values()) == {"4.3.0"}
    assert members(after).count("rolling-") == 5
    assert identity(lab, after, *kept) == before, "the same machines"
    assert not client.call("GET", "/api/plans/rolling/changes")["steps"]
    assert client.call("POST", "/api/deployments/rolling/read", {})["drift"] == []
    words = [one["words"] for one in client.call("GET", "/api/deployments/rolling/history")]
    assert f"run {run} started: 1 to add, 2 to make again, 2 to upgrade" in words
    # rolled back: those that kept their VM are of the old version, the others are gone
    undo(client, run)
    change(client, "rolling", package="Gauge Collector 4.2.0")
    found = client.call("GET", "/api/plans/rolling/changes")
    assert [one["node"] for one in found["adds"]] == ["archive-1", "archive-2", "relay-2"]
    assert (found["upgrades"], found["nodes"]) == ([], 2)
    again = begun(client, "rolling")
    whole = ended(client, again)
    assert whole["state"] == "done", [p for p in whole["proofs"] if not p["passed"]]
    assert set(versions(whole).values()) == {"4.2.0"}
    assert identity(lab, whole, *kept) == before
    undo(client, again)
    undo(client, first)
    assert ours(lab) == []
    client.call("DELETE", "/api/plans/rolling")


@pytest.mark.timeout(900)
def test_killed_on_the_way_no_node_is_swapped_twice(place: Place) -> None:
    lab, server, client = place
    first = rolled_out(client, "killed", relays=1)
    before = made(lab, "defined")
    change(client, "killed", package=NEWER)
    run = begun(client, "killed", "archive-1", "archive-2")
    lives = killed_on_the_way(server, run, most=6, least=5, spread=4)
    resumed(server.client(), run)
    lives += killed_on_the_way(server, run, most=8, least=3, spread=4)
    client = server.client()
    done = ended(client, run)
    assert {"swap", "retire", "healthy"} & set(lives), lives
    assert done["state"] == "done", [p for p in done["proofs"] if not p["passed"]]
    fresh = made(lab, "defined") - before
    assert fresh == {node["name"]: 1 for node in done["nodes"]}
    # a node that was upgraded is removed with all that both runs made for it
    change(client, "killed", roles__relay__count=0)
    shrunk = begun(client, "killed", "relay-1")
    assert ended(client, shrunk)["state"] == "done"
    assert not [one for one in ours(lab) if "killed-rel-1" in one]
    for one in (shrunk, run, first):
        undo(client, one)
    assert ours(lab) == []


def test_data_disks_stay_with_a_node_whose_system_disk_is_replaced(place: Place) -> None:
    lab, server, client = place
    kit = files("nimble_stone.kits").joinpath("gauge-collector.yaml").read_text()
    (server.data / "kits").mkdir(exist_ok=True)
    (server.data / "kits" / "keeper.yaml").write_text(
        kit.replace("id: gauge-collector", "id: keeper", 1).replace(
            "{role: archive, way: again, hold: true}", "{role: archive, way: system}"
        )
    )
    wait_for(
        lambda: "keeper" in {k["id"] for k in client.call("GET", "/api/kits/shelf")["kits"]},
        20,
        "the kit",
    )
    disks = "    values:\n      disk.readings: 32\n      disk.readings.count: 1\n"
    text = plan_text("keeps").replace("kit: gauge-collector", "kit: keeper")
    ready_plan(client, re.sub(r"(count: 2\n)    values:\n", rf"\1{disks}", text))
    first = begun(client, "keeps")
    assert ended(client, first)["state"] == "done"
    change(client, "keeps", package=NEWER)
    run = begun(client, "keeps")
    done = ended(client, run)
    assert done["state"] == "done", [p for p in done["proofs"] if not p["passed"]]
    assert set(versions(done).values()) == {"4.3.0"}
    # what they remember lies on the data disk: they had not to join again
    acted = {event["step"] for event in server_events(server, run) if event["kind"] == "acting"}
    assert "swap/archive-1" in acted
    assert not {step for step in acted if step.startswith("join/")}
    volumes = [one for one in ours(lab) if "readings1" in one]
    assert sorted(volumes) == [f"ns-{first}-keeps-arc-{n}-readings1" for n in (1, 2)]
    assert client.call("POST", "/api/deployments/keeps/read", {})["drift"] == []
    # they grow, and are moved, as any other
    change(client, "keeps", **{"roles__archive__values__disk.readings": 48})
    grown = begun(client, "keeps")
    assert ended(client, grown)["state"] == "done"
    assert client.call("GET", "/api/plans/keeps/changes")["steps"] == []
    # what they had before stays for the rollback, until a person no longer wants that
    told = server.cli("deployment", "former", "keeps").stdout
    assert told.count(f"the rollback of run {run} needs it") == 6
    undo(client, grown)
    with pytest.raises(StoneError, match="cannot be rolled back"):
        client.call("POST", "/api/deployments/keeps/former", {"confirm": "keep"})
    assert "6 volumes" in server.cli("deployment", "former", "keeps", "--confirm", "keeps").stdout
    assert [one for one in ours(lab) if re.search(f"ns-{first}-.*(disk0|config)$", one)] == []
    assert "No former system disks." in server.cli("deployment", "former", "keeps").stdout
    with pytest.raises(StoneError, match="former disks were removed"):
        client.call("POST", f"/api/runs/{run}/undo", {})
    # the growth was rolled back, and disks do not shrink
    drift = client.call("POST", "/api/deployments/keeps/read", {})["drift"]
    assert {(one["check"], one["now"]) for one in drift} == {("disks", "2 disks: 48 GiB, 40 GiB")}
    server.cli("deployment", "retire", "keeps", "--confirm", "keeps")
    assert ours(lab) == []
    client.call("DELETE", "/api/plans/keeps")
