"""Three real machines without an operating system, BIOS and UEFI, become a quorum of etcd by an
unattended installer; one loses its power and comes back with its data, one dies and a spare takes
its place, and all is taken back.
"""

from __future__ import annotations

import base64
import json
import os
import subprocess
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from nimble_stone.cli.client import Client
from nimble_stone.core.marks import drive_mark
from tests.hosts.controllers import free_port
from tests.hypervisor import metal
from tests.hypervisor.machines import Room, Tap, plan, real
from tests.hypervisor.quorum import build
from tests.support.machines import inspect
from tests.support.processes import ended, wait_for

pytestmark = pytest.mark.timeout(1800)
PLAN = """nimble-stone: plan/1
name: quay
kit: quorum
package: QUORUM 1.0
bay: kelda-metal
values: {pool: survey, net.peers.pool: peers, net.peers.vlan: 244}
nodes:
  member-1: {host: ash}
  member-2: {host: beech, bond: active-backup}
  member-3: {host: cedar}
"""
NODES = ("10.44.20.21", "10.44.20.22", "10.44.20.23")
"""Other addresses than those of other tests with real machines, which may run meanwhile."""
TOKEN = "tide & 'mud' \"flats\" $(1893)"
LONG = 400.0
"""The longest that three emulated machines may take for one thing, seconds."""


@pytest.fixture(scope="module")
def room(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Room]:
    folder = tmp_path_factory.mktemp("quorum")
    kinds = (
        *(("ash", "bios", 151), ("beech", "uefi", 152), ("cedar", "bios", 153)),
        # a spare, which the plan does not name
        ("elm", "bios", 154),
    )
    plans = [plan(*kind, mib=1200) for kind in kinds]
    found = Room(folder / "machines", plans, [free_port() for _ in plans])
    # the answers of one come on a second medium; one has no virtual media at all
    found.machines["ash"].machine.knobs.habits.append("second-slot")
    found.machines["cedar"].machine.plan.odd["no_media"] = True
    found.machines["cedar"].box.rom = True
    found.machines["beech"].box.cards = 2
    yield found
    found.close()


@pytest.fixture(scope="module")
def tap(room: Room) -> Iterator[Tap]:
    """Where the server answers machines that boot from the network."""
    found = Tap(room.folder, room.plug, f"ns{os.getpid() % 100_000}", "10.44.21.2/23")
    yield found
    found.close()


@pytest.fixture(scope="module")
def client(room: Room, tap: Tap, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Client]:
    folder = tmp_path_factory.mktemp("quorum-server")
    server = metal.serve(folder / "data", "--netboot-interface", tap.name)
    found = server.client()
    metal.add(found, room, NODES)
    found.call("PATCH", "/api/estate/machines/cedar", {"boots": "network"})
    found.upload(build.build(folder), lambda *_: None)
    yield found
    server.stop()


def etcd(node: str, path: str, body: dict[str, Any]) -> dict[str, Any]:
    """A request to a node's own interface, by curl."""
    place = f"http://{real(node)}:2379{path}"
    line = ["curl", "-sS", "--max-time", "20", "-d", json.dumps(body), place]
    done = subprocess.run(line, check=True, capture_output=True)
    return dict(json.loads(done.stdout))


def coded(text: str) -> str:
    return base64.b64encode(text.encode()).decode()


def consoles(room: Room) -> str:
    return "\n".join(
        f"{name}: {one.box.serial.read_text(errors='replace')[-1500:]}"
        for name, one in room.machines.items()
    )


def test_a_quorum_is_installed_onto_real_machines(room: Room, client: Client) -> None:
    inspect(client, *room.machines, seconds=LONG)
    view = client.call("POST", "/api/plans", {"text": PLAN})
    body = {"version": view["version"], "column": "token", "value": TOKEN}
    view = client.call("POST", "/api/plans/quay/secret", body)
    assert [f["message"] for f in view["findings"] if f["severity"] == "blocker"] == []
    started = client.call("POST", "/api/plans/quay/run")
    assert started["run"], started["plan"]["findings"]
    room.way.forward(NODES, 2379)
    done = ended(client, started["run"], LONG * 2)
    assert done["state"] == "done", (
        [(s["key"], s["message"]) for s in done["steps"] if s["state"] == "failed"],
        [p for p in done["proofs"] if not p["passed"]],
        consoles(room),
    )
    for name, firmware in (("ash", "BIOS"), ("beech", "UEFI"), ("cedar", "BIOS")):
        one = room.machines[name]
        assert f"starts by {firmware}" in one.box.serial.read_text(errors="replace")
        assert (one.machine.power, one.machine.image, one.machine.second) == ("On", "", "")
    assert "active-backup over" in room.machines["beech"].box.serial.read_text(errors="replace")
    # they agree in a network of their own, which is tagged on the ports of the first
    for one in room.machines.values():
        if one.machine.power == "On":
            assert "peers on VLAN 244 of" in one.box.serial.read_text(errors="replace")
    assert room.tagged[244] > 100
    assert set(room.tagged) == {244}
    # the store itself knows three members, and what one is told the others know
    members = etcd(NODES[0], "/v3/cluster/member/list", {})["members"]
    assert {one["name"] for one in members} == {"quay-1", "quay-2", "quay-3"}
    etcd(NODES[0], "/v3/kv/put", {"key": coded("tide"), "value": coded("high")})
    told = etcd(NODES[2], "/v3/kv/range", {"key": coded("tide")})
    assert [one["value"] for one in told["kvs"]] == [coded("high")]
    _loses_one(room, client, started["run"])
    again = _replaces_one(room, client)
    for run in (again, started["run"]):
        client.call("POST", f"/api/runs/{run}/undo", {})
        ended(client, run, LONG, states=("undone",))
    assert {one.machine.power for one in room.machines.values()} == {"Off"}
    _bears_its_mark(room.machines["ash"].box.disk(0), drive_mark("quay", "member-1"))


