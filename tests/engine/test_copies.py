"""Carrying a package: once per datastore whoever needs it, pulled or pushed, resumed after a cut,
laid under nodes, cleared when nobody needs it.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest

from nimble_stone.cli.client import Client
from nimble_stone.core.errors import StoneError
from nimble_stone.lab.scenario import appliance, demo
from tests.support.processes import LabProcess, ServerProcess, ended, prepare, ready_plan

PLAN = demo.PLAN


@pytest.fixture
def place(tmp_path: Path) -> Iterator[tuple[LabProcess, ServerProcess, Client]]:
    lab = LabProcess(tmp_path / "lab")
    data = tmp_path / "data"
    data.mkdir(mode=0o700)
    (data / "dial.yaml").write_text(lab.dial())
    server = ServerProcess(data, reachable=True)
    client = server.client()
    package = tmp_path / "g.ova"
    package.write_bytes(appliance.ova(mib=3))
    prepare(client, lab, package, plan=PLAN)
    yield lab, server, client
    server.stop()
    lab.stop()


def run(client: Client, plan: str) -> dict[str, Any]:
    found = client.call("POST", f"/api/plans/{plan}/run")
    assert found["run"], found["plan"]["findings"]
    done = ended(client, found["run"])
    assert done["state"] == "done", [
        (s["key"], s["message"]) for s in done["steps"] if s["state"] == "failed"
    ]
    return done


def arrived(lab: LabProcess) -> Counter[str]:
    """How many copies were sent to each host, by the hosts' own account."""
    return Counter(
        name
        for name, host in lab.show()["hosts"].items()
        for line in host["log"]
        if line.startswith("uploaded ns-base-")
    )


def ways(client: Client, done: dict[str, Any]) -> list[str]:
    return [
        e["payload"]["found"]["way"]
        for e in done["events"]
        if e["kind"] == "done" and e["step"].startswith("carry/") and e["payload"]["found"]["sent"]
    ]


def extra(client: Client, name: str, **values: str) -> str:
    text = PLAN.replace("name: western", f"name: {name}").replace(
        "  station: west\n",
        "  station: west\n" + "".join(f"  {k}: {v}\n" for k, v in values.items()),
    )
    ready_plan(client, text)
    return name


def test_three_nodes_on_one_datastore_take_one_transfer_and_a_second_plan_none(
    place: tuple[LabProcess, ServerProcess, Client],
) -> None:
    lab, _, client = place
    first = extra(client, "shared", datastore="kelda-shared")
    run(client, first)
    assert sum(arrived(lab).values()) == 1
    second = run(client, extra(client, "again", datastore="kelda-shared"))
    assert sum(arrived(lab).values()) == 1
    assert not ways(client, second)  # nothing travelled
    assert "already present" in next(s["message"] for s in second["steps"] if s["kind"] == "carry")
    sha = client.call("GET", "/api/packages")[0]["sha256"]
    copies = client.call("GET", "/api/copies")
    assert [(c["datastore"], c["used_by"]) for c in copies] == [("kelda-shared", [])]
    with pytest.raises(StoneError, match=r"used by|copies of the package"):
        client.call("DELETE", f"/api/packages/{sha}")
    assert client.call("DELETE", f"/api/packages/{sha}/copies") == {"cleared": 1, "kept": []}
    assert client.call("GET", "/api/copies") == []
    assert not [
        v
        for host in lab.show()["hosts"].values()
        for v in host["volumes"]
        if v.startswith("ns-base-")
    ]
    # and the nodes live on without it
    for plan in (first, "again"):
        assert client.call("GET", f"/api/plans/{plan}")["nodes"]


def test_nodes_laid_over_a_copy_keep_it_and_say_so(
    place: tuple[LabProcess, ServerProcess, Client],
) -> None:
    lab, _, client = place
    name = extra(client, "light", provisioning="overlay", datastore="kelda-shared")
    note = next(
        f for f in client.call("GET", f"/api/plans/{name}")["findings"] if f["code"] == "overlay"
    )
    assert "must stay" in note["consequence"]
    done = run(client, name)
    made = lab.show()["hosts"]
    disks = [v for host in made.values() for v in host["volumes"] if v.endswith("-disk0")]
    assert disks
    sha = client.call("GET", "/api/packages")[0]["sha256"]
    kept = client.call("DELETE", f"/api/packages/{sha}/copies")
    assert kept["cleared"] == 0
    assert f"run {done['id']} of light" in kept["kept"][0]
    client.call("POST", f"/api/runs/{done['id']}/undo", {})
    assert ended(client, done["id"], states=("undone",))["state"] == "undone"
    # the run that brought it took it back
    assert client.call("GET", "/api/copies") == []
    assert not [
        v for host in lab.show()["hosts"].values() for v in host["volumes"] if v.startswith("ns-")
    ]


