"""A quorum of etcd on real hosts lives on while it is changed: it grows, has a member resized and
one made again, shrinks, and gets another version; and a client writes all the time.
"""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest

from nimble_stone.cli.client import Client
from tests.hypervisor import hosts
from tests.hypervisor.quorum import vm
from tests.hypervisor.test_rollout import _known, _virsh
from tests.support.processes import ServerProcess, ended

# 7 min of their own: by `make hypervisor-long`
pytestmark = [pytest.mark.timeout(2400), pytest.mark.long]
PLAN = """nimble-stone: plan/1
name: bank
kit: quorum-vms
package: Quorum Appliance 1.0
bay: kelda-real
values: {pool: kelda-survey, size: small}
roles: {member: {count: 3}}
"""
TOKEN = "tide & 'mud' \"flats\" $(1893)"
LONGEST_S = 20.0
"""Of all writes: an election takes 5 to 10 s here, and a client asks a member that is gone for 4 s.
A member takes longer than this to start again.
"""
HERE = Path(__file__).parent / "quorum"


def inside(*words: str, **more: Any) -> subprocess.Popen[str]:
    """A command in the hosts' network."""
    line = ["ip", "netns", "exec", hosts.NETNS, *words]
    return subprocess.Popen(line, stdout=subprocess.PIPE, text=True, **more)


def etcd(address: str, path: str, body: str = "{}") -> dict[str, Any]:
    """etcd's own answer, asked by curl."""
    with inside(
        "curl", "-sS", "--max-time", "20", "-d", body, f"http://{address}:2379{path}"
    ) as it:
        return dict(json.loads(it.communicate()[0]))


@contextmanager
def writing(addresses: list[str], log: Path) -> Iterator[None]:
    """A client writes as long as this lasts."""
    script = [sys.executable, str(HERE / "writer.py"), *addresses]
    with log.open("w") as out:
        client = subprocess.Popen(["ip", "netns", "exec", hosts.NETNS, *script], stdout=out)
        try:
            yield
        finally:
            client.kill()
            client.wait()


def edit(client: Client, *edits: tuple[str, Any]) -> None:
    """Change the plan; a path's parts are separated by slashes."""
    version = client.call("GET", "/api/plans/bank")["version"]
    body = [{"path": path.split("/"), "value": value} for path, value in edits]
    client.call("PATCH", "/api/plans/bank", {"version": version, "edits": body})


def carried_out(client: Client, **wanted: Any) -> dict[str, Any]:
    """A run of the plan as it is, that ended well."""
    started = client.call("POST", "/api/plans/bank/run", wanted)
    assert started["run"], [f["message"] for f in started["plan"]["findings"]]
    done = ended(client, started["run"], 600)
    first = done["nodes"][0]["id"]
    assert done["state"] == "done", (
        [(s["key"], s["message"]) for s in done["steps"] if s["state"] == "failed"],
        [(p["node"], p["label"], p["found"]) for p in done["proofs"] if not p["passed"]],
        client.call("GET", f"/api/runs/{started['run']}/console?node={first}"),
    )
    return done


def addresses(client: Client) -> dict[str, str]:
    """Node → its address."""
    nodes = client.call("GET", "/api/plans/bank")["nodes"]
    return {one["id"]: one["cells"]["address"]["value"] for one in nodes}


def members(address: str) -> set[str]:
    """Names of the members, by etcd's own word."""
    told = etcd(address, "/v3/cluster/member/list", '{"linearizable": true}')
    return {one.get("name", "") for one in told["members"]}


@pytest.fixture
def client(folder: Path, server: ServerProcess) -> Client:
    """With both versions of the package, and the kit."""
    _known(folder, server)
    work = folder / "quorum"
    work.mkdir()
    initrd = vm.ramdisk_of(work)
    (server.data / "kits").mkdir(exist_ok=True)
    (server.data / "kits/quorum-vms.yaml").write_text((HERE / "vm.yaml").read_text())
    for version in ("1.0", "1.1"):
        server.cli("package", "add", str(vm.build(work, initrd, version)))
    assert server.client().call("GET", "/api/kits/faulty") == []
    return server.client()


