"""A node that shows another SSH host key than the one that was pinned is told nothing, until a
person confirms it.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import pytest

from nimble_stone.cli.client import Client
from nimble_stone.core.errors import StoneError
from tests.engine.test_growing import by_hand
from tests.support.processes import (
    LabProcess,
    ServerProcess,
    ended,
    lab_and_server,
    prepare,
    small_package,
)

PLACE = "/api/deployments/western/nodes/archive-1/keys"


@dataclass
class Scene:
    lab: LabProcess
    server: ServerProcess
    client: Client

    def failed(self, run: str) -> dict[str, str]:
        """Checks of the node that did not pass → what was found."""
        proofs = self.client.call("POST", f"/api/runs/{run}/prove", {})["proofs"]
        return {
            one["proof"]: one["found"]
            for one in proofs
            if one["node"] == "archive-1" and not one["passed"]
        }


@pytest.fixture(scope="module")
def scene(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Scene]:
    folder = tmp_path_factory.mktemp("keys")
    with lab_and_server(folder) as (lab, server, client):
        prepare(client, lab, small_package(folder))
        yield Scene(lab, server, client)


def test_another_key_is_shown_compared_and_pinned(scene: Scene) -> None:
    client, server = scene.client, scene.server
    run = client.call("POST", "/api/plans/western/run")["run"]
    assert ended(client, run)["state"] == "done"
    fine = server.cli("deployment", "keys", "western", "archive-1").stdout
    [known] = client.call("GET", PLACE)["keys"]
    assert fine == f"  SSH host key, port 22: {known['pinned']}\n"
    assert (known["shown"], known["trouble"]) == (known["pinned"], "")

    node = next(
        n for n in client.call("GET", "/api/plans/western")["nodes"] if n["id"] == "archive-1"
    )
    scene.lab.turn("all", guests={node["name"]: "other-key"})
    by_hand(scene.lab, node["host"], "destroy", node["name"])
    assert client.call("GET", PLACE)["keys"][0]["trouble"].startswith("10.44.20.")
    by_hand(scene.lab, node["host"], "start", node["name"])

    def other() -> dict[str, Any]:
        return dict(client.call("GET", PLACE)["keys"][0])

    while not (found := other())["shown"]:
        assert found["trouble"]
    assert found["shown"] != found["pinned"] == known["pinned"]
    told = scene.failed(run)["gateway"]
    assert f"shows host key {found['shown']}, but {found['pinned']} was pinned" in told
    # what was compared must be what it shows
    wrong = {"keys": [{"port": 22, "fingerprint": known["pinned"]}]}
    with pytest.raises(StoneError, match="on port 22 now, not"):
        client.call("POST", PLACE, wrong)
    with pytest.raises(StoneError, match="shows nothing on port 23 now"):
        client.call("POST", PLACE, {"keys": [{"port": 23, "fingerprint": found["shown"]}]})
    assert other()["pinned"] == known["pinned"]
    said = server.cli("deployment", "keys", "western", "archive-1", check=1).stdout
    assert f"    shows now: {found['shown']}\n" in said
    assert said.endswith("then: deployment keys western archive-1 --confirm\n")
    server.cli("deployment", "keys", "western", "archive-1", "--confirm")
    assert other()["pinned"] == found["shown"]
    assert scene.failed(run) == {}
    with pytest.raises(StoneError, match="no deployed node “archive-9”"):
        client.call("GET", PLACE.replace("archive-1", "archive-9"))
