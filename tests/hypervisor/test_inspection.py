"""Real machines are looked into: QEMU with BIOS and with UEFI behind Redfish controllers, booted
from the image that `make inspection-image` makes.
"""

from __future__ import annotations

import json
import subprocess
import tarfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from nimble_stone.cli.client import Client
from tests.hosts.controllers import free_port
from tests.hypervisor import appliance, metal
from tests.hypervisor.machines import DISK_MIB, NODES, Room, plan, real
from tests.support.processes import ended, ready_plan, wait_for

PLAN = (
    metal.PLAN
    + "roles: {archive: {count: 1}}\nnodes: {lead-1: {host: chalk}, archive-1: {host: marl}}\n"
)
pytestmark = pytest.mark.timeout(1800)
LEADING = 300.0
"""The longest that emulated machines may take, beside others, seconds."""


@pytest.fixture(scope="module")
def room(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Room]:
    folder = tmp_path_factory.mktemp("metal")
    plans = [plan("schist", "bios", 141), plan("shale", "uefi", 142)]
    plans += [plan(name, "bios", last) for name, last in (("chalk", 143), ("marl", 144))]
    found = Room(folder / "machines", plans, [free_port() for _ in plans])
    yield found
    found.close()


@pytest.fixture(scope="module")
def client(room: Room, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Client]:
    server = metal.serve(tmp_path_factory.mktemp("metal-server") / "data")
    found = server.client()
    metal.add(found, room)
    yield found
    server.stop()