def test_a_quorum_is_changed_while_a_client_writes(
    folder: Path, server: ServerProcess, client: Client
) -> None:
    view = client.call("POST", "/api/plans", {"text": PLAN})
    body = {"version": view["version"], "column": "token", "value": TOKEN}
    view = client.call("POST", "/api/plans/bank/secret", body)
    assert [f["message"] for f in view["findings"] if f["severity"] == "blocker"] == []
    runs = [carried_out(client)["id"]]
    at = addresses(client)
    assert members(at["member-1"]) == {"bank-1", "bank-2", "bank-3"}
    log = folder / "writes"
    with writing(list(at.values()), log):
        runs += [_grows(client, folder), _is_mended(client, folder), _shrinks(client)]
        runs.append(_gets_another_version(client))
    number, longest = log.read_text().splitlines()[-1].split()
    assert int(number) > 50
    assert float(longest) < LONGEST_S
    told = etcd(at["member-1"], "/v3/kv/range", '{"key": "dGlkZQ=="}')
    assert told["kvs"], "what was written first is there still"
    # somebody removes the VMs: rolling back deletes what is left of them, and starts nothing
    for name in hosts.NAMES:
        for guest in _virsh(folder, name, "list", "--all", "--name").split():
            _virsh(folder, name, "destroy", guest)
            _virsh(folder, name, "undefine", guest)
    for run in reversed(runs):
        client.call("POST", f"/api/runs/{run}/undo", {})
        assert ended(client, run, 300, states=("undone",))["state"] == "undone"
    for name in hosts.NAMES:
        assert _virsh(folder, name, "list", "--all", "--name") == ""
        assert "ns-" not in _virsh(folder, name, "vol-list", f"{name}-local")


def _grows(client: Client, folder: Path) -> str:
    """Two members more, and the first one gets more memory, by one run."""
    edit(client, ("roles/member/count", 5), ("nodes/member-1/size", "large"))
    done = carried_out(client)
    order = [step["key"] for step in done["steps"]]
    wanted = ["admit/expect/member-4", "start/member-4", "services/member-4", "healthy/member-4"]
    wanted += ["admit/expect/member-5", "start/member-5", "services/member-5", "resize/member-1"]
    assert [key for key in order if key in wanted] == wanted
    first = next(node for node in done["nodes"] if node["id"] == "member-1")
    assert str(384 << 10) in _virsh(folder, first["host"], "dominfo", first["name"])
    assert members(addresses(client)["member-1"]) == {f"bank-{n}" for n in range(1, 6)}
    return str(done["id"])


def _is_mended(client: Client, folder: Path) -> str:
    """Somebody deletes the disk of a member: it is made again under its old identity."""
    node = next(n for n in client.call("GET", "/api/plans/bank")["nodes"] if n["id"] == "member-4")
    host, store = node["host"], node["cells"]["datastore"]["value"]
    _virsh(folder, host, "destroy", node["name"])
    listed = _virsh(folder, host, "vol-list", store).splitlines()
    volumes = [line.split()[0] for line in listed]
    [data] = [one for one in volumes if one.endswith(f"{node['name']}-data1")]
    _virsh(folder, host, "vol-delete", data, "--pool", store)
    found = client.call("POST", "/api/deployments/bank/read", {})
    assert {one["node"] for one in found["drift"]} >= {"member-4"}
    done = carried_out(client, again=["member-4"])
    kinds = [step["kind"] for step in done["steps"]]
    assert kinds[:2] == ["leave", "retire"]
    assert members(addresses(client)["member-1"]) == {f"bank-{n}" for n in range(1, 6)}
    assert client.call("POST", "/api/deployments/bank/read", {})["drift"] == []
    return str(done["id"])


def _shrinks(client: Client) -> str:
    edit(client, ("roles/member/count", 3))
    done = carried_out(client, remove=["member-4", "member-5"])
    assert members(addresses(client)["member-1"]) == {"bank-1", "bank-2", "bank-3"}
    return str(done["id"])


def _gets_another_version(client: Client) -> str:
    edit(client, ("package", "Quorum Appliance 1.1"))
    done = carried_out(client)
    keys = [step["key"] for step in done["steps"] if step["kind"] in ("swap", "stage")]
    assert keys == [f"{kind}/member-{n}" for n in (1, 2, 3) for kind in ("swap", "healthy")]
    for node in ("member-1", "member-2", "member-3"):
        text = client.call("GET", f"/api/runs/{done['id']}/console?node={node}")["text"]
        assert "quorum: version 1.1 starts" in text
    return str(done["id"])
