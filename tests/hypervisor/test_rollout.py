"""Three nodes of a real appliance on two real hypervisor hosts, through the product's own
interface: rolled out, proved, taken back.
"""

from __future__ import annotations

import json
import re
import subprocess
import sys
from collections.abc import Iterator
from importlib.resources import files
from pathlib import Path
from typing import Any

import pytest

from nimble_stone.cli.client import Client
from nimble_stone.lab import name_server
from tests.hypervisor import cloud_image, hosts, packages
from tests.support import gauge_set
from tests.support.named import Named, dig
from tests.support.processes import PASSWORD, ServerProcess, ended, ready_plan, wait_for

pytestmark = pytest.mark.timeout(1800)
OTHER_PASSWORD = "Fjord-7 Ebbe & 'stille'"
CLOUD_PASSWORD = "Tide & 'mud' $(1893) # and more"


WORKLOAD = """\
  - {id: names, label: Names both ways, kind: names}
  - {id: by-hosts, label: Reached by hosts, kind: reach, of: cluster, ports: [8080], source: hosts}
  - {id: from-bay, label: From bay, kind: reach, of: cluster, size: 1400, source: kelda-real}
  - id: kept
    label: A file is kept as it is
    kind: workload
    of: cluster
    workload:
      - label: put and read
        on: each
        call:
          put: [{path: "/tmp/ns {once}", text: "of {name}'s {once}", mode: "0640"}]
          ssh: |
            file=/tmp/ns\\ {once}
            [ -f "${file}" ] && cat "${file}"
          prints: answer
        value: "text:"
        equals: "of {name}'s {once}"
    cleanup:
      - {label: remove, on: each, call: {ssh: 'rm /tmp/ns\\ {once}'}}
"""


def _kit() -> str:
    """A set of two systems; archive nodes may be resized, while all members are there."""
    text = gauge_set.kit().replace("healthy: [members, one-lead]", "healthy: [members, mesh-ports]")
    role = text.index("  - id: archive")
    apart = text.index("    apart: true\n", role)
    cut = "    vm: {stop_s: 4, cut: true}\n"
    return f"{text[:apart]}{cut}{text[apart:]}{WORKLOAD}"


def _kits(client: Client) -> set[str]:
    return {kit["id"] for kit in client.call("GET", "/api/kits/shelf")["kits"]}


def _virsh(folder: Path, host: str, *words: str) -> str:
    """Ask a host without the product."""
    found = subprocess.run(
        [
            "ip",
            "netns",
            "exec",
            hosts.NETNS,
            "ssh",
            "-o",
            "StrictHostKeyChecking=no",
            "-o",
            "UserKnownHostsFile=/dev/null",
            "-i",
            str(folder / "hosts/key"),
            f"root@{hosts.NAMES[host]}",
            "virsh",
            "-q",
            *words,
        ],
        capture_output=True,
        text=True,
        timeout=60,
    )
    return found.stdout.strip()


def _known(folder: Path, server: ServerProcess) -> None:
    """Both hosts are in the estate, and read; one by an account that is not root."""
    text = hosts.ESTATE.replace("10.44.20.3, user: root", "10.44.20.3, user: oper")
    file = folder / "estate.yaml"
    if not file.exists() or file.read_text() != text:
        server.cli("secret", "set", "host-key", "--key", stdin=(folder / "hosts/key").read_text())
        file.write_text(text)
        server.cli("estate", "load", str(file))
        server.cli("estate", "refresh")


@pytest.fixture
def names(folder: Path, server: ServerProcess) -> Iterator[Named]:
    """Debian's name server in the hosts' network, and the network that uses it."""
    prefix = ("ip", "netns", "exec", hosts.NETNS)
    found = Named(folder / "named", hosts.GATEWAY, 53, prefix)
    _known(folder, server)
    client = server.client()
    client.call("PUT", "/api/secrets/names/holm", {"value": name_server.SECRET})
    known = next(one for one in client.call("GET", "/api/estate")["networks"])
    more = {"name_server": hosts.GATEWAY, "name_key": name_server.KEY}
    network = {key: str(value) for key, value in known.items() if value not in (None, "", [])}
    network |= {"dns": " ".join(known["dns"]), "name_credential": "names/holm"}
    client.call("PUT", "/api/networks", network | more)
    yield found
    found.close()


