"""A system outside the plan: HAProxy of Debian gets a server for each node, and loses it when the
node goes.
"""

from __future__ import annotations

import contextlib
import json
import os
import signal
import subprocess
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest

from nimble_stone.cli.client import Client
from nimble_stone.core.errors import InputError
from tests.engine.test_commands import PASSWORD as ACCOUNT
from tests.engine.test_commands import folder as accounts
from tests.engine.test_commands import inside
from tests.support.balancer import Balancer
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
from tests.support.sluice import Sluice, self_made

__all__ = ["accounts"]
KIT = Path(__file__).parents[2] / "docs/examples/pontoon.yaml"
ADDRESS = "10.44.20.9"
LEDGER = "10.44.20.10"
OTHER = """
systems:
  - id: ledger
    label: Ledger
    address: "{ledger}"
    scheme: https
    trust: "{ledger_fingerprint}"
    login: session
    user: admin
    password: "{ledger_password}"
    session:
      login:
        method: POST
        path: /api/v2/session
        escape: xml
        text: '<login name="{user}" pass="{password}"/>'
        status: [201]
      token: $.data.gate.token
      send: {X-Gate: "{token}"}
      logout: {method: DELETE, path: /api/v2/session}
"""
STEPS = """
stages:
  - {id: books, label: Books, hold: true, wait: {expected: 1, longest: 20}}
  - {id: use, label: Use, wait: {expected: 1, longest: 20}}

forming:
  - id: enter
    label: Enter into ledger
    role: cluster
    asks: ledger
    stage: books
    makes: "{count} peers"
    call: {method: PUT, path: /api/v2/peers, body: {peers: {"@each": "", "@of": {host: "{name}"}}}}
    observe: {path: /api/v2/peers, confirm: {"count:$.data.peers[?@.host=='{name}']": "1"}}
    undo: {method: PUT, path: /api/v2/peers, body: {peers: []}}
    wait: {expected: 1, longest: 20}
"""
CHECKS = """
  - id: entered
    label: Entered
    kind: call
    of: cluster
    stage: books
    asks: ledger
    call: {path: /api/v2/peers}
    value: "count:$.data.peers[*]"
    equals: "{count}"
  - id: answers
    label: Answers
    kind: call
    stage: use
    call: {path: /cgi-bin/status, login: none}
    value: state
    equals: ready
"""
QUESTIONS = """
  - {id: ledger, label: Ledger}
  - {id: ledger_fingerprint, label: Fingerprint of the ledger, required: false}
  - {id: ledger_password, label: Password of the ledger, secret: true}
"""
PLAN = f"""nimble-stone: plan/1
name: jetty
kit: pontoon
package: Gauge Collector 4.2.0
bay: kelda-main
values: {{pool: kelda-survey, size: small, balancer: {ADDRESS}, pool_name: gauges}}
roles: {{node: {{count: 2}}}}
"""


@dataclass
class Scene:
    lab: LabProcess
    server: ServerProcess
    client: Client
    balancer: Balancer

    def checked(self, plan: str = "jetty") -> list[dict[str, Any]]:
        """Findings of a check against the hosts, that are about systems."""
        view = self.client.call("POST", f"/api/plans/{plan}/check", {})
        return [one for one in view["findings"] if one["code"].startswith("system-")]

    def servers(self) -> dict[str, str]:
        return self.balancer.servers()


def with_ledger(kit: str) -> str:
    """The same product, entered into a ledger that speaks HTTPS and wants a session."""
    head, rest = kit.split("systems:", 1)
    middle = rest[rest.index("service:") : rest.index("# Clients are")]
    end = rest[rest.index("durations:") : rest.index("  - id: registered")]
    head = head.replace("id: pontoon", "id: wharf").replace("questions:", f"questions:{QUESTIONS}")
    return f"{head}{OTHER}\n{middle}{STEPS}\n{end.rstrip()}{CHECKS}"


