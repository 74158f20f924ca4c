"""VMs from an installer ISO and from a kernel with its ramdisk: rolled out, tried again, gone."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest

from nimble_stone.cli.client import Client
from nimble_stone.lab.scenario import demo, keelson
from tests.support import vm_kits
from tests.support.processes import (
    LabProcess,
    ServerProcess,
    ended,
    lab_and_server,
    prepare,
    ready_plan,
    small_package,
    wait_for,
)

SECRET = "Mud & <flats> \"1893\": 'x' # \\ %"
PLAN = """nimble-stone: plan/1
name: {name}
kit: {kit}
package: KEELSON 2.1.0
bay: kelda-main
values: {{pool: kelda-survey}}
"""


@dataclass
class Scene:
    lab: LabProcess
    server: ServerProcess
    client: Client

    def planned(self, name: str, kit: str) -> None:
        """A plan of two installed servers."""
        text = PLAN.format(name=name, kit=kit)
        plan = self.client.call("POST", "/api/plans", {"text": text})
        body = {"version": plan["version"], "column": "root_password", "value": SECRET}
        plan = self.client.call("POST", f"/api/plans/{name}/secret", body)
        assert [f["message"] for f in plan["findings"] if f["severity"] == "blocker"] == []

    def run(self, name: str) -> str:
        started = self.client.call("POST", f"/api/plans/{name}/run")
        assert started["run"], started["plan"]["findings"]
        return str(started["run"])

    def ours(self) -> list[str]:
        """Volumes of runs on all hosts."""
        hosts = self.lab.show()["hosts"].values()
        return sorted(name for host in hosts for name in host["volumes"] if name.startswith("ns-"))


@pytest.fixture(scope="module")
def scene(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Scene]:
    folder = tmp_path_factory.mktemp("vm-packages")
    with lab_and_server(folder, reachable=True) as (lab, server, client):
        kits = server.data / "kits"
        kits.mkdir(exist_ok=True)
        (kits / "pilot.yaml").write_text(vm_kits.installed())
        (kits / "labelled.yaml").write_text(vm_kits.installed("labelled", label="KEELSON"))
        (kits / "silent.yaml").write_text(vm_kits.installed("silent", ends="off"))
        (kits / "gauge-kernel.yaml").write_text(vm_kits.kernel())
        prepare(client, lab, small_package(folder), plan=demo.PLAN)
        iso = folder / "keelson-2.1.0.iso"
        iso.write_bytes(keelson.iso(mib=1))
        client.upload(iso, lambda *_: None)
        yield Scene(lab, server, client)


@pytest.mark.parametrize("kit", ["pilot", "labelled", "silent"])
def test_an_installer_sets_vms_up_and_its_media_go(scene: Scene, kit: str) -> None:
    """Answers in a copy of the ISO, on a second medium, and an installer that switches off."""
    scene.planned(kit, kit)
    run = scene.run(kit)
    done = ended(scene.client, run)
    assert done["state"] == "done", (
        [(s["key"], s["message"]) for s in done["steps"] if s["state"] == "failed"],
        [p for p in done["proofs"] if not p["passed"]],
    )
    assert [name for name in scene.ours() if name.endswith("-answers")] == []
    shared = [name for name in scene.ours() if name.endswith("-installer")]
    assert bool(shared) == (kit == "labelled")
    # what an installer was told is forgotten when it is done
    assert run not in str(scene.client.call("GET", "/api/keyring"))
    scene.client.call("POST", f"/api/runs/{run}/undo", {})
    ended(scene.client, run, states=("undone",))
    assert [name for name in scene.ours() if run in name] == []


def failed(client: Client, run: str, key: str) -> str:
    """The message of a step, once it has failed."""

    def found() -> str:
        steps = client.call("GET", f"/api/runs/{run}")["steps"]
        step = next(step for step in steps if step["key"] == key)
        return str(step["message"]) if step["state"] == "failed" else ""

    return str(wait_for(found, 60, f"{key} to fail"))


def test_an_installer_that_fails_begins_anew_on_a_blank_disk(scene: Scene) -> None:
    scene.planned("again", "pilot")
    lab, client = scene.lab, scene.client
    lab.turn("all", guests={"again-1": "fails"})
    run = scene.run("again")
    assert "drive vda cannot be written" in failed(client, run, "install-vm/server-1")
    lab.turn("all", guests={"again-1": ""})
    client.call("POST", f"/api/runs/{run}/retry", {"steps": ["install-vm/server-1"]})
    done = ended(client, run)
    assert done["state"] == "done", [s["message"] for s in done["steps"] if s["message"]]
    client.call("POST", f"/api/runs/{run}/undo", {})
    ended(client, run, states=("undone",))


def test_vms_start_from_a_kernel_and_its_ramdisk(scene: Scene, tmp_path: Path) -> None:
    client = scene.client
    added = scene.server.cli("package", "add", *map(str, vm_kits.boot_files(tmp_path)), "--json")
    sha256 = added.stdout and _sha256(client)
    scene.server.cli("package", "label", sha256, "--product", "gauge-kernel", "--version", "4.2.0")
    shown = client.call("GET", f"/api/packages/{sha256}")
    assert shown["unusable"] == ""
    assert shown["kits"] == ["Gauge Kernel"]
    text = (
        "nimble-stone: plan/1\nname: swift\nkit: gauge-kernel\npackage: gauge-kernel 4.2.0\n"
        "bay: kelda-main\nvalues:\n  {pool: kelda-survey, station: west, datastore: kelda-shared}\n"
    )
    view = ready_plan(client, text)
    assert [f["message"] for f in view["findings"] if f["severity"] == "blocker"] == []
    run = scene.run("swift")
    done = ended(client, run)
    assert done["state"] == "done", (
        [(s["key"], s["message"]) for s in done["steps"] if s["state"] == "failed"],
        [p for p in done["proofs"] if not p["passed"]],
    )
    assert any(name.endswith("-kernel") for name in scene.ours())
    assert any(name.endswith("-ramdisk") for name in scene.ours())
    # a node more has boot files of its own, and takes no others with it
    before = scene.ours()
    version = client.call("GET", "/api/plans/swift")["version"]
    edits = [{"path": ["roles", "archive", "count"], "value": 3}]
    client.call("PATCH", "/api/plans/swift", {"version": version, "edits": edits})
    grown = scene.run("swift")
    assert ended(client, grown)["state"] == "done"
    assert any(name.startswith(f"ns-{grown}-") and "kernel" in name for name in scene.ours())
    client.call("POST", f"/api/runs/{grown}/undo", {})
    ended(client, grown, states=("undone",))
    assert scene.ours() == before
    client.call("POST", f"/api/runs/{run}/undo", {})
    ended(client, run, states=("undone",))
    assert [name for name in scene.ours() if run in name] == []


def _sha256(client: Client) -> Any:
    found = client.call("GET", "/api/packages")
    return next(one["sha256"] for one in found if one["kind"] == "kernel")