def _address(view: dict[str, Any], node: str) -> str:
    cells = next(one["cells"] for one in view["nodes"] if one["id"] == node)
    return str(cells["address"]["value"])


def _a_foreign_machine_is_found(client: Client, view: dict[str, Any]) -> None:
    """Somebody has a planned address: it is found before anything begins."""
    address = _address(view, "archive-1")
    place = [f"{address}/24", "dev", "hv0"]
    subprocess.run(["ip", "-n", hosts.NETNS, "addr", "add", *place], check=True)
    found = client.call("POST", "/api/plans/real/run")
    subprocess.run(["ip", "-n", hosts.NETNS, "addr", "del", *place], check=True)
    assert found["run"] == ""
    said = {one["code"]: one["message"] for one in found["plan"]["findings"]}
    assert address in said["address-answers"]


def _what_stands_changes(folder: Path, client: Client, done: dict[str, Any]) -> None:
    """Somebody stops a VM: it is found and put back."""
    node = next(one for one in done["nodes"] if one["id"] == "archive-2")
    name = node["name"]
    _virsh(folder, node["host"], "destroy", name)
    _virsh(folder, node["host"], "autostart", name, "--disable")
    found = client.call("POST", "/api/deployments/real/read", {})
    told = {one["check"]: one["now"] for one in found["drift"] if one["node"] == "archive-2"}
    assert told["running"].startswith("shut off")
    assert told["autostart"] == "does not start with its host"
    _changed(client, {"repair": ["archive-2"]})
    assert _virsh(folder, node["host"], "domstate", name) == "running"
    assert client.call("POST", "/api/deployments/real/read", {})["drift"] == []
    _a_node_is_resized(folder, client)


def _a_node_is_resized(folder: Path, client: Client) -> None:
    """Its system does not hear the power button: the kit lets its power be cut. With the same
    restart it gets another password; then all are told their station group.
    """
    view = client.call("GET", "/api/plans/real")
    node = next(one for one in view["nodes"] if one["id"] == "archive-1")
    before = _virsh(folder, node["host"], "dominfo", node["name"])
    edits = [
        {"path": ["nodes", "archive-1", "size"], "value": "medium"},
        {"path": ["values", "station"], "value": "skerries"},
        {"path": ["nodes", "archive-1", "disk.readings.count"], "value": 1},
        {"path": ["nodes", "archive-1", "disk.readings"], "value": 32},
    ]
    client.call("PATCH", "/api/plans/real", {"version": view["version"], "edits": edits})
    secret = {"column": "admin_password", "node": "archive-1", "value": OTHER_PASSWORD}
    secret["version"] = client.call("GET", "/api/plans/real")["version"]
    client.call("POST", "/api/plans/real/secret", secret)
    [wanted] = client.call("GET", "/api/plans/real/changes")["resizes"]
    done = _changed(client, {})
    keys = [step["key"] for step in done["steps"]]
    assert keys[:2] == ["reconfigure/archive-1", "resize/archive-1"]
    assert _drives(_address(done, "archive-1")) == ["sr0", "vda", "vdb"]
    assert keys.count("start/archive-1") == 1
    assert keys[-2].startswith("change/station/")
    assert keys[-1] == "grow/archive-1"
    for ident in ("lead-1", "archive-1", "archive-2"):
        password = OTHER_PASSWORD if ident == "archive-1" else PASSWORD
        assert _settings(_address(done, ident), password)["station"] == "skerries"
    assert _settings(_address(done, "archive-1"), PASSWORD) == {}
    after = _virsh(folder, node["host"], "dominfo", node["name"])
    for label, was, now in (
        ("CPU(s):", wanted["was_vcpu"], wanted["now_vcpu"]),
        ("Max memory:", wanted["was_memory"] >> 10, wanted["now_memory"] >> 10),
    ):
        assert re.search(rf"{re.escape(label)} +{was}\b", before), before
        assert re.search(rf"{re.escape(label)} +{now}\b", after), after
    assert client.call("POST", "/api/deployments/real/read", {})["drift"] == []


