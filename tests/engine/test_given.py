"""What nodes are given while a run goes on: addresses by DHCP, certificates. Kept over a kill,
never taken from somebody else, made once.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest

from nimble_stone.cli.client import Client
from nimble_stone.core.errors import RemoteFailed
from nimble_stone.core.estate import Mark
from nimble_stone.core.plan.model import Plan
from nimble_stone.core.plan.packages import Packages
from nimble_stone.core.plan.sheet import Sheet, resolve
from nimble_stone.core.runs.document import write as freeze
from nimble_stone.core.sequence import build
from nimble_stone.engine import certificates
from nimble_stone.engine.frozen import FrozenRun, thaw
from nimble_stone.engine.steps import KINDS
from nimble_stone.hosts.api import Vm, VmAddress
from nimble_stone.keyring.certificates import words
from nimble_stone.lab.scenario import demo, products
from nimble_stone.server.app import open_application
from nimble_stone.store import runs
from nimble_stone.store.runs import RunRow
from tests.core.test_resolution import KITS, PACKAGES
from tests.core.test_series import ESTATE
from tests.support.processes import (
    PASSWORD,
    LabProcess,
    ServerProcess,
    ended,
    lab_and_server,
    wait_for,
)

REEF = {
    "nimble-stone": "plan/1",
    "name": "reef",
    "kit": "skerry",
    "bay": "kelda-main",
    "values": {"pool": "kelda-survey"},
    "roles": {"worker": {"count": 2, "values": {"addressing": "dhcp"}}},
}


def reef() -> Sheet:
    return resolve(Plan.model_validate(REEF), KITS["skerry"], PACKAGES["skerry"], ESTATE)


def frozen(learned: dict[str, dict[str, str]] | None = None) -> FrozenRun:
    sheet = reef()
    steps = build(sheet, ESTATE)
    doc = freeze(sheet, steps, ESTATE) | ({"learned": learned} if learned else {})
    return thaw(
        RunRow("r1", "reef", PACKAGES["skerry"].sha256, "running", doc, 0.0, None),
        Packages(PACKAGES["skerry"]),
    )


class Host:
    """A hypervisor host that says what it is told to say."""

    name = "gannet"

    def __init__(self, *said: list[VmAddress], runs: bool = True) -> None:
        self.said, self.runs, self.started = list(said), runs, 0
        self.vms = self

    async def addresses(self, name: str) -> list[VmAddress]:
        return self.said.pop(0) if self.said else []

    async def find(self, name: str) -> Vm:
        return Vm(name, "u", 1, 1, 1, Mark(run="r1", node=name, plan="reef"))

    async def running(self, name: str) -> bool:
        return self.runs

    async def start(self, name: str) -> None:
        self.runs, self.started = True, self.started + 1


class Book:
    """A store that remembers what it was asked to write."""

    def __init__(self) -> None:
        self.written: list[tuple[str, tuple[Any, ...]]] = []

    async def write(self, what: Any, *how: Any) -> None:
        self.written.append((what.__name__, how))


def context(host: Host, run: FrozenRun, node: str = "worker-1") -> Any:
    return SimpleNamespace(
        host=host,
        run=run,
        node=run.sheet.by_id[node],
        ports=SimpleNamespace(store=Book()),
        acted=True,
    )


def test_only_nodes_by_dhcp_wait_for_an_address_and_all_that_need_it_wait_for_them() -> None:
    steps = {step.key: step for step in build(reef(), ESTATE)}
    assert [key for key in steps if key.startswith("learn/")] == [
        "learn/worker-1",
        "learn/worker-2",
    ]
    assert steps["learn/worker-1"].after == ("start/worker-1",)
    assert steps["boot/worker-1"].after == ("learn/worker-1",)
    assert steps["boot/controller-1"].after == ("start/controller-1",)
    whole = sum(steps[f"{kind}/worker-1"].expected_s for kind in ("learn", "boot"))
    assert whole == pytest.approx(steps["boot/controller-1"].expected_s)


async def test_an_address_is_learnt_kept_and_used() -> None:
    run, host = frozen(), Host([], [VmAddress("10.44.20.80", "23")])
    c = context(host, run)
    assert await KINDS["learn"].observe(c) is None
    assert await KINDS["learn"].observe(c) == {"address": "10.44.20.80", "way": "10.44.20.80"}
    assert (
        "learn",
        ("r1", "worker-1", {"address": "10.44.20.80", "prefix": "23"}),
    ) in c.ports.store.written
    # a new guest has a new host key
    assert ("drop_pins", ("10.44.20.80",)) in c.ports.store.written
    assert run.sheet.by_id["worker-1"].value("address") == "10.44.20.80"
    # asked once
    assert await KINDS["learn"].observe(context(Host(), run)) == {"address": "10.44.20.80"}
    assert (
        frozen({"worker-1": {"address": "10.44.20.80"}}).sheet.by_id["worker-1"].value("address")
        == "10.44.20.80"
    )


async def test_an_address_of_somebody_else_in_the_plan_is_not_believed() -> None:
    run = frozen()
    mine = run.sheet.by_id["controller-2"].value("address")
    virtual = run.sheet.nodes[0].value("virtual.api")
    c = context(Host([VmAddress(mine, "23"), VmAddress(virtual, "23")]), run)
    assert await KINDS["learn"].observe(c) is None
    # nor is that one's host key forgotten
    assert c.ports.store.written == []
    assert await KINDS["learn"].observe(
        context(Host([VmAddress(mine, "23"), VmAddress("10.44.20.85", "")]), run)
    ) == {"address": "10.44.20.85", "way": "10.44.20.85"}
    # the neighbour table knows none; the network's stays
    assert run.sheet.by_id["worker-1"].value("prefix") == "23"


async def test_a_guest_that_stops_before_it_has_an_address_is_told_and_started_on_retry() -> None:
    host, run = Host(runs=False), frozen()
    with pytest.raises(RemoteFailed, match="has stopped"):
        await KINDS["learn"].observe(context(host, run))
    await KINDS["learn"].act(context(host, run))
    assert host.started == 1
    assert await KINDS["learn"].undo(context(host, run)) == ""


async def test_certificates_of_a_run_are_made_once_and_go_with_it(tmp_path: Path) -> None:
    ports = open_application(tmp_path, 1.0)
    sheet, wanted = reef(), KITS["skerry"].certificates[0]
    first = await certificates.of_node(ports, "r1", sheet, sheet.nodes[0], wanted)
    assert await certificates.of_node(ports, "r1", sheet, sheet.nodes[0], wanted) == first
    assert await certificates.of_node(ports, "r1", sheet, sheet.nodes[1], wanted) != first
    assert await certificates.of_node(ports, "r2", sheet, sheet.nodes[0], wanted) != first
    assert words(first.certificate).startswith(
        "reef-ctl1.kelda.holm.example, by Nimble Stone authority"
    )
    assert certificates.names(sheet, sheet.nodes[0], wanted) == [
        "reef-ctl1.kelda.holm.example",
        "reef-ctl1",
        "10.44.20.11",
        "10.44.20.74",
    ]
    assert first.key not in ports.blank(f"x {first.key} y")
    maker = await certificates.authority(ports)
    ports.store.close()
    # a server that was started anew
    again = open_application(tmp_path, 1.0)
    assert await certificates.authority(again) == maker
    assert await certificates.of_node(again, "r1", sheet, sheet.nodes[0], wanted) == first
    again.store.close()
    raw = b"".join(file.read_bytes() for file in tmp_path.glob("nimble-stone.db*"))
    assert first.key.splitlines()[1].encode() not in raw


@pytest.fixture
def place(tmp_path: Path) -> Iterator[tuple[LabProcess, ServerProcess, Client]]:
    with lab_and_server(tmp_path) as (lab, server, client):
        client.call("POST", "/api/estate", demo.estate_file(lab.plan).model_dump(mode="json"))
        client.call("POST", "/api/estate/read", {})
        (tmp_path / "skerry.ova").write_bytes(products.ova(products.PRODUCTS["skerry"], mib=1))
        client.upload(tmp_path / "skerry.ova", lambda *_: None)
        yield lab, server, client


def asked(server: ServerProcess, text: str, *values: Any) -> list[tuple[Any, ...]]:
    connection = sqlite3.connect(f"file:{server.data}/nimble-stone.db?mode=ro", uri=True)
    try:
        return connection.execute(text, values).fetchall()
    finally:
        connection.close()


def test_killed_after_an_address_was_learnt_the_run_goes_on_with_it(
    place: tuple[LabProcess, ServerProcess, Client],
) -> None:
    _, server, client = place
    plan = client.call(
        "POST",
        "/api/plans",
        {
            "text": (
                "nimble-stone: plan/1\nname: reef\nkit: skerry\npackage: Skerry 2.4.1\nbay:"
                " kelda-main\nvalues: {pool: kelda-survey, addressing: dhcp, mac_pool:"
                " kelda-macs}\nroles: {controller: {count: 1}, worker: {count: 1}}\n"
            )
        },
    )
    for column in ("admin_password", "seal_key"):
        plan = client.call(
            "POST",
            "/api/plans/reef/secret",
            {"version": plan["version"], "column": column, "value": PASSWORD},
        )
    run = str(client.call("POST", "/api/plans/reef/run")["run"])
    wait_for(lambda: asked(server, "SELECT node FROM learned WHERE run = ?", run), 60, "an address")
    server.kill()
    learnt = dict(
        asked(server, "SELECT node, value FROM learned WHERE run = ? AND col = 'address'", run)
    )
    keys = dict(
        asked(
            server, "SELECT name, made_at FROM secret WHERE name LIKE ?", f"run/{run}/certificate/%"
        )
    )
    server.start()
    done = ended(server.client(), run)
    assert done["state"] == "done", [
        (s["key"], s["message"]) for s in done["steps"] if s["state"] == "failed"
    ] + [p for p in done["proofs"] if not p["passed"]]
    after = {node["id"]: node["cells"]["address"]["value"] for node in done["nodes"]}
    assert after.items() >= learnt.items()
    assert set(after.values()) == {"10.44.20.80", "10.44.20.81"}
    # none was made anew
    assert (
        dict(
            asked(
                server,
                "SELECT name, made_at FROM secret WHERE name LIKE ?",
                f"run/{run}/certificate/%",
            )
        ).items()
        >= keys.items()
    )
    # A guest that is asked again keeps its lease; the plan holds no address of the dynamic range,
    # for it is nobody's.
    assert not [
        one
        for one in server.client().call("GET", "/api/pools")
        for member in one["members"]
        if member["address"] in after.values()
    ]
    server.client().call("POST", f"/api/runs/{run}/undo", {})
    assert ended(server.client(), run, states=("undone",))["state"] == "undone"
    assert asked(server, "SELECT name FROM secret WHERE name LIKE ?", f"run/{run}/%") == []


def test_learnt_values_stay_with_their_run(tmp_path: Path) -> None:
    from nimble_stone.store.connect import connect, migrate

    db = connect(tmp_path / "x.db")
    migrate(db)
    for ident in ("r1", "r2"):
        runs.add_run(db, RunRow(ident, f"plan-{ident}", "", "done", {"plan": {}}, 1.0, None), ["a"])
    runs.learn(db, "r1", "worker-1", {"address": "10.44.20.80"})
    runs.learn(db, "r1", "worker-1", {"address": "10.44.20.81", "prefix": "23"})
    assert runs.get_run(db, "r1").doc["learned"] == {
        "worker-1": {"address": "10.44.20.81", "prefix": "23"}
    }
    assert "learned" not in runs.get_run(db, "r2").doc
