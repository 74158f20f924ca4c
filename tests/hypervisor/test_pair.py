"""PostgreSQL, set up by a kit alone on servers of Debian's own: a primary and a standby, then one
standby more; asked by PostgreSQL's own client.
"""

from __future__ import annotations

import json
import os
import subprocess
from pathlib import Path
from typing import Any

import pytest

from nimble_stone.cli.client import Client
from tests.hypervisor import cloud_image, hosts
from tests.hypervisor.test_rollout import _known, _virsh
from tests.support.processes import ServerProcess, ended

# three servers start from scratch: by `make hypervisor-long`
pytestmark = [pytest.mark.timeout(2400), pytest.mark.long]
KIT = Path(__file__).parents[2] / "docs/examples/postgresql.yaml"
PLAN = """nimble-stone: plan/1
name: tides
kit: postgresql
package: postgresql 15
bay: kelda-real
values: {pool: kelda-survey}
nodes:
  server-1: {host: gannet}
  server-2: {host: fulmar}
"""
POSTGRESQL = cloud_image.Product("postgresql", ("postgresql-15",))
SECRETS = {
    "password": "Tide & 'mud' $(1893) # and more",
    "copy_password": 'it\'s \\ "deep" $HOME `here`',
    "owner_password": "Ebbe 'og' flod; drop",
}


def said(address: str, sql: str) -> subprocess.CompletedProcess[str]:
    """What PostgreSQL's own client got, as the application that owns the database."""
    place = f"host={address} user=app dbname=app connect_timeout=20"
    return subprocess.run(
        ["ip", "netns", "exec", hosts.NETNS, "psql", "-XtA", place, "-c", sql],
        env={**os.environ, "PGPASSWORD": SECRETS["owner_password"]},
        capture_output=True,
        text=True,
    )


def carried_out(client: Client) -> dict[str, Any]:
    """A run of the plan as it is, that ended well."""
    started = client.call("POST", "/api/plans/tides/run")
    assert started["run"], [f["message"] for f in started["plan"]["findings"]]
    done = ended(client, started["run"], 900)
    assert done["state"] == "done", (
        [(s["key"], s["message"]) for s in done["steps"] if s["state"] == "failed"],
        [(p["node"], p["label"], p["found"]) for p in done["proofs"] if not p["passed"]],
    )
    return done


def addresses(client: Client) -> list[str]:
    nodes = client.call("GET", "/api/plans/tides")["nodes"]
    return [str(one["cells"]["address"]["value"]) for one in nodes]


@pytest.fixture
def client(folder: Path, server: ServerProcess) -> Client:
    """With the package, and the kit as it is in the docs, but for smaller servers."""
    _known(folder, server)
    text = KIT.read_text().replace("apart: true", "apart: false")
    text = text.replace("memory_mib: 1024", "memory_mib: 512").replace(
        "disk_gib: 10", "disk_gib: 2"
    )
    (server.data / "kits").mkdir(exist_ok=True)
    (server.data / "kits/postgresql.yaml").write_text(text)
    added = server.cli("package", "add", str(cloud_image.image(POSTGRESQL)), "--json")
    sha256 = json.loads(added.stdout)["sha256"]
    server.cli("package", "label", sha256, "--product", "postgresql", "--version", "15")
    assert server.client().call("GET", "/api/kits/faulty") == []
    return server.client()


def test_a_database_follows_another_and_gets_one_more(
    folder: Path, server: ServerProcess, client: Client
) -> None:
    view = client.call("POST", "/api/plans", {"text": PLAN})
    for column, value in SECRETS.items():
        body = {"version": view["version"], "column": column, "value": value}
        view = client.call("POST", "/api/plans/tides/secret", body)
    assert [f["message"] for f in view["findings"] if f["severity"] == "blocker"] == []
    runs = [carried_out(client)]
    primary, standby = addresses(client)
    assert (
        said(primary, "create table level (metres int); insert into level values (4)").stderr == ""
    )
    _comes_to(standby, "4")
    told = said(standby, "insert into level values (5)").stderr
    assert "read-only transaction" in told
    edits = [{"path": ["roles", "server", "count"], "value": 3}]
    version = client.call("GET", "/api/plans/tides")["version"]
    client.call("PATCH", "/api/plans/tides", {"version": version, "edits": edits})
    runs.append(carried_out(client))
    copied = [s for s in runs[1]["steps"] if s["key"].startswith("form/") or "copy" in s["key"]]
    assert {step["node"] for step in copied} == {"server-3"}
    third = addresses(client)[2]
    assert said(primary, "insert into level values (6)").stderr == ""
    _comes_to(third, "4\n6")
    # however a shell, a form or JSON writes them: nothing of a secret is told
    kept = "".join(
        json.dumps(client.call("GET", f"/api/runs/{run['id']}{what}"))
        for run in runs
        for what in ("", "/transcript")
    )
    assert "psql -Xq -v ON_ERROR_STOP=1" in kept
    assert not [word for word in ("mud", "deep", "flod") if word in kept]
    for run in reversed(runs):
        client.call("POST", f"/api/runs/{run['id']}/undo", {})
        assert ended(client, run["id"], 300, states=("undone",))["state"] == "undone"
    for name in hosts.NAMES:
        assert _virsh(folder, name, "list", "--all", "--name") == ""


def _comes_to(address: str, wanted: str) -> None:
    """A standby is a moment behind."""
    sql = "select metres from level order by 1"
    for _ in range(20):
        if (found := said(address, sql)).stdout.strip() == wanted:
            return
        said(address, "select pg_sleep(0.5)")
    raise AssertionError(found)