@pytest.fixture(scope="module")
def package(client: Client, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The appliance, imported."""
    found = appliance.build(tmp_path_factory.mktemp("appliance"))
    client.upload(found, lambda *_: None)
    return found


def facts(client: Client, name: str) -> dict[str, Any]:
    views = client.call("GET", "/api/estate/machines")
    return next(dict(one["facts"]) for one in views if one["machine"]["name"] == name)


def now_of(client: Client, name: str, serial: str) -> dict[str, Any]:
    """A drive as the last inspection saw it, to be confirmed."""
    disks = facts(client, name)["inside"]["disks"]
    found = next(disk for disk in disks if disk["serial"] == serial)
    return {key: found[key] for key in ("serial", "size_bytes", "holds")}


def carry_out(
    room: Room,
    client: Client,
    actions: list[dict[str, Any]],
    wanted: str = "done",
    steps: int = 4,
) -> dict[str, Any]:
    """A run with these actions, until it is so or stops."""
    work = {"actions": actions}
    seen = client.call("POST", "/api/estate/groundwork/preview", work)
    assert [step["refusals"] for step in seen["steps"]] == [[]] * (steps * len(actions))
    run = client.call("POST", "/api/estate/groundwork", {"run": seen["run"], "work": work})["id"]

    def over() -> dict[str, Any] | None:
        found = dict(client.call("GET", f"/api/groundwork/{run}"))
        return found if found["state"] in ("done", "trouble") else None

    found: dict[str, Any] = wait_for(over, LEADING, "the run")
    consoles = "\n".join(
        one.box.serial.read_text(errors="replace") for one in room.machines.values()
    )
    assert found["state"] == wanted, f"{found}\n{consoles[-3000:]}"
    return found


def test_real_machines_are_looked_into(room: Room, client: Client) -> None:
    # somebody's archive is on one of the drives
    old = room.machines["schist"].box.disk(1)
    subprocess.run(["mke2fs", "-q", "-t", "ext4", "-L", "old-archive", str(old)], check=True)
    carry_out(room, client, [{"kind": "inspect", "host": name} for name in room.machines])
    for name, firmware in (("schist", "bios"), ("shale", "uefi")):
        one, inside = room.machines[name], facts(client, name)["inside"]
        assert inside["firmware"] == firmware
        assert (inside["serial"], inside["uuid"]) == (one.machine.serial, one.machine.uuid)
        assert inside["threads"] == 2
        assert inside["memory_bytes"] > 300 << 20
        assert "lm" in inside["flags"]
        assert [(nic["mac"], nic["link"]) for nic in inside["nics"]] == [
            (one.machine.plan.mac(1), True)
        ]
        # as systemd would name it, not the kernel's order
        assert inside["nics"][0]["name"].startswith("en")
        disks = {disk["serial"]: disk for disk in inside["disks"]}
        assert set(disks) == {f"{one.machine.serial}D{number}" for number in (0, 1)}
        assert {disk["size_bytes"] for disk in disks.values()} == {DISK_MIB << 20}
        held = [sign["kind"] for sign in disks[f"{one.machine.serial}D1"]["holds"]]
        assert held == (["ext4"] if name == "schist" else [])
        # off, and nothing of ours is left in the controller
        assert (one.machine.power, one.machine.image) == ("Off", "")
        assert one.box.process is None or one.box.process.poll() == 0


def test_one_drive_of_a_real_machine_is_wiped_and_the_other_is_not(
    room: Room, client: Client
) -> None:
    box = room.machines["schist"].box
    serial = room.machines["schist"].machine.serial
    # the other drive holds something as well: it is not asked for
    subprocess.run(["mke2fs", "-q", "-t", "ext4", str(box.disk(0))], check=True)
    before = box.disk(0).read_bytes()
    drive = now_of(client, "schist", f"{serial}D1")
    action = {
        "kind": "wipe-drives",
        "host": "schist",
        "drives": [drive],
        "confirmed": "schist 1 drive",
    }
    # meanwhile somebody put another system there: what was confirmed is not what would be lost
    subprocess.run(["mkswap", "-q", str(box.disk(1))], check=True)
    subprocess.run(["wipefs", "-q", "-a", "-t", "ext4", str(box.disk(1))], check=True)
    held = box.disk(1).read_bytes()
    stopped = carry_out(room, client, [action], "trouble")
    step = next(one for one in stopped["steps"] if one["state"] == "failed")
    assert "holds swap, which was not confirmed" in step["message"]
    assert box.disk(1).read_bytes() == held
    client.call("POST", f"/api/groundwork/{stopped['id']}/undo", {})
    wait_for(
        lambda: client.call("GET", f"/api/groundwork/{stopped['id']}")["state"] == "undone",
        LEADING,
        "its rollback",
    )
    assert room.machines["schist"].machine.power == "Off"
    # what it holds now is confirmed, and wiped, also where the kernel calls it otherwise now
    action["drives"] = [now_of(client, "schist", drive["serial"])]
    box.swapped = True
    carry_out(room, client, [action])
    names = {one["serial"]: one["device"] for one in facts(client, "schist")["inside"]["disks"]}
    assert names == {f"{serial}D1": "vda", f"{serial}D0": "vdb"}
    box.swapped = False
    said = subprocess.run(["wipefs", "-J", str(box.disk(1))], capture_output=True, check=True)
    assert b"swap" not in said.stdout
    assert box.disk(0).read_bytes() == before
    disks = {one["serial"]: one for one in facts(client, "schist")["inside"]["disks"]}
    assert disks[f"{serial}D1"]["holds"] == []
    assert [one["kind"] for one in disks[f"{serial}D0"]["holds"]] == ["ext4"]


def test_an_appliance_is_written_to_a_real_drive_and_boots_from_it(
    room: Room, client: Client, package: Path, tmp_path: Path
) -> None:
    one = room.machines["schist"]
    # what was there before must not shine through where the image holds nothing
    with one.box.disk(0).open("r+b") as file:
        file.seek(16 << 20)
        file.write(b"\xee" * (80 << 20))
    action = {
        "kind": "write-image",
        "host": "schist",
        "drive": now_of(client, "schist", f"{one.machine.serial}D0"),
        "package": client.call("GET", "/api/packages")[0]["sha256"],
        "confirmed": "schist 1 drive",
    }
    other = one.box.disk(1).read_bytes()
    carry_out(room, client, [action], steps=5)
    with tarfile.open(package) as ova:
        name = next(name for name in ova.getnames() if name.endswith(".vmdk"))
        ova.extract(name, tmp_path, filter="data")
    told = subprocess.run(
        ["qemu-img", "info", "--output=json", str(tmp_path / name)], check=True, capture_output=True
    )
    size = json.loads(told.stdout)["virtual-size"]
    with one.box.disk(0).open("rb") as drive:
        (tmp_path / "head.raw").write_bytes(drive.read(size))
    subprocess.run(
        [
            *("qemu-img", "compare", "-f", "raw", "-F", "vmdk"),
            *(str(tmp_path / "head.raw"), str(tmp_path / name)),
        ],
        check=True,
    )
    assert one.box.disk(1).read_bytes() == other
    assert (one.machine.power, one.machine.image) == ("Off", "")
    # by itself it starts what was written
    client.call("POST", "/api/estate/machines/schist/power", {"kind": "On", "confirmed": "schist"})

    def started() -> bool:
        return b"gauge: looking for a config medium" in one.box.serial.read_bytes()

    wait_for(started, LEADING, "the appliance")


@pytest.mark.usefixtures("package")
def test_a_cluster_is_rolled_out_onto_real_machines(room: Room, client: Client) -> None:
    """Two blank machines become a cluster: written, configured by the ISO in the virtual drive,
    started from their own drives; one loses its power, and all is taken back.
    """
    names = ("chalk", "marl")
    view = ready_plan(client, PLAN)
    assert [f["message"] for f in view["findings"] if f["severity"] == "blocker"] == []
    started = client.call("POST", "/api/plans/real/run")
    assert started["run"], started["plan"]["findings"]
    room.way.forward()
    done = ended(client, started["run"], LEADING * 2)
    consoles = "\n".join(
        room.machines[name].box.serial.read_text(errors="replace")[-2000:] for name in names
    )
    assert done["state"] == "done", (
        [(s["key"], s["message"]) for s in done["steps"] if s["state"] == "failed"],
        [p for p in done["proofs"] if not p["passed"]],
        consoles,
    )
    for name in names:
        one = room.machines[name]
        assert (one.machine.power, one.machine.image) == ("On", "")
    # the nodes say so themselves, to a client that is none of ours
    told = subprocess.run(
        ["curl", "-sS", f"http://{real(NODES[0])}:8080/cgi-bin/members"],
        check=True,
        capture_output=True,
    )
    members = {one["name"]: one["role"] for one in json.loads(told.stdout)["members"]}
    assert members == {"real-lead": "lead", "real-arc-1": "archive"}
    # somebody pulls a plug: the checks tell
    room.pull("marl")
    client.call("POST", f"/api/runs/{started['run']}/prove", {})
    after = client.call("GET", f"/api/runs/{started['run']}")
    failed = {(p["node"], p["label"]) for p in after["proofs"] if not p["passed"]}
    assert ("archive-1", "Machine on") in failed
    assert not {label for node, label in failed if node == "lead-1"}
    client.call("POST", f"/api/runs/{started['run']}/undo", {})
    ended(client, started["run"], LEADING, states=("undone",))
    for name in names:
        one = room.machines[name]
        assert (one.machine.power, one.machine.image) == ("Off", "")
        assert one.box.process is None or one.box.process.poll() is not None