def _drives(address: str) -> list[str]:
    """Drives that the system of a node sees, by its own word."""
    url = f"http://{address}:8080/cgi-bin/drives"
    line = ["ip", "netns", "exec", hosts.NETNS, "curl", "-sS", "--max-time", "20", url]
    found = subprocess.run(line, check=True, capture_output=True, text=True)
    return sorted(json.loads(found.stdout)["drives"].split())


def _settings(address: str, password: str) -> dict[str, str]:
    """What a node says of its settings, asked without the product; {} where it refuses."""
    url = f"http://{address}:8080/cgi-bin/settings"
    line = ["ip", "netns", "exec", hosts.NETNS, "curl", "-sS", "--max-time", "20"]
    line += ["-u", f"admin:{password}", "-w", "%{stderr}%{http_code}", url]
    found = subprocess.run(line, check=True, capture_output=True, text=True)
    return dict(json.loads(found.stdout)) if found.stderr.endswith("200") else {}


def _changed(client: Client, wanted: dict[str, Any]) -> dict[str, Any]:
    started = client.call("POST", "/api/plans/real/run", wanted)
    assert started["run"], started["plan"]["findings"]
    done = ended(client, started["run"], 300)
    assert done["state"] == "done", (
        [(s["key"], s["message"]) for s in done["steps"] if s["state"] == "failed"],
        [(p["node"], p["label"], p["found"]) for p in done["proofs"] if not p["passed"]],
    )
    return done


