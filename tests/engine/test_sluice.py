"""A product that answers in its own way, by its kit alone: HTTPS, a session, a first password, a
licence, a certificate, nested JSON; and what goes wrong with such interfaces.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest

from nimble_stone.cli.client import Client
from nimble_stone.core.errors import StoneError
from tests.support.processes import (
    PASSWORD,
    LabProcess,
    ServerProcess,
    ended,
    lab_and_server,
    prepare,
    ready_plan,
    small_package,
    wait_for,
)
from tests.support.sluice import FIRST, Sluice, self_made

KIT = Path(__file__).parents[1] / "data/sluice.yaml"
PLAN = """nimble-stone: plan/1
name: {name}
kit: sluice
package: Gauge Collector 4.2.0
bay: kelda-main
values: {{pool: kelda-survey, size: small}}
"""


@dataclass
class Scene:
    lab: LabProcess
    server: ServerProcess
    client: Client
    folder: Path

    def rolled_out(self, name: str, **first: Any) -> tuple[str, list[Sluice]]:
        """A run, and what listens where its nodes are once it began. `first`: how the first one
        is.
        """
        view = ready_plan(self.client, PLAN.format(name=name))
        assert [f["message"] for f in view["findings"] if f["severity"] == "blocker"] == []
        started = self.client.call("POST", f"/api/plans/{name}/run")
        assert started["run"], started["plan"]["findings"]
        found = []
        for node in view["nodes"]:
            address = node["cells"]["address"]["value"]
            host, port = self.lab.plan.real(address, 443)
            ports = (port, self.lab.plan.real(address, 80)[1])
            box = Sluice(self.folder, host, ports, node["cells"]["name"]["value"])
            vars(box).update(first if not found else {})
            found.append(box)
        return str(started["run"]), found

    def remove(self, run: str, name: str, boxes: list[Sluice]) -> None:
        self.client.call("POST", f"/api/runs/{run}/undo", {})
        ended(self.client, run, states=("undone",))
        self.client.call("DELETE", f"/api/plans/{name}")
        for box in boxes:
            box.close()

    def failed(self, run: str, key: str) -> str:
        """What a step says that has failed."""

        def found() -> str:
            step = next(s for s in self.steps(run) if s["key"] == key)
            return str(step["message"]) if step["state"] == "failed" else ""

        return str(wait_for(found, 60, f"{key} to fail"))

    def steps(self, run: str) -> list[dict[str, Any]]:
        return list(self.client.call("GET", f"/api/runs/{run}")["steps"])


@pytest.fixture(scope="module")
def scene(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Scene]:
    folder = tmp_path_factory.mktemp("sluice")
    with lab_and_server(folder) as (lab, server, client):
        (server.data / "kits").mkdir(exist_ok=True)
        (server.data / "kits/sluice.yaml").write_text(KIT.read_text())
        prepare(client, lab, small_package(folder))
        yield Scene(lab, server, client, folder)


def test_a_product_of_another_kind_is_set_up_and_proved(scene: Scene) -> None:
    # a session of the first ends in the middle, and is opened anew
    run, boxes = scene.rolled_out("weir", lasts=3)
    done = ended(scene.client, run)
    lost = [(p["label"], p["expected"], p["found"]) for p in done["proofs"] if not p["passed"]]
    assert done["state"] == "done", (
        [(s["key"], s["message"]) for s in done["steps"] if s["state"] == "failed"],
        lost,
    )
    for box in boxes:
        assert box.password == PASSWORD
        assert box.licence == "HTS-140"
        assert [(one["host"], one["port"]) for one in box.peers] == [
            ("weir-1", 443),
            ("weir-2", 443),
        ]
        # the first password was tried once the administrator's was refused, and never again
        assert box.logins.index(FIRST) == 1
        assert box.logins.count(FIRST) == 1
        assert not box.sessions, "logged out at the end"
    assert len(boxes[0].logins) > len(boxes[1].logins)
    told = {p["label"]: p["found"] for p in done["proofs"]}
    assert told["Licensed gauges"] == "140"
    assert told["Nodes reach each other"] == "2 of 2 pairs"
    assert told["Plain HTTP redirected"].startswith("https://10.44.")
    # nothing that is secret stands anywhere
    kept = b"".join(path.read_bytes() for path in scene.server.data.glob("nimble-stone.db*"))
    script = json.dumps(scene.client.call("GET", f"/api/runs/{run}/transcript"))
    assert "/api/v2/session" in script
    for secret in (PASSWORD, "PRIVATE KEY", *boxes[0].issued, *boxes[1].issued):
        assert secret not in script
        assert secret.encode() not in kept
    # a stranger's certificate is noticed, and nothing is sent to it
    before = len(boxes[0].logins)
    boxes[0].show(self_made(scene.folder, "weir-1"))
    worse = scene.client.call("POST", f"/api/runs/{run}/prove", {})
    unknown = [p for p in worse["proofs"] if p["label"] == "Peers" and not p["passed"]]
    assert "not trusted" in unknown[0]["found"]
    assert len(boxes[0].logins) == before
    scene.remove(run, "weir", boxes)


def test_a_password_that_nobody_knows_is_told(scene: Scene) -> None:
    run, boxes = scene.rolled_out("dyke", password="set by hand before")
    said = scene.failed(run, "first-password/gate-1")
    assert "takes neither the administrator's password nor its first one" in said
    boxes[0].password = FIRST
    scene.client.call("POST", f"/api/runs/{run}/retry", {"steps": ["first-password/gate-1"]})
    assert ended(scene.client, run)["state"] == "done"
    scene.remove(run, "dyke", boxes)


def heard(client: Client, run: str, words: str) -> str:
    """What a page is told of a run while it goes on, until these words are in it."""
    told = ""
    with client._http.stream("GET", f"/api/runs/{run}/events", timeout=60) as answer:
        for line in answer.iter_lines():
            told += line
            if words in told or json.dumps(words)[1:-1] in told:
                return words
    return told


@pytest.mark.parametrize(
    ("spoilt", "words"),
    [
        (b"{not json", "wanted $.system.ready = “true”, got nothing"),
        (b'{"system": {"ready": false}}', "got “false”"),
        (b"\xff\xfe" * 100, "got nothing"),
        (b"[" * 100_000, "got nothing"),
        (b"x" * (5 << 20), "more than 4 MiB"),
    ],
)
def test_a_wait_shows_what_it_wants_and_what_it_got(
    scene: Scene, spoilt: bytes, words: str
) -> None:
    name = f"lock{len(spoilt)}"
    run, boxes = scene.rolled_out(name, spoilt=spoilt)

    assert words in heard(scene.client, run, words)
    boxes[0].spoilt = b""
    assert ended(scene.client, run)["state"] == "done"
    scene.remove(run, name, boxes)


def kept(scene: Scene, text: str, title: str) -> None:
    """The kit as it is from now on, and seen by the server."""
    named = text.replace("title: Sluice\n", f"title: {title}\n")
    (scene.server.data / "kits/sluice.yaml").write_text(named)

    def seen() -> bool:
        kits = scene.client.call("GET", "/api/kits/shelf")["kits"]
        return title in {kit["title"] for kit in kits}

    wait_for(seen, 20, "the kit to be read")


def test_a_run_that_waits_takes_over_the_corrected_kit(scene: Scene) -> None:
    """It began with a kit that asks for the licence in the wrong place, and is not thrown away."""
    good = KIT.read_text()
    step = "observe: {path: /api/v2/licence, confirm"
    kept(scene, good.replace(step, "observe: {path: /api/v2/license, confirm"), "Wrong")
    run, boxes = scene.rolled_out("boom")
    client = scene.client
    assert "no such place" in scene.failed(run, "licence/gate-1")
    wait_for(lambda: client.call("GET", f"/api/runs/{run}")["state"] == "trouble", 60, "its stop")
    assert client.call("GET", f"/api/runs/{run}/kit") == {"parts": [], "refused": []}
    with pytest.raises(StoneError, match="as it was when run"):
        client.call("POST", f"/api/runs/{run}/kit", {})
    # what is built already cannot be otherwise
    kept(scene, good.replace("short: gat,", "short: gate,"), "Roles")
    found = client.call("GET", f"/api/runs/{run}/kit")
    assert found["refused"] == ["roles differs: what it says is built already"]
    with pytest.raises(StoneError, match="cannot take over"):
        client.call("POST", f"/api/runs/{run}/kit", {})
    # nor are setup steps added or left out
    kept(scene, good.replace("id: licence\n    label", "id: permit\n    label").replace(
        "after: [licence]", "after: [permit]"), "Steps")  # fmt: skip
    refused = client.call("GET", f"/api/runs/{run}/kit")["refused"]
    assert refused[0] == "setup step licence/gate-1 is in the kit no more"
    # corrected: also after the server was killed, and the other steps stay done
    kept(scene, good.replace("label: Licence\n", "label: Licence file\n"), "Right")
    assert client.call("GET", f"/api/runs/{run}/kit") == {
        "parts": ["forming", "title"],
        "refused": [],
    }
    shown = scene.server.cli("run", "take-kit", run)
    assert "Corrected in the kit: forming, title." in shown.stdout
    scene.server.cli("run", "take-kit", run, "--yes")
    scene.server.kill()
    scene.server.start()
    before = {s["key"]: s["attempt"] for s in scene.steps(run)}
    client.call("POST", f"/api/runs/{run}/retry", {})
    done = ended(client, run)
    assert done["state"] == "done", [s for s in done["steps"] if s["state"] == "failed"]
    assert all(box.licence == "HTS-140" for box in boxes)
    steps = {s["key"]: s for s in done["steps"]}
    assert steps["licence/gate-1"]["label"] == "Licence file"
    assert steps["define/gate-1"]["attempt"] == before["define/gate-1"]
    assert "kit-taken" in {one["kind"] for one in client.call("GET", f"/api/runs/{run}")["events"]}
    kept(scene, good, "Sluice")
    scene.remove(run, "boom", boxes)
