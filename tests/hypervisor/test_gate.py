"""An appliance with HTTPS, a session login, a first password, a licence to upload, a certificate of
its own that is exchanged, and a redirect: two of them, as real systems on real hosts.
"""

from __future__ import annotations

import json
import subprocess
from pathlib import Path
from typing import Any

import pytest

from nimble_stone.cli.client import Client
from tests.hypervisor import cloud_image, hosts
from tests.hypervisor.gate import build
from tests.hypervisor.test_rollout import _known, _virsh
from tests.support.processes import ServerProcess, ended

# two servers start from scratch: by `make hypervisor-long`
pytestmark = [pytest.mark.timeout(2400), pytest.mark.long]
PASSWORD = "Tide & 'mud' <1893> \"more\""
PLAN = """nimble-stone: plan/1
name: lock
kit: sluice
package: sluice 4.2.0
bay: kelda-real
values: {pool: kelda-survey, licence: HTS-271}
nodes:
  gate-1: {host: gannet}
  gate-2: {host: fulmar}
"""


def curl(*words: str) -> str:
    """What curl gets in the hosts' network; '' when it refuses."""
    line = ["ip", "netns", "exec", hosts.NETNS, "curl", "-sS", "--max-time", "30", *words]
    return subprocess.run(line, capture_output=True, text=True).stdout


@pytest.fixture
def client(folder: Path, server: ServerProcess) -> Client:
    """With the package and its kit."""
    _known(folder, server)
    (server.data / "kits").mkdir(exist_ok=True)
    (server.data / "kits/sluice.yaml").write_text(build.kit())
    added = server.cli("package", "add", str(cloud_image.image(build.product())), "--json")
    sha256 = json.loads(added.stdout)["sha256"]
    server.cli("package", "label", sha256, "--product", "sluice", "--version", "4.2.0")
    assert server.client().call("GET", "/api/kits/faulty") == []
    return server.client()


def test_an_appliance_gets_password_licence_and_certificate(
    folder: Path, server: ServerProcess, client: Client
) -> None:
    view = client.call("POST", "/api/plans", {"text": PLAN})
    body = {"version": view["version"], "column": "admin_password", "value": PASSWORD}
    view = client.call("POST", "/api/plans/lock/secret", body)
    assert [f["message"] for f in view["findings"] if f["severity"] == "blocker"] == []
    run = client.call("POST", "/api/plans/lock/run")["run"]
    done = ended(client, run, 900)
    console = client.call("GET", f"/api/runs/{run}/console?node=gate-1")["text"]
    assert done["state"] == "done", (
        [(s["key"], s["message"]) for s in done["steps"] if s["state"] == "failed"],
        [(p["node"], p["label"], p["found"]) for p in done["proofs"] if not p["passed"]],
        console[-3000:],
    )
    authority = folder / "authority.pem"
    authority.write_text(client.call("GET", "/api/authority")["certificate"])
    for node in done["nodes"]:
        _is_ours(node["cells"]["address"]["value"], node["cells"]["name"]["value"], authority)
    told = json.dumps([done, client.call("GET", f"/api/runs/{run}/transcript")])
    assert "/api/v2/session" in told
    assert "mud" not in told
    client.call("POST", f"/api/runs/{run}/undo", {})
    assert ended(client, run, 300, states=("undone",))["state"] == "undone"
    for name in hosts.NAMES:
        assert _virsh(folder, name, "list", "--all", "--name") == ""


def _is_ours(address: str, name: str, authority: Path) -> None:
    """curl, which trusts our authority alone, says so."""
    place = f"https://{address}/api/v2"
    trusted = ("--cacert", str(authority))
    status: dict[str, Any] = json.loads(curl(*trusted, f"{place}/status"))
    assert status["system"]["host"]["label"] == name
    xml = '<login name="admin" pass="changeme"/>'
    form = ("-o", "/dev/null", "-w", "%{http_code}")
    assert curl(*trusted, *form, "-d", xml, f"{place}/session") == "401"
    moved = curl("-o", "/dev/null", "-w", "%{http_code} %{redirect_url}", f"http://{address}/x")
    assert moved == f"301 https://{address}/x"
