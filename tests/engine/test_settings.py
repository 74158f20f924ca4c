"""Settings of deployed nodes get other values, as the kit says; rolled back, they have the former
ones.
"""

from __future__ import annotations

import ssl
import time
from pathlib import Path
from typing import Any

import httpx
import pytest
from cryptography import x509

from nimble_stone.cli.client import Client
from nimble_stone.lab.scenario import products
from tests.engine.test_growing import by_hand, change, hardware, start
from tests.engine.test_kill import killed_on_the_way
from tests.engine.test_moving import rolled_out, row
from tests.engine.test_runs import ours, undo
from tests.support.processes import PASSWORD, LabProcess, ServerProcess, ended, wait_for

OTHER = "Fjord-7-Ebbe-stille"


def told(lab: LabProcess, address: str, password: str) -> Any:
    """What a node says of its settings, asked without the product."""
    real, port = lab.plan.real(address, 8080)
    answer = httpx.get(f"http://{real}:{port}/cgi-bin/settings", auth=("admin", password))
    return answer.json() if answer.status_code == 200 else answer.status_code


def address_of(client: Client, plan: str, node: str) -> str:
    return str(row(client, plan, node)["cells"]["address"]["value"])


def new_password(client: Client, plan: str, value: str = OTHER) -> None:
    version = client.call("GET", f"/api/plans/{plan}")["version"]
    body = {"version": version, "column": "admin_password", "value": value}
    client.call("POST", f"/api/plans/{plan}/secret", body)


def done(client: Client, run: str) -> dict[str, Any]:
    view = ended(client, run)
    messages = [(s["key"], s["message"]) for s in view["steps"] if s["message"]]
    lost = [(p["label"], p["node"], p["found"]) for p in view["proofs"] if not p["passed"]]
    assert view["state"] == "done", (messages, lost)
    return view


def test_nodes_are_told_or_restarted_and_new_ones_join(
    client: Client, lab: LabProcess, server: ServerProcess
) -> None:
    first = rolled_out(client, "tells")
    change(
        client,
        "tells",
        values__station="skerries",
        values__ntp="10.44.0.6",
        roles__archive__count=3,
        roles__archive__values__size="large",
    )
    new_password(client, "tells")
    found = client.call("GET", "/api/plans/tells/changes")
    ways = {(one["node"], one["how"], one["way"]) for one in found["alters"]}
    stand = ("lead-1", "archive-1", "archive-2")
    assert ways == {
        *((node, "station", "call") for node in stand),
        *((node, "system", "restart") for node in stand),
    }
    assert found["differs"] == []
    [system] = [one for one in found["alters"] if one["how"] == "system"][:1]
    assert {one["column"]: one["now"] for one in system["values"]} == {
        "admin_password": "",
        "ntp": "10.44.0.6",
    }
    text = server.cli("plan", "changes", "tells", check=1).stdout
    assert "Tell station group of tells-lead: Station group west → skerries, it is told" in text
    assert "Admin password (secret)" in text
    assert "each node is away for about a minute" in text
    keys = [step["key"] for step in found["steps"]]
    assert len(keys) == len(set(keys))
    assert keys.index("reconfigure/archive-2") < keys.index("resize/archive-2")
    run = start(client, "tells")
    done(client, run)
    for node in (*stand, "archive-3"):
        address = address_of(client, "tells", node)
        assert told(lab, address, OTHER)["station"] == "skerries"
        assert told(lab, address, PASSWORD) == 401
        assert row(client, "tells", node)["cells"]["ntp"]["value"] == "10.44.0.6"
    assert not client.call("GET", "/api/plans/tells/changes")["steps"]
    assert client.call("POST", "/api/deployments/tells/read", {})["drift"] == []
    built = client.call("GET", "/api/deployments/tells/built")
    assert {one["values"]["ntp"] for one in built["nodes"]} == {"10.44.0.6"}
    # rolled back: as they were, and they run
    undo(client, run)
    for node in stand:
        address = address_of(client, "tells", node)
        assert told(lab, address, PASSWORD)["station"] == "west"
        assert told(lab, address, OTHER) == 401
    undo(client, first)
    assert ours(lab) == []
    client.call("DELETE", "/api/plans/tells")


