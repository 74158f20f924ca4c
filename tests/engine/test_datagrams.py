"""A kit asks by UDP: Debian's time server and name server, as systems outside the plan."""

from __future__ import annotations

from contextlib import closing
from importlib.resources import files
from pathlib import Path
from typing import Any

from tests.engine.test_runs import plan_text, undo
from tests.hosts.controllers import free_port
from tests.support.named import Named, nsupdate
from tests.support.processes import ended, lab_and_server, prepare, ready_plan, small_package
from tests.support.timed import Timed

ADDRESS, HERE = "10.44.20.9", "127.0.0.1"
PORT = free_port()
"""Where the name server listens: it takes no address that no interface has."""
SYSTEMS = f"""systems:
  - {{id: clock, label: Time server, address: {ADDRESS}}}
  - {{id: names, label: Name server, address: {HERE}}}
"""
CHECKS = """acceptance:
  - id: in-step
    label: Time server in step
    kind: call
    of: cluster
    asks: clock
    call: {ntp: true}
    value: $.synchronised
    equals: "true"
  - id: offset
    label: Offset
    kind: call
    of: cluster
    asks: clock
    call: {ntp: true}
    value: $.offset_ms
    equals: "0"
    limit: 900
    unit: ms
  - id: known
    label: Known to the name server
    kind: call
    asks: names
    call: {dns: "{name}.kelda.holm.example", port: 40053}
    value: $.answers[0]
    equals: "{address}"
"""
ZONE = "zone kelda.holm.example"


def record(node: dict[str, Any], address: str = "") -> str:
    return (
        f"update add {node['name']}.kelda.holm.example 60 A"
        f" {address or node['cells']['address']['value']}"
    )


def test_checks_by_dns_and_ntp(tmp_path: Path) -> None:
    kit = (files("nimble_stone.kits") / "gauge-collector.yaml").read_text()
    kit = kit.replace("id: gauge-collector\n", "id: chime\n", 1)
    kit = kit.replace("systems:\n", SYSTEMS, 1).replace("acceptance:\n", CHECKS, 1)
    kit = kit.replace("40053", str(PORT))
    with lab_and_server(tmp_path) as (lab, _, client):
        client.call("PUT", "/api/kits", {"text": kit})
        prepare(client, lab, small_package(tmp_path))
        text = plan_text("chime").replace("kit: gauge-collector", "kit: chime")
        plan = ready_plan(client, text)
        # nobody there: known before anything begins, though UDP opens no connection
        said = client.call("POST", "/api/plans/chime/check", {})["findings"]
        assert [one["message"] for one in said if one["code"] == "system-unreached"] == [
            f"Time server cannot be used: {ADDRESS}:123 cannot be reached by UDP: no service"
            " listens on this port."
        ]
        with (
            closing(Timed(tmp_path / "clock", *lab.plan.real(ADDRESS, 123))),
            closing(Named(tmp_path / "names", HERE, PORT)) as names,
        ):
            first, *others = plan["nodes"]
            assert nsupdate(names, ZONE, *map(record, others)) == ""
            run = client.call("POST", "/api/plans/chime/run")["run"]
            done = ended(client, run)
            failed = [(one["proof"], one["node"]) for one in done["proofs"] if not one["passed"]]
            assert failed == [("known", first["id"])]
            found = {one["proof"]: one for one in done["proofs"] if not one["node"]}
            assert found["in-step"]["found"] == "true"
            assert abs(float(found["offset"]["found"])) <= 900
            # what is asked and where, as every check says it
            how = next(one["how"] for one in done["proofs"] if one["proof"] == "known")
            assert how == f"{HERE}:{PORT} DNS A {{name}}.kelda.holm.example, $.answers[0]"
            assert nsupdate(names, ZONE, record(first, "10.44.20.250")) == ""
            again = client.call("POST", f"/api/runs/{run}/prove", {})
            (wrong,) = [one for one in again["proofs"] if not one["passed"]]
            assert wrong["found"] == "10.44.20.250"
            undo(client, run)