@pytest.fixture(scope="module")
def scene(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Scene]:
    folder = tmp_path_factory.mktemp("systems")
    with lab_and_server(folder) as (lab, server, client):
        (server.data / "kits").mkdir(exist_ok=True)
        (server.data / "kits/pontoon.yaml").write_text(KIT.read_text())
        (server.data / "kits/wharf.yaml").write_text(with_ledger(KIT.read_text()))
        prepare(client, lab, small_package(folder))
        balancer = Balancer(folder, *lab.plan.real(ADDRESS, 9999))
        yield Scene(lab, server, client, balancer)
        balancer.close()


def test_nodes_are_registered_with_a_system_checked_there_and_taken_out(scene: Scene) -> None:
    client, balancer = scene.client, scene.balancer
    view = ready_plan(client, PLAN)
    assert [f["message"] for f in view["findings"] if f["severity"] == "blocker"] == []
    # a balancer that is down is known before anything begins
    balancer.close()
    [finding] = scene.checked()
    assert finding["severity"] == "blocker"
    assert finding["message"] == (
        f"Load balancer cannot be used: nothing answers on {ADDRESS}, port 9999."
    )
    assert client.call("POST", "/api/plans/jetty/run")["run"] == ""
    balancer.start()
    assert scene.checked() == []
    run = client.call("POST", "/api/plans/jetty/run")["run"]
    done = ended(client, run)
    assert done["state"] == "done", [p for p in done["proofs"] if not p["passed"]]
    addresses = {
        node["cells"]["name"]["value"]: node["cells"]["address"]["value"] for node in done["nodes"]
    }
    assert scene.servers() == addresses
    said = {s["key"]: s["message"] for s in done["steps"]}
    assert said["register/node-1"] == "Load balancer: server jetty-1 in gauges"
    told = {p["node"]: p for p in done["proofs"] if p["proof"] == "registered"}
    assert told["node-1"]["how"].startswith(f"{ADDRESS}:9999 show servers state")
    script = json.dumps(client.call("GET", f"/api/runs/{run}/transcript"))
    assert "add server gauges/jetty-1" in script
    assert "New server registered" in script

    # somebody takes one out by hand: the check says so, in the balancer's own words
    balancer.say("set server gauges/jetty-2 state maint; del server gauges/jetty-2")
    worse = client.call("POST", f"/api/runs/{run}/prove", {})
    lost = [p["node"] for p in worse["proofs"] if not p["passed"]]
    assert lost == ["node-2"]
    rounds = client.call("GET", f"/api/runs/{run}/acceptance")
    assert rounds["before"] < rounds["at"]
    [one] = rounds["changed"]
    assert (one["node"], one["check"]) == ("node-2", "registered")
    assert (one["was_outcome"], one["now_outcome"]) == ("passed", "failed")
    told = scene.server.cli("acceptance", run, check=1).stdout
    assert "jetty-2, Server of the balancer: passed → failed: 10.44." in told

    # a rollback removes what is there still, and leaves what is not ours
    balancer.say("add server gauges/other 127.0.0.9:8080")
    client.call("POST", f"/api/runs/{run}/undo", {})
    ended(client, run, states=("undone",))
    assert scene.servers() == {"other": "127.0.0.9"}
    balancer.say("set server gauges/other state maint; del server gauges/other")


def test_a_node_that_is_added_is_registered_and_one_that_is_removed_is_not(scene: Scene) -> None:
    client = scene.client
    view = client.call("GET", "/api/plans/jetty")
    run = client.call("POST", "/api/plans/jetty/run")["run"]
    assert ended(client, run)["state"] == "done"
    assert sorted(scene.servers()) == ["jetty-1", "jetty-2"]

    def counted(number: int) -> None:
        nonlocal view
        view = client.call("GET", "/api/plans/jetty")
        edit = {"path": ["roles", "node", "count"], "value": number}
        client.call("PATCH", "/api/plans/jetty", {"version": view["version"], "edits": [edit]})

    counted(3)
    more = client.call("POST", "/api/plans/jetty/run")["run"]
    assert ended(client, more)["state"] == "done"
    assert sorted(scene.servers()) == ["jetty-1", "jetty-2", "jetty-3"]
    counted(1)
    fewer = client.call("POST", "/api/plans/jetty/run", {"remove": ["node-2", "node-3"]})
    assert fewer["run"], [f["message"] for f in fewer["plan"]["findings"]]
    done = ended(client, fewer["run"])
    assert done["state"] == "done", [s for s in done["steps"] if s["state"] == "failed"]
    assert sorted(scene.servers()) == ["jetty-1"]


