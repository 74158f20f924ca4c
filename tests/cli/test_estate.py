"""The estate from a terminal: judged, prepared, taken back, and its facts as a file that a plan is
checked against without a server.
"""

from __future__ import annotations

import json
import subprocess
from pathlib import Path

import pytest

from nimble_stone.cli.client import Client
from nimble_stone.core.errors import StoneError
from nimble_stone.lab.scenario import demo
from tests.support import spawning
from tests.support.processes import LabProcess, ServerProcess

WORK = """actions:
  - {kind: datastore-folder, host: skua, name: skua-spare, path: /srv/spare}
  - {kind: names, host: skua, records: [{address: 10.44.9.9, names: [tide-gate]}]}
care: {watermark: 0.7, protection: disposable}
"""


def test_remedies_are_shown_carried_out_and_taken_back(
    server: ServerProcess, client: Client, lab: LabProcess
) -> None:
    rules = json.loads(server.cli("estate", "rules", "knot", "--json", check=1).stdout)
    assert {"resolves", "networks"} <= {v["rule"] for v in rules["violations"] if v["action"]}
    shown = server.cli("estate", "prepare", "--remedy", "resolves", "--host", "knot").stdout
    assert "$ LC_ALL=C timeout -k 2 10 tee -a /etc/hosts <<'END'" in shown
    assert "Preview only" in shown
    assert "nimble-stone:" not in lab.show()["hosts"]["knot"]["files"]["/etc/hosts"]
    done = server.cli(
        "estate",
        "prepare",
        "--remedy",
        "resolves",
        "--remedy",
        "networks",
        "--host",
        "knot",
        "--yes",
    ).stdout
    assert "refreshed." in done
    after = json.loads(server.cli("estate", "rules", "knot", "--json", check=None).stdout)
    assert not {"resolves", "networks"} & {v["rule"] for v in after["violations"]}
    run = json.loads(server.cli("estate", "preparations", "--json").stdout)[0]["id"]
    assert "Rolled back on" in server.cli("estate", "rollback", run).stdout
    assert "nimble-stone:" not in lab.show()["hosts"]["knot"]["files"]["/etc/hosts"]
    assert "only you know" in server.cli("estate", "prepare", "--remedy", "swap", check=2).stderr


def test_groundwork_from_a_file_and_one_that_is_wrong(
    server: ServerProcess, client: Client, lab: LabProcess, tmp_path: Path
) -> None:
    (tmp_path / "work.yaml").write_text(WORK)
    view = json.loads(
        server.cli(
            "estate", "prepare", "--file", str(tmp_path / "work.yaml"), "--yes", "--json"
        ).stdout
    )
    assert view["state"] == "done"
    assert "skua-spare" in lab.show()["hosts"]["skua"]["stores"]
    facts = json.loads(server.cli("estate", "facts", "skua", "--json").stdout)
    assert any(store["name"] == "skua-spare" for store in facts["facts"]["skua"]["datastores"])
    assert "/dev/sdb: 4 TiB, free" in server.cli("estate", "facts", "skua").stdout
    server.cli("estate", "rollback", view["id"])
    (tmp_path / "wrong.yaml").write_text(WORK.replace("/srv/spare", "/srv/spare; reboot"))
    assert (
        "wrong.yaml"
        in server.cli("estate", "prepare", "--file", str(tmp_path / "wrong.yaml"), check=2).stderr
    )


def test_a_rule_is_decided_for_a_bay(server: ServerProcess, client: Client) -> None:
    assert (
        "off (an old one)"
        in server.cli(
            "estate", "rule", "ness-two", "swap", "--off", "--reason", "an old one"
        ).stdout
    )
    assert not [
        v for v in client.call("GET", "/api/estate/rules")["violations"] if v["rule"] == "swap"
    ]
    server.cli("estate", "rule", "ness-two", "swap", "--reason", "as it was")
    assert [v for v in client.call("GET", "/api/estate/rules")["violations"] if v["rule"] == "swap"]
    server.cli("estate", "rule", "ness-two", "no-such-rule", "--off", "--reason", "x", check=1)


def test_a_key_is_made_once_and_its_private_half_never_shown(
    server: ServerProcess, client: Client
) -> None:
    first = server.cli("estate", "key", "terminal-key").stdout
    assert first.startswith("ssh-ed25519 ")
    assert server.cli("estate", "key", "terminal-key").stdout == first
    assert "PRIVATE" not in json.dumps(client.call("GET", "/api/estate/facts"))
    with pytest.raises(StoneError, match="password called"):
        client.call("POST", "/api/estate/keys", {"name": demo.CREDENTIAL})


def test_a_plan_is_checked_against_a_file_of_facts_without_a_server(
    server: ServerProcess, client: Client, package: Path, tmp_path: Path
) -> None:
    (tmp_path / "facts.json").write_text(server.cli("estate", "facts", "--json").stdout)
    (tmp_path / "plan.yaml").write_text(demo.PLAN)

    def check(plan: str, *more: str) -> subprocess.CompletedProcess[str]:
        (tmp_path / "plan.yaml").write_text(plan)
        return spawning.run(
            [
                "plan",
                "check",
                str(tmp_path / "plan.yaml"),
                "--facts",
                str(tmp_path / "facts.json"),
                *more,
            ],
            env={
                "PATH": "/usr/bin:/bin",
                "HOME": str(tmp_path),
                "NIMBLE_STONE_URL": "http://127.0.0.1:9",
            },
        )

    found = check(demo.PLAN, "--package", str(package), "--json")
    answer = json.loads(found.stdout)
    assert [node["host"] for node in answer["nodes"]]
    assert answer["forecast"]["p50_seconds"] < answer["forecast"]["p90_seconds"]
    assert all(node["addresses"]["service"].startswith("10.44.20.") for node in answer["nodes"])
    assert {f["code"] for f in answer["findings"] if f["severity"] == "blocker"} == {
        "licence",
        "unanswered",
    }
    wrong = check(demo.PLAN + "nodes:\n  archive-1: {host: knot}\n", "--package", str(package))
    assert wrong.returncode == 1
    assert "knot" in wrong.stdout
    (tmp_path / "facts.json").write_text("{]")
    broken = check(demo.PLAN)
    assert broken.returncode == 2
    assert "not a facts file" in broken.stderr
