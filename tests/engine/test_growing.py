"""A deployment that stands is grown, shrunk, and has a node made again."""

from __future__ import annotations

from typing import Any

import pytest

from nimble_stone.cli.client import Client
from nimble_stone.core.errors import StoneError
from tests.engine.test_runs import ours, plan_text, undo
from tests.support.processes import LabProcess, ended, ready_plan


def counted(text: str, archives: int) -> str:
    """The plan with so many archive nodes."""
    return text.replace("count: 2", f"count: {archives}")


def change(client: Client, name: str, **edits: Any) -> dict[str, Any]:
    """Edit the plan, path to value."""
    version = client.call("GET", f"/api/plans/{name}")["version"]
    body = {
        "version": version,
        "edits": [{"path": path.split("__"), "value": value} for path, value in edits.items()],
    }
    answer = client.call("PATCH", f"/api/plans/{name}", body)
    return dict(answer.get("plan", answer))


def start(client: Client, name: str, *anew: str) -> str:
    found = client.call("POST", f"/api/plans/{name}/run", {"anew": list(anew)})
    assert found["run"], [f["message"] for f in found["plan"]["findings"]]
    return str(found["run"])


def values(view: dict[str, Any]) -> dict[str, dict[str, str]]:
    """Node → column → value."""
    return {
        node["id"]: {column: cell["value"] for column, cell in node["cells"].items()}
        for node in view["nodes"]
    }


def members(done: dict[str, Any]) -> str:
    return str(next(p["found"] for p in done["proofs"] if p["proof"] == "members"))


@pytest.fixture
def stands(client: Client, lab: LabProcess) -> str:
    """A plan of a lead and two archives that was rolled out."""
    ready_plan(client, plan_text("grows"))
    run = start(client, "grows")
    assert ended(client, run)["state"] == "done"
    return run


def test_a_deployment_grows_and_shrinks(client: Client, lab: LabProcess, stands: str) -> None:
    with pytest.raises(StoneError, match="deployed already"):
        start(client, "grows")
    was = values(client.call("GET", "/api/plans/grows"))
    change(client, "grows", roles__archive__count=3)
    found = client.call("GET", "/api/plans/grows/changes")
    assert [one["node"] for one in found["adds"]] == ["archive-3"]
    assert (found["removes"], found["differs"]) == ([], [])
    keys = [step["key"] for step in found["steps"]]
    assert "token/lead-1" in keys, "what the join needs"
    assert {key.partition("/")[2] for key in keys if not key.startswith("carry")} == {
        "archive-3",
        "lead-1",
    }
    grown = start(client, "grows")
    done = ended(client, grown)
    lost = [(p["label"], p["node"], p["found"]) for p in done["proofs"] if not p["passed"]]
    assert done["state"] == "done", ([s["message"] for s in done["steps"] if s["message"]], lost)
    assert members(done).count("grows-") == 4
    now = values(done)
    assert {ident: now[ident] for ident in was} == was, "what stands stays as it was built"
    assert done["change"] == {"adds": ["archive-3"], "removes": []}
    # the earlier run is not rolled back under the later one
    with pytest.raises(StoneError, match="changed what run"):
        client.call("POST", f"/api/runs/{stands}/undo", {})
    # and back to 2: the node leaves its cluster first
    change(client, "grows", roles__archive__count=2)
    shrunk = start(client, "grows")
    done = ended(client, shrunk)
    assert done["state"] == "done", [s["message"] for s in done["steps"] if s["message"]]
    assert [step["key"] for step in done["steps"]] == ["leave/leave/archive-3", "retire/archive-3"]
    assert members(done).count("grows-") == 3
    assert not any("archive-3" in name for name in ours(lab))
    found = client.call("GET", "/api/plans/grows/changes")
    assert (found["nodes"], found["adds"], found["removes"]) == (3, [], [])
    # the whole is rolled back in the opposite order
    for run in (shrunk, grown, stands):
        undo(client, run)
    assert ours(lab) == []
    assert client.call("GET", "/api/plans/grows/changes")["stands"] is False
    client.call("DELETE", "/api/plans/grows")
