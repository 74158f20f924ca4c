"""A plan rolled out onto bare machines: chosen with their drives and ports, written, configured,
booted, formed, checked and taken back, by stand-ins that fetch and read all of it.
"""

from __future__ import annotations

import sqlite3
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import pytest

from nimble_stone.cli.client import Client
from nimble_stone.core.errors import StoneError
from nimble_stone.lab.scenario import products
from tests.engine.test_kill import killed_on_the_way, step_events
from tests.support.machines import Place, inspect, machine_scene
from tests.support.processes import ended, wait_for

NAMES = ("chert", "gneiss", "slate")
SPARES = ("basalt", "granite", "tuff")
PLAN = f"""nimble-stone: plan/1
name: keel
kit: ballast
package: Ballast {products.ALL["ballast"].version}
bay: kelda-metal
values: {{pool: kelda-survey, net.copying.pool: kelda-storage}}
roles: {{storage: {{count: 3, values: {{on: machines, size: small, disk.data.rule: 3 ssd}}}}}}
nodes: {{storage-1: {{host: chert}}, storage-2: {{host: gneiss}}, storage-3: {{host: slate}}}}
"""


@pytest.fixture(scope="module")
def place(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Place]:
    with machine_scene(tmp_path_factory.mktemp("on-machines")) as found:
        yield found


def planned(client: Client, text: str = PLAN, name: str = "keel") -> dict[str, Any]:
    plan = client.call("POST", "/api/plans", {"text": text})
    return dict(
        client.call(
            "POST",
            f"/api/plans/{name}/secret",
            {
                "version": plan["version"],
                "column": "admin_password",
                "value": "Tide-tables 1893 and on",
            },
        )
    )


def blockers(plan: dict[str, Any]) -> list[str]:
    return [f["message"] for f in plan["findings"] if f["severity"] == "blocker"]


def started(client: Client, plan: str) -> str:
    """The run that begins."""
    found = client.call("POST", f"/api/plans/{plan}/run")
    assert found["run"], blockers(found["plan"])
    return str(found["run"])


def test_a_plan_is_rolled_out_onto_machines_and_taken_back(place: Place) -> None:
    lab, server, client = place
    plan = planned(client)
    assert blockers(plan) == ["Not inspected: chert, gneiss, slate."]
    inspect(client, *NAMES)
    plan = client.call("GET", "/api/plans/keel")
    assert blockers(plan) == []
    cells = {node["id"]: node["cells"] for node in plan["nodes"]}
    assert {len(cells[i]["disk.data.drives"]["value"].split(", ")) for i in cells} == {3}
    shown = server.cli("plan", "show", "keel").stdout
    system = cells_of(plan, "chert")["system.drive"]["value"]
    assert f"{system} + " in next(line for line in shown.splitlines() if "chert" in line)
    found = client.call("POST", "/api/plans/keel/run")
    assert found["run"], blockers(found["plan"])
    done = ended(client, found["run"])
    assert done["state"] == "done", [
        (s["key"], s["message"]) for s in done["steps"] if s["state"] == "failed"
    ] + [p for p in done["proofs"] if not p["passed"]]
    run = found["run"]
    # as a real machine of that kind: off, one start from the medium, one from its own drive
    for name in NAMES:
        seen = lab.show()["machines"][name]
        boots = [line for line in seen["log"] if line.startswith("boots from")]
        assert boots[-2:] == ["boots from Cd", "boots from Hdd"]
        assert (seen["power"], seen["image"]) == ("On", "")
        assert list(seen["written"]) == [cells_of(plan, name)["system.drive"]["value"]]
    labels = {proof["label"] for proof in done["proofs"]}
    assert "Machine on" in labels
    assert not labels & {"VM running", "Networks", "vCPU, memory, disks"}
    # what its own run wrote does not stand in the plan's way
    again = client.call("GET", "/api/plans/keel")
    assert blockers(again) == []
    assert [n["cells"] for n in again["nodes"]] == [n["cells"] for n in plan["nodes"]]
    # the power of one fails: the checks tell, and its neighbours' do not
    lab.power("slate", "ForceOff")
    wait_for(lambda: lab.show()["machines"]["slate"]["power"] == "Off", 30, "slate off")
    client.call("POST", f"/api/runs/{run}/prove", {})
    after = client.call("GET", f"/api/runs/{run}")
    failed = {(p["node"], p["label"]) for p in after["proofs"] if not p["passed"]}
    assert ("storage-3", "Machine on") in failed
    assert {node for node, _ in failed} <= {"storage-3", ""}
    # nothing looks into a machine that a node lives on
    with pytest.raises(StoneError, match=r"keel-sto-1 of run .* lives on it"):
        inspect(client, "chert")
    client.call("POST", f"/api/runs/{run}/undo", {})
    gone = ended(client, run, states=("undone",))
    told = " ".join(s["undo_message"] for s in gone["steps"])
    assert "keeps what was written; wipe it on the machine's page" in told
    for name in NAMES:
        seen = lab.show()["machines"][name]
        assert (seen["power"], seen["image"]) == ("Off", "")
    entries = client.call("GET", "/api/keyring")
    assert run not in str(entries)


def cells_of(plan: dict[str, Any], machine: str) -> dict[str, Any]:
    return next(dict(n["cells"]) for n in plan["nodes"] if n["cells"]["host"]["value"] == machine)