def test_a_copy_another_run_needs_stays_when_the_run_that_brought_it_is_taken_back(
    place: tuple[LabProcess, ServerProcess, Client],
) -> None:
    _, _, client = place
    first = run(client, extra(client, "bringer", datastore="kelda-shared"))
    run(client, extra(client, "user", provisioning="overlay", datastore="kelda-shared"))
    client.call("POST", f"/api/runs/{first['id']}/undo", {})
    gone = ended(client, first["id"], states=("undone",))
    assert any(
        "others use them" in s["undo_message"]
        for s in gone["steps"]
        if s["key"].startswith("carry/")
    )
    assert len(client.call("GET", "/api/copies")) == 1


def test_the_faster_way_is_taken_and_shown_and_a_host_without_curl_is_pushed_to(
    place: tuple[LabProcess, ServerProcess, Client],
) -> None:
    lab, _, client = place
    for host in lab.plan.hosts:
        lab.turn(host.name, rate=0)
    for host in lab.plan.hosts[0:2]:
        lab.turn(host.name, no_curl=True)
    done = run(client, "western")
    found = ways(client, done)
    assert found
    assert all("pulled by the host" in way or "pushed over SSH" in way for way in found)
    without = {host.name for host in lab.plan.hosts[0:2]}
    for step in done["steps"]:
        if step["kind"] == "carry" and step["host"] in without:
            way = next(
                e["payload"]["found"]["way"]
                for e in done["events"]
                if e["kind"] == "done" and e["step"] == step["key"]
            )
            assert "curl is not installed" in way


def test_a_pull_that_is_cut_goes_on_where_it_was(
    place: tuple[LabProcess, ServerProcess, Client],
) -> None:
    lab, _, client = place
    for host in lab.plan.hosts:
        lab.turn(host.name, rate=0, pull_cut_after=1_000_000)
    done = run(client, extra(client, "cut", datastore="kelda-shared"))
    step = next(s["key"] for s in done["steps"] if s["kind"] == "carry")
    transcript = client.call("GET", f"/api/runs/{done['id']}/transcript?step={step}")
    fetches = [
        entry
        for entry in transcript
        if "curl --config -" in entry["command"] and "/pull/trial" not in entry["command"]
    ]
    if "pulled" in ways(client, done)[0]:
        assert any("continue-at" in entry["command"] for entry in fetches)
        assert any("transfer closed" in entry["answer"] for entry in fetches)
    # the ticket itself is in no transcript
    assert all(".…" in entry["command"] for entry in fetches)


def test_addresses_to_fetch_from_are_signed_and_good_for_one_transfer(
    place: tuple[LabProcess, ServerProcess, Client],
) -> None:
    _, server, _ = place
    assert httpx.get(f"{server.url}/pull/trial", trust_env=False).status_code == 200
    for ticket in (
        "nonsense",
        "0123456789abcdef.99999999999.0123",
        "0123456789abcdef.1." + "0" * 32,
    ):
        assert httpx.get(f"{server.url}/pull/{ticket}", trust_env=False).status_code == 401


def test_extra_disks_of_the_makers_guide_are_laid_on_top_within_its_limits(
    place: tuple[LabProcess, ServerProcess, Client],
) -> None:
    lab, _, client = place
    view = client.call("GET", "/api/plans/western")
    column = next(c for c in view["columns"] if c["id"] == "disk.readings")
    assert column["label"] == "Readings disk, GiB"
    edits = [
        {"path": ["roles", "archive", "values", "disk.readings.count"], "value": 2},
        {"path": ["roles", "archive", "values", "disk.readings"], "value": 9000},
    ]
    view = client.call("PATCH", "/api/plans/western", {"version": view["version"], "edits": edits})
    finding = next(f for f in view["findings"] if f["code"] == "extra-disk")
    assert "32 to 2048 GiB" in finding["message"]
    view = client.call(
        "PATCH",
        "/api/plans/western",
        {
            "version": view["version"],
            "edits": [{"path": ["roles", "archive", "values", "disk.readings"], "value": 64}],
        },
    )
    assert not [f for f in view["findings"] if f["code"] == "extra-disk"]
    archive = next(n for n in view["nodes"] if n["role"] == "archive")
    assert (
        archive["full_bytes"] - next(n for n in view["nodes"] if n["role"] == "lead")["full_bytes"]
        == 128 << 30
    )
    done = run(client, "western")
    volumes = sorted(
        {
            v.rsplit("-", 1)[1]
            for host in lab.show()["hosts"].values()
            for v in host["volumes"]
            if v.startswith(f"ns-{done['id']}")
        }
    )
    assert volumes == ["config", "disk0", "readings1", "readings2"]
    # the number of disks was proved too
    assert all(p["passed"] for p in done["proofs"])