def _bears_its_mark(disk: Path, mark: str) -> None:
    """The system's drive says whose it is, by the label that Debian's blkid reads."""
    at = str((1 + build.BOOT_MIB) << 20)
    line = ["blkid", "-p", "-O", at, "-s", "LABEL", "-o", "value", str(disk)]
    told = subprocess.run(line, check=True, capture_output=True, text=True).stdout
    assert told.strip() == mark


def _loses_one(room: Room, client: Client, run: str) -> None:
    """A plug is pulled: the checks tell, the quorum holds. It starts again from its own drives."""
    room.pull("beech")
    client.call("POST", f"/api/runs/{run}/prove", {})
    after = client.call("GET", f"/api/runs/{run}")
    failed = {(p["node"], p["label"]) for p in after["proofs"] if not p["passed"]}
    assert ("member-2", "Machine on") in failed
    # who reads on each node gets no answer there; others may be between two leaders
    assert {node for node, _ in failed} >= {"member-2", ""}
    assert ("", "Written on one, read on all") in failed
    told = etcd(NODES[2], "/v3/kv/range", {"key": coded("tide")})
    assert [one["value"] for one in told["kvs"]] == [coded("high")]
    client.call("POST", "/api/estate/machines/beech/power", {"kind": "On", "confirmed": "beech"})

    doubts: list[str] = []

    def whole() -> bool:
        client.call("POST", f"/api/runs/{run}/prove", {})
        proofs = client.call("GET", f"/api/runs/{run}")["proofs"]
        doubts[:] = [f"{p['node']} {p['label']}: {p['found']}" for p in proofs if not p["passed"]]
        return not doubts

    try:
        wait_for(whole, LONG, "the third member")
    except AssertionError as error:
        raise AssertionError(f"{error}: {doubts}") from None


def _replaces_one(room: Room, client: Client) -> str:
    """A machine dies with its controller: the spare takes its place under its name and address, the
    others let it in, and what they keep is copied to it.
    """
    dead, spare = room.machines["ash"], room.machines["elm"]
    room.die("ash")
    room.way.end(NODES[0], 2379)
    before = {one["ID"] for one in etcd(NODES[1], "/v3/cluster/member/list", {})["members"]}
    view = client.call("GET", "/api/plans/quay")
    edits = [{"path": ["nodes", "member-1", "host"], "value": "elm"}]
    client.call("PATCH", "/api/plans/quay", {"version": view["version"], "edits": edits})
    started = client.call("POST", "/api/plans/quay/run", {"lost": ["ash"]})
    assert started["run"], started["plan"]["findings"]
    room.way.forward(NODES[:1], 2379)
    done = ended(client, started["run"], LONG * 2)
    assert done["state"] == "done", (
        [(s["key"], s["message"]) for s in done["steps"] if s["state"] == "failed"],
        [p for p in done["proofs"] if not p["passed"]],
        spare.box.serial.read_text(errors="replace")[-3000:],
    )
    assert "expected by a cluster" in spare.box.serial.read_text(errors="replace")
    members = etcd(NODES[1], "/v3/cluster/member/list", {})["members"]
    assert {one["name"] for one in members} == {"quay-1", "quay-2", "quay-3"}
    # one left, one came
    assert len({one["ID"] for one in members} - before) == 1
    told = etcd(NODES[0], "/v3/kv/range", {"key": coded("tide")})
    assert [one["value"] for one in told["kvs"]] == [coded("high")]
    assert (spare.machine.power, dead.machine.power) == ("On", "Off")
    room.revive("ash")
    return str(started["run"])


def test_the_iso_is_bootable_by_both_kinds_of_firmware(tmp_path: Path) -> None:
    """As Debian's own tool tells."""
    iso = build.build(tmp_path)
    told = subprocess.run(
        ["xorriso", "-indev", str(iso), "-report_el_torito", "plain"],
        check=True,
        capture_output=True,
        text=True,
    ).stdout
    assert "BIOS" in told
    assert "UEFI" in told