def test_of_two_plans_that_start_at_once_one_gets_the_machines(place: Place) -> None:
    _, server, client = place
    names = ("oar", "mast")
    for name in names:
        planned(client, PLAN.replace("name: keel", f"name: {name}"), name)

    def start(name: str) -> str:
        try:
            return str(server.client().call("POST", f"/api/plans/{name}/run")["run"])
        except StoneError as error:
            assert error.code == "machine-taken", error
            return ""

    with ThreadPoolExecutor(2) as pool:
        started = [run for run in pool.map(start, names) if run]
    assert len(started) == 1
    client.call("POST", f"/api/runs/{started[0]}/undo", {})
    assert ended(client, started[0], states=("undone",))["state"] == "undone"
    for name in names:
        client.call("DELETE", f"/api/plans/{name}")


def test_a_run_that_is_on_hold_for_long_inserts_its_config_iso_anew(place: Place) -> None:
    """The address of a medium is good for hours, a hold may last a weekend."""
    lab, server, client = place
    planned(client, PLAN.replace("name: keel", "name: ebb"), "ebb")
    run = started(client, "ebb")

    def states() -> dict[str, str]:
        view = client.call("GET", f"/api/runs/{run}")
        return {step["key"]: step["state"] for step in view["steps"]}

    # its controller answers so slowly that the hold comes before its machine is switched on
    wait_for(lambda: states()["medium-boot/storage-3"] == "done", 90, "slate boots")
    lab.turn("slate", slow_s=0.7)
    wait_for(lambda: states()["seed/storage-3"] in ("working", "waiting"), 180, "slate's medium")
    client.call("POST", f"/api/runs/{run}/hold", {})
    lab.turn("slate", slow_s=0.0)
    wait_for(lambda: states()["seed/storage-3"] == "done", 60, "slate's config ISO")
    assert states()["power-on/storage-3"] == "planned"
    first = lab.show()["machines"]["slate"]["image"]
    database = sqlite3.connect(server.data / "nimble-stone.db", timeout=30)
    with database:
        database.execute(
            "UPDATE medium SET until = 1 WHERE run = ? AND machine = 'slate' AND until > 0", (run,)
        )
    database.close()
    client.call("POST", f"/api/runs/{run}/resume", {})
    done = ended(client, run)
    assert done["state"] == "done", [s for s in done["steps"] if s["state"] == "failed"]
    log = lab.show()["machines"]["slate"]["log"]
    assert first
    assert "boots from Hdd" in log
    client.call("POST", f"/api/runs/{run}/undo", {})
    ended(client, run, states=("undone",))


@pytest.mark.timeout(600)
def test_a_dead_machine_is_replaced_by_a_spare(place: Place) -> None:
    lab, _, client = place
    text = PLAN[: PLAN.index("nodes:")].replace("name: keel", "name: bilge")
    inspect(client, *NAMES, *SPARES)
    planned(client, text, "bilge")
    run = started(client, "bilge")
    assert ended(client, run, 240)["state"] == "done"
    was = client.call("GET", "/api/plans/bilge")["nodes"]
    dead = was[1]["cells"]["host"]["value"]
    idle = {*NAMES, *SPARES} - {one["cells"]["host"]["value"] for one in was}
    with pytest.raises(StoneError, match=f"{dead} answers, so it is not lost"):
        client.call("POST", "/api/plans/bilge/run", {"lost": [dead]})
    lab.power(dead, "ForceOff")
    wait_for(lambda: lab.show()["machines"][dead]["power"] == "Off", 30, "its power off")
    lab.turn(dead, unreachable=True)
    found = client.call("POST", "/api/plans/bilge/run", {"lost": [dead]})
    assert found["run"], blockers(found["plan"])
    done = ended(client, found["run"], 240)
    assert done["state"] == "done", [s["message"] for s in done["steps"] if s["message"]]
    now = {n["id"]: n["cells"] for n in client.call("GET", "/api/plans/bilge")["nodes"]}
    spare = now[was[1]["id"]]["host"]["value"]
    assert spare in idle
    assert now[was[1]["id"]]["address"] == was[1]["cells"]["address"]
    assert now[was[0]["id"]]["host"] == was[0]["cells"]["host"]
    assert list(lab.show()["machines"][spare]["written"]) == [
        now[was[1]["id"]]["system.drive"]["value"]
    ]
    lab.turn(dead, unreachable=False)
    for one in (found["run"], run):
        client.call("POST", f"/api/runs/{one}/undo", {})
        assert ended(client, one, states=("undone",))["state"] == "undone"
    client.call("DELETE", "/api/plans/bilge")


@pytest.mark.timeout(800)
def test_killed_at_every_step_the_machines_are_written_and_started_once(place: Place) -> None:
    lab, server, client = place
    text = PLAN.replace("name: keel", "name: rib")
    plan = planned(client, text, "rib")
    assert blockers(plan) == []
    before = {name: len(lab.show()["machines"][name]["log"]) for name in NAMES}
    run = started(client, "rib")
    met = killed_on_the_way(server, run, most=14, least=8, spread=6)
    done = ended(client, run)
    assert len(met) >= 8
    assert len(set(met)) >= 4, met
    assert done["state"] == "done", [
        (s["key"], s["message"]) for s in done["steps"] if s["state"] == "failed"
    ] + [p for p in done["proofs"] if not p["passed"]]
    for name in NAMES:
        seen = lab.show()["machines"][name]
        log = seen["log"][before[name] :]
        assert log.count("boots from Hdd") == 1
        assert (seen["power"], seen["image"]) == ("On", "")
    finished = Counter(step for _, step, kind in step_events(server, run) if kind == "done")
    assert finished == Counter(step["key"] for step in done["steps"])
    client.call("POST", f"/api/runs/{run}/undo", {})
    ended(client, run, states=("undone",))