TIDEBOOK = """nimble-stone: plan/1
name: tides
kit: tidebook
package: Tidebook 7.1.0
bay: kelda-main
values: {pool: kelda-survey, net.copying.pool: kelda-storage, copying_mode: later}
"""


@pytest.mark.timeout(900)
def test_a_password_is_changed_by_who_knows_the_former_one_and_killed_on_the_way(
    client: Client, lab: LabProcess, server: ServerProcess, tmp_path: Path
) -> None:
    (tmp_path / "tidebook.ova").write_bytes(products.ova(products.PRODUCTS["tidebook"], mib=1))
    client.upload(tmp_path / "tidebook.ova", lambda *_: None)
    client.call("POST", "/api/plans", {"text": TIDEBOOK})
    new_password(client, "tides", PASSWORD)
    first = start(client, "tides")
    nodes = [node["id"] for node in done(client, first)["nodes"]]
    new_password(client, "tides")
    change(client, "tides", values__lag="45")
    found = client.call("GET", "/api/plans/tides/changes")
    assert {one["how"] for one in found["alters"]} == {"password", "lag"}
    keys = [step["key"] for step in found["steps"]]
    assert [key for key in keys if "/lag/" in key] == ["change/lag/primary-1"], "told once"
    run = start(client, "tides")
    killed_on_the_way(server, run, most=6, least=1, spread=2)
    client = server.client()
    done(client, run)
    for node in nodes:
        address = address_of(client, "tides", node)
        assert told(lab, address, OTHER)["name"] == row(client, "tides", node)["name"]
        assert told(lab, address, PASSWORD) == 401
    assert told(lab, address_of(client, "tides", "primary-1"), OTHER)["lag"] == "45"
    undo(client, run)
    for node in nodes:
        assert told(lab, address_of(client, "tides", node), PASSWORD) != 401
    assert told(lab, address_of(client, "tides", "primary-1"), PASSWORD)["lag"] == "30"
    undo(client, first)
    assert ours(lab) == []
    client.call("DELETE", "/api/plans/tides")


def test_a_rollback_restarts_one_node_after_the_other(client: Client, lab: LabProcess) -> None:
    first = rolled_out(client, "turns")
    change(client, "turns", values__ntp="10.44.0.6")
    settings = start(client, "turns")
    done(client, settings)
    change(client, "turns", roles__archive__values__size="large")
    sizes = start(client, "turns")
    done(client, sizes)
    for run, kind, nodes in ((sizes, "resize", 2), (settings, "reconfigure", 3)):
        undo(client, run)
        events = client.call("GET", f"/api/runs/{run}/events/page?before=1000000")
        turns = [
            one["kind"]
            for one in sorted(events, key=lambda one: int(one["id"]))
            if one["step"].startswith(f"{kind}/") and one["kind"] in ("undoing", "undone")
        ]
        assert turns == ["undoing", "undone"] * nodes
    undo(client, first)
    assert ours(lab) == []
    client.call("DELETE", "/api/plans/turns")


def size_of(lab: LabProcess, client: Client, node: str) -> tuple[str, str]:
    """vCPUs and memory of a node's VM that runs."""
    found = row(client, "heeds", node)
    return hardware(lab, found["host"], found["name"])


