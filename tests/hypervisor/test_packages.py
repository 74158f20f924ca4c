"""VMs on a real host by an account that is not root: started from a kernel and its ramdisk, with a
fencing volume that they share; and set up by an installer ISO with answers.
"""

from __future__ import annotations

import json
import subprocess
from pathlib import Path
from typing import Any

import pytest

from nimble_stone.cli.client import Client
from tests.hypervisor import appliance, hosts, packages
from tests.hypervisor.test_ground import _run as prepared
from tests.hypervisor.test_ground import _ssh, _until
from tests.hypervisor.test_rollout import _known, _virsh
from tests.support.processes import PASSWORD, ServerProcess, ended

pytestmark = pytest.mark.timeout(1800)
PLAN = """nimble-stone: plan/1
name: {name}
kit: {kit}
package: {package}
bay: kelda-real
values: {{pool: kelda-survey{more}}}
nodes: {{{nodes}}}
"""


def curl(*words: str) -> dict[str, Any]:
    """A node's own answer, asked without the product from the hosts' network."""
    line = ["ip", "netns", "exec", hosts.NETNS, "curl", "-sS", "--max-time", "20", *words]
    return dict(json.loads(subprocess.run(line, check=True, capture_output=True).stdout))


def planned(client: Client, name: str, column: str, **more: str) -> None:
    view = client.call("POST", "/api/plans", {"text": PLAN.format(name=name, **more)})
    body = {"version": view["version"], "column": column, "value": PASSWORD}
    view = client.call("POST", f"/api/plans/{name}/secret", body)
    assert [f["message"] for f in view["findings"] if f["severity"] == "blocker"] == []


def addresses(client: Client, plan: str) -> dict[str, str]:
    """Name of a node → its address."""
    nodes = [one["cells"] for one in client.call("GET", f"/api/plans/{plan}")["nodes"]]
    return {one["name"]["value"]: one["address"]["value"] for one in nodes}


def done(client: Client, run: str) -> dict[str, Any]:
    """The run, ended well."""
    found = ended(client, run, 600)
    assert found["state"] == "done", (
        [(s["key"], s["message"]) for s in found["steps"] if s["state"] == "failed"],
        [p for p in found["proofs"] if not p["passed"]],
        client.call("GET", f"/api/runs/{run}/console?node={found['nodes'][0]['id']}"),
    )
    return found


def taken(server: ServerProcess, product: str, *paths: Path) -> None:
    """Take files in as one package and name it."""
    added = server.cli("package", "add", *map(str, paths), "--json")
    sha256 = json.loads(added.stdout)["sha256"]
    server.cli("package", "label", sha256, "--product", product, "--version", "4.2.0")


@pytest.fixture
def client(folder: Path, server: ServerProcess) -> Client:
    """With both packages and their kits."""
    _known(folder, server)
    work = folder / "more"
    appliance.build(work)
    (server.data / "kits").mkdir(exist_ok=True)
    (server.data / "kits/gauge-kernel.yaml").write_text(packages.kernel_kit())
    (server.data / "kits/gauge-installed.yaml").write_text(packages.installer_kit())
    taken(server, "gauge-kernel", *packages.kernel_and_ramdisk(work))
    taken(server, "GAUGE", packages.installer_iso(work))
    assert server.client().call("GET", "/api/kits/faulty") == []
    return server.client()


def test_an_account_that_is_not_root_is_told_what_it_lacks_and_gets_it(
    folder: Path, server: ServerProcess
) -> None:
    """Name records on the host: sudo allows nothing, then exactly what was shown."""
    _known(folder, server)
    client = server.client()
    record = {"address": "10.44.99.7", "names": ["weir.holm.example"]}
    action = {"kind": "names", "host": "fulmar", "records": [record]}
    seen = client.call("POST", "/api/estate/groundwork/preview", {"actions": [action]})
    [step] = seen["steps"]
    assert "oper may not run as root: tee -a /etc/hosts" in step["refusals"][0]
    lines = "\n".join(step["rules"])
    _ssh(folder, "fulmar", f"umask 227; cat > /etc/sudoers.d/nimble-stone <<'X'\n{lines}\nX")
    run = prepared(client, action)
    assert "weir.holm.example" in _ssh(folder, "fulmar", "cat /etc/hosts")
    client.call("POST", f"/api/groundwork/{run}/undo", {})
    _until(client, run, "undone")
    assert "weir.holm.example" not in _ssh(folder, "fulmar", "cat /etc/hosts")
    # another file is not allowed
    told = _ssh(folder, "fulmar", "su oper -c 'sudo -n tee -a /etc/passwd </dev/null' 2>&1; true")
    assert "password is required" in told


def test_a_kernel_and_an_installer_become_vms_side_by_side(folder: Path, client: Client) -> None:
    fence = {"kind": "fencing-volume", "host": "fulmar", "datastore": "fulmar-local"}
    ground = prepared(client, {**fence, "name": "reef"})
    planned(
        client,
        "swift",
        "admin_password",
        kit="gauge-kernel",
        package="gauge-kernel 4.2.0",
        more=", station: west, fence: fulmar-local/reef",
        nodes="lead-1: {host: fulmar}, lead-2: {host: fulmar}",
    )
    planned(
        client,
        "pilot",
        "root_password",
        kit="gauge-installed",
        package="GAUGE 4.2.0",
        more="",
        nodes="server-1: {host: fulmar}",
    )
    runs = [client.call("POST", f"/api/plans/{name}/run")["run"] for name in ("swift", "pilot")]
    assert all(runs)
    for run in runs:
        done(client, run)
    at = {**addresses(client, "swift"), **addresses(client, "pilot")}
    # what one writes the other reads, at once and at the disk itself
    one, two = (f"http://{at[name]}:8080" for name in ("swift-lead-1", "swift-lead-2"))
    for writer, reader, sector in ((one, two, "3"), (two, one, "5")):
        said = f"high water {sector}"
        body = json.dumps({"sector": sector, "text": said})
        assert curl("-d", body, f"{writer}/cgi-bin/fence") == {"written": "yes"}
        assert curl(f"{reader}/cgi-bin/fence?sector={sector}") == {"text": said}
    # the kernel was told its node's name, and the installed one has no medium any more
    assert "node=swift-lead-1" in _virsh(folder, "fulmar", "dumpxml", "swift-lead-1")
    assert "volume=" not in "".join(
        line
        for line in _virsh(folder, "fulmar", "dumpxml", "pilot").splitlines()
        if "installer" in line or "answers" in line
    )
    assert curl(f"http://{at['pilot']}:8080/cgi-bin/status")["name"] == "pilot"
    for run in runs:
        client.call("POST", f"/api/runs/{run}/undo", {})
        assert ended(client, run, 120, states=("undone",))["state"] == "undone"
    client.call("POST", f"/api/groundwork/{ground}/undo", {})
    assert _virsh(folder, "fulmar", "list", "--all", "--name") == ""