def test_a_system_is_told_nothing_before_a_person_confirmed_its_certificate(
    scene: Scene, tmp_path: Path
) -> None:
    client = scene.client
    host, port = scene.lab.plan.real(LEDGER, 443)
    ledger = Sluice(tmp_path, host, (port, scene.lab.plan.real(LEDGER, 80)[1]), "ledger")
    ledger.password = PASSWORD
    text = PLAN.replace("jetty", "mole").replace("kit: pontoon", "kit: wharf")
    view = ready_plan(client, text.replace(f"balancer: {ADDRESS}", f"ledger: {LEDGER}"))
    [finding] = scene.checked("mole")
    assert finding["code"] == "system-unconfirmed"
    assert client.call("POST", "/api/plans/mole/run")["run"] == ""
    assert ledger.logins == []
    secret = {"version": view["version"], "column": "ledger_password", "value": PASSWORD}
    view = client.call("POST", "/api/plans/mole/secret", secret)
    edits = [finding["remedy"]["edit"]]
    assert edits[0]["value"] == shown_by(host, port)
    client.call("PATCH", "/api/plans/mole", {"version": view["version"], "edits": edits})
    assert scene.checked("mole") == []
    # it logged in to see that it may, and out again
    assert ledger.logins == [PASSWORD]
    assert ledger.sessions == {}
    run = client.call("POST", "/api/plans/mole/run")["run"]
    _held_after_the_stage(scene, run)
    done = ended(client, run)
    assert done["state"] == "done", [s for s in done["steps"] if s["state"] == "failed"]
    assert [one["host"] for one in ledger.peers] == ["mole-1", "mole-2"]
    assert ledger.sessions == {}
    _run_again_alone(scene, ledger)
    # another certificate, another system: it gets no password
    before = len(ledger.logins)
    ledger.show(self_made(tmp_path, "ledger"))
    [finding] = scene.checked("mole")
    assert "presents another certificate than confirmed" in finding["message"]
    client.call("POST", f"/api/runs/{run}/undo", {})

    def stuck() -> dict[str, Any] | None:
        view = client.call("GET", f"/api/runs/{run}")
        [step] = [s for s in view["steps"] if s["key"] == "enter/cluster"]
        return dict(step) if step["undo_failed"] else None

    step = wait_for(stuck, 60, "the rollback to stop")
    assert "another certificate" in step["undo_message"]
    assert len(ledger.logins) == before
    assert len(ledger.peers) == 2
    ledger.close()
    # a system that is gone for good stops no rollback: a person says so, and it is told for ever
    reason = {"steps": ["enter/cluster"], "reason": "the ledger was replaced"}
    client.call("POST", f"/api/runs/{run}/skip", reason)
    ended(client, run, states=("undone",))
    said = client.call("GET", f"/api/runs/{run}")["sentence"]["after"]
    assert said.endswith("Not undone: Enter into ledger: left as it is: the ledger was replaced.")


def _held_after_the_stage(scene: Scene, run: str) -> None:
    """The run holds when the stage's checks have passed; also when the server was killed."""

    def held() -> dict[str, Any] | None:
        view = scene.client.call("GET", f"/api/runs/{run}")
        return dict(view) if view["state"] == "held" else None

    wait_for(held, 60, "the hold after the stage")
    scene.server.kill()
    scene.server.start()
    view = wait_for(held, 60, "the hold after the stage")
    states = {s["key"]: s["state"] for s in view["steps"]}
    assert (states["stage/books"], states["stage/use"]) == ("done", "planned")
    sentence = view["sentence"]
    assert sentence["before"] == "Books checked: 1 check passed. "
    assert sentence["strong"] == "On hold for you to look"
    scene.client.call("POST", f"/api/runs/{run}/resume", {})