def test_three_nodes_are_rolled_out_proved_and_taken_back_on_a_real_hypervisor(
    folder: Path, estate: list[hosts.RealHost], server: ServerProcess, names: Named
) -> None:
    """A package of two systems, with name records in a real zone."""
    client = server.client()
    facts = {host["name"]: host for host in client.call("GET", "/api/estate")["hosts"]}
    assert facts["gannet"]["networks"] == ["survey"]
    assert facts["gannet"]["memory_bytes"] > 1 << 30
    assert facts["gannet"]["domain_type"] in ("kvm", "qemu")

    (server.data / "kits").mkdir(exist_ok=True)
    (server.data / "kits/gauge-set.yaml").write_text(_kit())
    server.cli("package", "add", str(packages.the_set(folder / "build")))
    wait_for(lambda: "gauge-set" in _kits(client), 20, "the kit")
    text = hosts.PLAN.replace("kit: gauge-collector", "kit: gauge-set")
    text = text.replace("Gauge Collector 4.2.0", f"{gauge_set.PRODUCT} 4.2.0")
    view = ready_plan(client, text.replace("values:\n", "values:\n  records: create\n"))
    assert not [finding for finding in view["findings"] if finding["severity"] == "blocker"], view[
        "findings"
    ]
    # not ours: must stay
    _virsh(
        folder,
        "gannet",
        "pool-define-as",
        "others",
        "dir",
        "--target",
        "/var/lib/libvirt/images/others",
    )

    _a_foreign_machine_is_found(client, view)
    run = client.call("POST", "/api/plans/real/run")
    assert run["run"], run["plan"]["findings"]
    done = ended(client, run["run"], 600)
    failed = [
        f"{proof['node']} {proof['label']}: {proof['found']}"
        for proof in done["proofs"]
        if not proof["passed"]
    ]
    assert done["state"] == "done", (
        failed,
        [(s["key"], s["message"]) for s in done["steps"] if s["state"] == "failed"],
    )
    assert len(done["proofs"]) == 52
    by_check = {proof["proof"]: proof["found"] for proof in done["proofs"]}
    assert by_check["mesh-ports"] == "6 of 6 pairs"
    assert by_check["by-hosts"] == by_check["from-bay"] == "3 of 3 pairs"
    assert by_check["kept"].startswith("put and read by 3 nodes ")
    console = client.call("GET", f"/api/runs/{run['run']}/console?node=lead-1")
    assert "gauge: services are up" in console["text"]
    assert PASSWORD not in console["text"]

    # The world agrees, asked without the product: each guest on its host, marked, with its planned
    # memory.
    for node in done["nodes"]:
        assert _virsh(folder, node["host"], "domstate", node["name"]) == "running"
        assert run["run"] in _virsh(
            folder, node["host"], "metadata", node["name"], "urn:nimble-stone:mark:1"
        )

        assert dig(names, f"{node['name']}.kelda.holm.example", "A") == [_address(view, node["id"])]

    # The first host loses power, the checks say so; it comes back and they pass again.
    lead = next(node for node in done["nodes"] if node["id"] == "lead-1")
    host = next(one for one in estate if one.name == lead["host"])
    host.power_off()
    worse = client.call("POST", f"/api/runs/{run['run']}/prove", {})
    assert worse["state"] == "unproved"
    # its nodes start with it
    host.power_on()

    doubts: list[str] = []

    def again() -> bool:
        proofs = client.call("POST", f"/api/runs/{run['run']}/prove", {})["proofs"]
        doubts[:] = [
            f"{proof['node']} {proof['label']}: {proof['found']}"
            for proof in proofs
            if not proof["passed"]
        ]
        return not doubts

    try:
        wait_for(again, 150, "the proofs after the power failure")
    except AssertionError as error:
        raise AssertionError(f"{error}: {doubts}") from None

    _what_stands_changes(folder, client, done)
    for number, one in enumerate(client.call("GET", "/api/runs?plan=real")):
        client.call("POST", f"/api/runs/{one['id']}/undo", {})
        assert ended(client, one["id"], 120, states=("undone",))["state"] == "undone"
        if number == 0:
            # its system let the disk go
            assert _drives(_address(view, "archive-1")) == ["sr0", "vda"]
    for node in done["nodes"]:
        assert dig(names, f"{node['name']}.kelda.holm.example", "A") == []
    for name in hosts.NAMES:
        assert _virsh(folder, name, "list", "--all", "--name") == ""
        assert "ns-" not in _virsh(folder, name, "vol-list", f"{name}-local")
    assert "others" in _virsh(folder, "gannet", "pool-list", "--all", "--name")
    _virsh(folder, "gannet", "pool-undefine", "others")


def test_a_real_host_keeps_the_contract_of_the_stand_in(
    folder: Path, server: ServerProcess
) -> None:
    """The very contract of tests/contract, in a process inside the hosts' network namespace."""
    found = subprocess.run(
        [
            "ip",
            "netns",
            "exec",
            hosts.NETNS,
            sys.executable,
            "-m",
            "tests.contract.alone",
            "fulmar",
            hosts.NAMES["fulmar"],
            str(folder / "hosts/key"),
        ],
        capture_output=True,
        text=True,
        timeout=200,
        cwd=Path(__file__).parents[2],
    )
    assert found.returncode == 0, found.stdout + found.stderr[-3000:]


def test_a_guest_that_is_not_ours_blocks_its_name_and_stays(
    folder: Path, server: ServerProcess
) -> None:
    xml = folder / "foreign.xml"
    xml.write_text(
        "<domain type='qemu'><name>real-lead</name><memory"
        " unit='MiB'>16</memory><vcpu>1</vcpu><os><type arch='x86_64'>hvm</type></os></domain>"
    )
    _virsh(folder, "gannet", "define", str(xml))
    found = server.client().call("POST", "/api/plans/real/run")
    assert found["run"] == ""
    assert "guest-unmarked" in {finding["code"] for finding in found["plan"]["findings"]}
    assert _virsh(folder, "gannet", "list", "--all", "--name") == "real-lead"
    _virsh(folder, "gannet", "undefine", "real-lead")