def test_a_rollback_waits_until_the_cluster_is_well_before_the_next_node(
    client: Client, lab: LabProcess, server: ServerProcess
) -> None:
    """As the kit says by `healthy`: the lead is off, so the second member is not restarted; killed
    meanwhile, it still is not.
    """
    first = rolled_out(client, "heeds")
    change(client, "heeds", roles__archive__values__size="large")
    sizes = start(client, "heeds")
    done(client, sizes)
    large = size_of(lab, client, "archive-1")
    lead = row(client, "heeds", "lead-1")
    by_hand(lab, lead["host"], "destroy", lead["name"])
    client.call("POST", f"/api/runs/{sizes}/undo", {})
    address = address_of(client, "heeds", "archive-2")

    def is_back() -> bool:
        if size_of(lab, client, "archive-2") == large:
            return False
        try:
            return told(lab, address, PASSWORD) is not None
        except httpx.HTTPError:
            return False

    wait_for(is_back, 90, "archive-2 with its former size")
    server.kill()
    server.start()
    client = server.client()

    def states() -> list[str]:
        steps = {
            one["key"]: one["state"] for one in client.call("GET", f"/api/runs/{sizes}")["steps"]
        }
        return [steps[f"resize/archive-{number}"] for number in (1, 2)]

    wait_for(lambda: states() == ["done", "undoing"], 60, "the rollback to go on")
    assert size_of(lab, client, "archive-1") == large
    there = time.time()
    by_hand(lab, lead["host"], "start", lead["name"])
    gone = ended(client, sizes, states=("undone",))
    undone_at = {one["key"]: one["undone_at"] for one in gone["steps"]}
    assert there < undone_at["resize/archive-2"] < undone_at["resize/archive-1"]
    assert size_of(lab, client, "archive-1") != large
    undo(client, first)
    assert ours(lab) == []
    client.call("DELETE", "/api/plans/heeds")


SKERRY = """nimble-stone: plan/1
name: reefs
kit: skerry
package: Skerry 3.4.1
bay: kelda-main
values: {pool: kelda-survey}
"""


def shown(lab: LabProcess, address: str) -> str:
    """The certificate that a node shows, by its serial number."""
    real, port = lab.plan.real(address, 8443)
    pem = ssl.get_server_certificate((real, port), timeout=10)
    return str(x509.load_pem_x509_certificate(pem.encode()).serial_number)


@pytest.mark.timeout(900)
def test_a_certificate_and_a_password_are_renewed_by_one_action(
    client: Client, lab: LabProcess, server: ServerProcess, tmp_path: Path
) -> None:
    product = products.PRODUCTS["skerry"]
    (tmp_path / "skerry.ova").write_bytes(products.ova(product, mib=1))
    client.upload(tmp_path / "skerry.ova", lambda *_: None)
    text = SKERRY.replace("Skerry 3.4.1", f"{product.title} {product.version}")
    plan = client.call("POST", "/api/plans", {"text": text})
    for column in [one["id"] for one in plan["columns"] if one["kind"] == "secret"]:
        body = {"version": plan["version"], "column": column}
        plan = client.call("POST", "/api/plans/reefs/renewal", body)
    first = start(client, "reefs")
    nodes = [one["id"] for one in done(client, first)["nodes"] if one["role"] == "controller"]
    before = {node: shown(lab, address_of(client, "reefs", node)) for node in nodes}
    offered = client.call("GET", "/api/plans/reefs/changes")["renewable"]
    assert [one["column"] for one in offered] == ["certificate.interface"]
    server.cli("plan", "renew", "reefs", "certificate.interface")
    found = client.call("GET", "/api/plans/reefs/changes")
    assert {(one["node"], one["way"]) for one in found["alters"]} == {
        (node, "restart") for node in nodes
    }
    run = start(client, "reefs")
    done(client, run)
    after = {node: shown(lab, address_of(client, "reefs", node)) for node in nodes}
    assert not set(before.values()) & set(after.values())
    assert client.call("POST", "/api/deployments/reefs/read", {})["drift"] == []
    undo(client, run)
    assert before == {node: shown(lab, address_of(client, "reefs", node)) for node in nodes}
    undo(client, first)
    assert ours(lab) == []
    assert "no secret" in server.cli("plan", "renew", "reefs", "ntp", check=2).stderr
    client.call("DELETE", "/api/plans/reefs")