def _run_again_alone(scene: Scene, ledger: Sluice) -> None:
    """A stage of what is deployed is run again: what is true is not done twice."""
    client = scene.client
    with pytest.raises(InputError, match="its stages are books, use"):
        client.call("POST", "/api/plans/mole/run", {"stage": "nowhere"})
    for lost, peers in ((True, ["mole-1", "mole-2"]), (False, ["mole-1", "mole-2"])):
        if lost:
            ledger.peers = []
        asked = len(ledger.asked)
        shown = client.call("GET", "/api/plans/mole/changes?stage=books")
        assert [one["key"] for one in shown["steps"]] == ["enter/cluster", "stage/books"]
        again = client.call("POST", "/api/plans/mole/run", {"stage": "books"})["run"]
        assert ended(client, again)["state"] == "done"
        assert [one["host"] for one in ledger.peers] == peers
        assert ("PUT /api/v2/peers" in ledger.asked[asked:]) == lost
        # its rollback leaves the deployment, and what was entered for it
        client.call("POST", f"/api/runs/{again}/undo", {})
        ended(client, again, states=("undone",))
        assert [one["host"] for one in ledger.peers] == peers


KEEPER = "10.44.20.12"
KEEPS = """
systems:
  - id: keeper
    label: Keeper
    address: "{keeper}"
    host_key: "{keeper_key}"
    user: oper
    password: "{keeper_password}"
"""
KEPT = """
forming:
  - id: keep
    label: Tell the keeper
    role: node
    asks: keeper
    call: {ssh: "touch FOLDER/{name}"}
    observe: {ssh: ls FOLDER, prints: answer, confirm: {"pattern:(?m)^({name})$": "{name}"}}
    undo: {ssh: "rm -f FOLDER/{name}"}
    wait: {expected: 1, longest: 20}

"""


def with_keeper(kit: str, place: Path) -> str:
    """The same product, told to a system that is asked by SSH."""
    head, rest = kit.split("systems:", 1)
    middle = rest[rest.index("service:") : rest.index("# Clients are")]
    end = rest[rest.index("durations:") : rest.index("  - id: registered")]
    questions = """
  - {id: keeper, label: Keeper}
  - {id: keeper_key, label: Keeper's host key, required: false}
  - {id: keeper_password, label: Keeper's password, secret: true}
"""
    head = head.replace("id: pontoon", "id: quay").replace("questions:", f"questions:{questions}")
    kept = KEPT.replace("FOLDER", str(place))
    return f"{head}{KEEPS}\n{middle}{kept}{end}"


@contextlib.contextmanager
def ssh_server(folder: Path, key: Path, host: str, port: int) -> Iterator[Path]:
    """OpenSSH's own; where it writes what it does."""
    config, log = folder / f"config-{key.name}", folder / f"log-{key.name}"
    config.write_text(
        f"HostKey {key}\nStrictModes no\nUsePAM no\nPidFile none\nPasswordAuthentication yes\n"
        f"ListenAddress {host}\nPort {port}\nLogLevel VERBOSE\n"
    )
    line = ["/usr/sbin/sshd", "-D", "-E", str(log), "-f", str(config)]
    process = subprocess.Popen([*inside(folder), *line])
    wait_for(lambda: log.exists() and "Server listening" in log.read_text(), 20, "the SSH server")
    try:
        yield log
    finally:
        # each connection has a process that outlives it
        held = Path(f"/proc/{process.pid}/task/{process.pid}/children").read_text().split()
        for pid in [process.pid, *map(int, held)]:
            os.kill(pid, signal.SIGTERM)
        process.wait(20)