CLOUD_PLAN = """nimble-stone: plan/1
name: servers
kit: shoal
bay: kelda-real
package: shoal 12
values: {pool: kelda-survey, size: tiny, greeting: 'Tide & "mud": $(1893) # \\'}
nodes: {server-1: {host: fulmar}}
"""


@pytest.mark.long
def test_a_plain_image_of_debian_sets_itself_up_by_its_own_cloud_init(
    folder: Path, server: ServerProcess
) -> None:
    """A real qcow2 without any knowledge of this product: name, address, user and files come by
    NoCloud; the host key by the console; the end by cloud-init's own word. All by an account that
    is not root.
    """
    client = server.client()
    _known(folder, server)
    kit = (files("nimble_stone.kits") / "shoal.yaml").read_text()
    tiny = "      sizes:\n        - {id: tiny, vcpu: 2, memory_mib: 512}\n"
    kit = kit.replace("      sizes:\n", tiny).replace("disk_gib: 10", "disk_gib: 2")
    (server.data / "kits").mkdir(exist_ok=True)
    (server.data / "kits/shoal.yaml").write_text(kit)
    added = server.cli("package", "add", str(cloud_image.image()), "--json")
    sha256 = json.loads(added.stdout)["sha256"]
    server.cli("package", "label", sha256, "--product", "shoal", "--version", "12")
    plan = client.call("POST", "/api/plans", {"text": CLOUD_PLAN})
    body = {"version": plan["version"], "column": "password", "value": CLOUD_PASSWORD}
    plan = client.call("POST", "/api/plans/servers/secret", body)
    assert [f["message"] for f in plan["findings"] if f["severity"] == "blocker"] == []
    run = client.call("POST", "/api/plans/servers/run")["run"]
    done = ended(client, run, 700)
    console = client.call("GET", f"/api/runs/{run}/console?node=server-1")["text"]
    assert done["state"] == "done", (
        [(s["key"], s["message"]) for s in done["steps"] if s["state"] == "failed"],
        [p for p in done["proofs"] if not p["passed"]],
        console[-3000:],
    )
    assert CLOUD_PASSWORD not in console
    # the world agrees: the system's own word, over a connection that trusts the console's key only
    key = client.call("GET", f"/api/runs/{run}")
    assert {p["label"] for p in key["proofs"]} >= {"Name", "Address", "Clock", "Gateway reachable"}
    _changed_by_hand(folder, client, run)
    client.call("POST", f"/api/runs/{run}/undo", {})
    assert ended(client, run, 120, states=("undone",))["state"] == "undone"
    assert _virsh(folder, "fulmar", "list", "--all", "--name") == ""
    assert "console" not in _virsh(folder, "fulmar", "vol-list", "fulmar-local")


def _changed_by_hand(folder: Path, client: Client, run: str) -> None:
    """What someone changes by the hypervisor's own commands is named rightly."""
    name = "servers-1"
    expected: dict[str, str] = {}
    nic = _virsh(folder, "fulmar", "domiflist", name).split()[0]
    for line, label, wanted in (
        (f"autostart --disable {name}", "Starts with its host", "does not start with its host"),
        (f"setvcpus {name} 1 --config", "vCPU, memory, disks", "1 vCPU, 512 MiB, 1 disk from"),
        (f"domif-setlink {name} {nic} down", "Networks", "survey (link down)"),
        (f"suspend {name}", "VM running", "paused (user)"),
    ):
        _virsh(folder, "fulmar", *line.split())
        expected[label] = wanted
    proofs = client.call("POST", f"/api/runs/{run}/prove", {})["proofs"]
    told = {p["label"]: p["found"] for p in proofs if not p["passed"]}
    for label, wanted in expected.items():
        assert wanted in told.get(label, ""), told