def test_a_system_asked_by_ssh_gets_no_password_before_its_host_key_was_confirmed(
    scene: Scene, accounts: Path
) -> None:
    # the account gets there: folders of tests are for root only
    client, kept = scene.client, Path(tempfile.mkdtemp())
    kept.chmod(0o777)
    (scene.server.data / "kits/quay.yaml").write_text(with_keeper(KIT.read_text(), kept))
    wait_for(lambda: "quay" in {k["id"] for k in client.call("GET", "/api/kits/shelf")["kits"]})
    host, port = scene.lab.plan.real(KEEPER, 22)
    with ssh_server(accounts, accounts / "host", host, port) as log:
        text = PLAN.replace("jetty", "quays").replace("kit: pontoon", "kit: quay")
        view = ready_plan(client, text.replace(f"balancer: {ADDRESS}", f"keeper: {KEEPER}"))
        secret = {"column": "keeper_password", "value": ACCOUNT}
        view = client.call(
            "POST", "/api/plans/quays/secret", {"version": view["version"], **secret}
        )
        [finding] = scene.checked("quays")
        assert finding["code"] == "system-unconfirmed"
        assert "presents a host key that is not confirmed yet" in finding["message"]
        assert client.call("POST", "/api/plans/quays/run")["run"] == ""
        edit = finding["remedy"]["edit"]
        told = subprocess.run(
            ["ssh-keygen", "-lf", accounts / "host.pub"], capture_output=True, text=True, check=True
        ).stdout
        assert edit["value"] == told.split()[1]
        assert "Accepted password" not in log.read_text()
        client.call("PATCH", "/api/plans/quays", {"version": view["version"], "edits": [edit]})
        assert scene.checked("quays") == []
        run = client.call("POST", "/api/plans/quays/run")["run"]
        done = ended(client, run)
        assert done["state"] == "done", [s for s in done["steps"] if s["state"] == "failed"]
        assert sorted(one.name for one in kept.iterdir()) == ["quays-1", "quays-2"]
    # another server there: it gets no password, and the rollback says why it cannot go on
    other = accounts / "other"
    subprocess.run(["ssh-keygen", "-qt", "ed25519", "-N", "", "-f", other], check=True)
    with ssh_server(accounts, other, host, port) as log:
        [finding] = scene.checked("quays")
        assert "shows another host key than confirmed" in finding["message"]
        client.call("POST", f"/api/runs/{run}/undo", {})
        step = wait_for(lambda: _undo_failed(client, run), 60, "the rollback to stop")
        assert "host key" in step["undo_message"]
        assert "Accepted password" not in log.read_text()
    with ssh_server(accounts, accounts / "host", host, port):
        client.call("POST", f"/api/runs/{run}/undo", {})
        ended(client, run, states=("undone",))
    assert list(kept.iterdir()) == []
    kept.rmdir()
    client.call("DELETE", "/api/plans/quays")


def _undo_failed(client: Client, run: str) -> dict[str, Any] | None:
    steps = client.call("GET", f"/api/runs/{run}")["steps"]
    return next((dict(one) for one in steps if one["undo_failed"]), None)


def shown_by(host: str, port: int) -> str:
    """The fingerprint that OpenSSL's own tool tells."""
    asked = subprocess.run(
        ["openssl", "s_client", "-connect", f"{host}:{port}"], input="", text=True,
        capture_output=True, check=False, timeout=20,
    ).stdout  # fmt: skip
    told = subprocess.run(
        ["openssl", "x509", "-noout", "-fingerprint", "-sha256"], input=asked, text=True,
        capture_output=True, check=True, timeout=20,
    ).stdout  # fmt: skip
    return "SHA256 " + told.strip().partition("=")[2]


def test_what_a_line_cannot_hold_is_not_said(scene: Scene) -> None:
    """A value with “;” would be a second command."""
    client, balancer = scene.client, scene.balancer
    text = PLAN.replace("jetty", "slip").replace(
        "pool_name: gauges", "pool_name: 'gauges; shutdown sessions server gauges/jetty-1'"
    )
    assert ready_plan(client, text)["kit"]
    run = client.call("POST", "/api/plans/slip/run")["run"]
    stuck = ended(client, run, states=("trouble",))
    said = [s["message"] for s in stuck["steps"] if s["key"] == "register/node-1"]
    assert "cannot be said in a line to Load balancer" in said[0]
    assert sorted(balancer.servers()) == ["jetty-1"]
