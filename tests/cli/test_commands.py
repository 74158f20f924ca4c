"""The command line: the same work, JSON everywhere, exit codes 0, 1 and 2; and the documents that
must not fall behind.
"""

from __future__ import annotations

import json
from pathlib import Path

import jsonschema
import pytest
from ruamel.yaml import YAML

from nimble_stone.cli.client import Client
from nimble_stone.core.estate import EstateFile
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.plan.model import Plan, SharedValues
from nimble_stone.core.reference import reference
from nimble_stone.lab.guests.answers import Answers
from nimble_stone.lab.scenario import demo
from tests.support.processes import PASSWORD, LabProcess, ServerProcess, ready_plan

ROOT = Path(__file__).parents[2]


def test_a_rollout_from_the_terminal(
    server: ServerProcess, client: Client, lab: LabProcess, tmp_path: Path
) -> None:
    assert (
        json.loads(server.cli("package", "list", "--json").stdout)[0]["product"]
        == "Gauge Collector"
    )
    assert "64 GiB" in server.cli("package", "inspect", "Gauge Collector 4.2.0").stdout
    assert len(json.loads(server.cli("estate", "list", "--json").stdout)["hosts"]) == 8
    assert server.cli("plan", "check", "western").stdout.startswith(
        "3 nodes on 3 hosts. Ready to run."
    )
    assert "wave 1:" in server.cli("plan", "show", "western").stdout
    exported = server.cli("plan", "export", "western").stdout
    assert "# The gauges of the western shore" in exported
    file = tmp_path / "west.yaml"
    file.write_text(exported.replace("station: west", "station: far west"))
    assert "version" in server.cli("plan", "import", str(file)).stdout
    assert "station: far west" in server.cli("plan", "export", "western").stdout
    started = server.cli("run", "start", "western", "--watch")
    assert "All 46 acceptance checks passed" in started.stdout
    run = json.loads(server.cli("run", "list", "--json").stdout)[0]["id"]
    server.cli(
        "acceptance", run, "--junit", str(tmp_path / "j.xml"), "--html", str(tmp_path / "r.html")
    )
    assert 'failures="0"' in (tmp_path / "j.xml").read_text()
    assert json.loads(server.cli("acceptance", run, "--again", "--json").stdout)["proofs"]
    server.cli("run", "rollback", run)
    assert "Rolled back" in server.cli("run", "watch", run).stdout


def test_hold_and_resume_from_the_terminal(
    server: ServerProcess, client: Client, lab: LabProcess
) -> None:
    ready_plan(client, demo.PLAN.replace("name: western", "name: terminal"))
    lab.turn("all", speed=10)
    run = json.loads(server.cli("run", "start", "terminal", "--json").stdout)["run"]
    server.cli("run", "hold", run)
    assert client.call("GET", f"/api/runs/{run}")["state"] == "held"
    lab.turn("all", speed=400)
    server.cli("run", "resume", run)
    assert "All 46 acceptance checks passed" in server.cli("run", "watch", run).stdout
    server.cli("run", "rollback", run)
    server.cli("run", "watch", run)


def test_exit_codes_tell_findings_from_wrong_use(
    server: ServerProcess, client: Client, tmp_path: Path
) -> None:
    bad = tmp_path / "bad.yaml"
    bad.write_text(demo.PLAN.replace("name: western", "name: other"))
    found = server.cli("plan", "check", str(bad), "--json", check=1)
    assert {"licence", "unanswered"} <= {
        finding["code"] for finding in json.loads(found.stdout)["findings"]
    }
    bad.write_text("nimble-stone: plan/1\n\tname: x\n")
    assert "tab character" in server.cli("plan", "check", str(bad), check=2).stderr
    assert "no plan" in server.cli("plan", "show", "nowhere", check=None).stderr
    assert (
        json.loads(
            server.cli("package", "add", str(tmp_path / "none.ova"), "--json", check=2).stderr
        )["code"]
        == "not-found"
    )
    server.cli("plan", "frobnicate", check=2)
    cut = tmp_path / "cut.ova"
    cut.write_bytes(b"x" * 5000)
    assert (
        "is not an OVA, OVF, disk image" in server.cli("package", "add", str(cut), check=2).stderr
    )


def test_a_secret_is_read_from_standard_input_only(server: ServerProcess, client: Client) -> None:
    assert (
        server.cli("secret", "set", "spare", stdin=PASSWORD + "\n").stdout.strip()
        == "keyring:spare"
    )


@pytest.mark.parametrize(
    ("name", "model"),
    [
        ("plan", Plan),
        ("kit", Kit),
        ("estate", EstateFile),
        ("values", SharedValues),
        ("answers", Answers),
    ],
)
def test_schemas_are_those_of_the_models(name: str, model: type[Plan]) -> None:
    assert (
        json.loads((ROOT / f"docs/schemas/{name}.schema.json").read_text())
        == model.model_json_schema()
    )


@pytest.mark.parametrize(("name", "model"), [("plan", Plan), ("kit", Kit), ("answers", Answers)])
def test_references_in_words_are_those_of_the_models(name: str, model: type[Plan]) -> None:
    text = (ROOT / f"docs/{name}-reference.md").read_text()
    assert text == reference(model, f"The {name} file, key by key")
    assert all(f"| `{field.alias or key}` |" in text for key, field in model.model_fields.items())


def test_the_demo_plan_and_the_shipped_kit_keep_their_schemas() -> None:
    yaml = YAML(typ="safe")
    jsonschema.validate(
        yaml.load(demo.PLAN), json.loads((ROOT / "docs/schemas/plan.schema.json").read_text())
    )
    for path in (ROOT / "src/nimble_stone/kits").glob("*.yaml"):
        jsonschema.validate(
            yaml.load(path.read_text()),
            json.loads((ROOT / "docs/schemas/kit.schema.json").read_text()),
        )


def test_every_make_target_and_command_of_the_readme_exists() -> None:
    text = (ROOT / "README.md").read_text()
    targets = (ROOT / "Makefile").read_text()
    for word in ("demo", "test", "hypervisor-demo"):
        assert f"make {word}" in text
        assert f"\n{word}:" in targets


def test_the_labs_knobs_are_turned_from_the_terminal(
    server: ServerProcess, client: Client, lab: LabProcess
) -> None:
    folder = str(lab.folder)
    assert (
        json.loads(
            server.cli("lab", "set", "--folder", folder, "fulmar", "unreachable=true").stdout
        )["unreachable"]
        is True
    )
    assert "fulmar" in server.cli("estate", "refresh", check=1).stdout
    server.cli("lab", "set", "--folder", folder, "fulmar", "unreachable=false", "slow_s=0.01")
    server.cli("estate", "refresh")
    told = json.loads(
        server.cli(
            "lab",
            "set",
            "--folder",
            folder,
            "all",
            "occupied=10.44.20.60,10.44.20.61",
            "guest:x-lead=never-boots",
        ).stdout
    )
    assert (told["occupied"], told["guests"]["x-lead"]) == (
        ["10.44.20.60", "10.44.20.61"],
        "never-boots",
    )
    assert (
        "no knob colour"
        in server.cli("lab", "set", "--folder", folder, "fulmar", "colour=1", check=2).stderr
    )
    assert (
        "setting=value"
        in server.cli("lab", "set", "--folder", folder, "fulmar", "colour", check=2).stderr
    )
    assert (
        json.loads(server.cli("lab", "show", "--folder", folder).stdout)["hosts"]["fulmar"][
            "knobs"
        ]["slow_s"]
        == 0.01
    )
    server.cli("lab", "set", "--folder", folder, "all", "occupied=", "guest:x-lead=ok")
    server.cli("lab", "set", "--folder", folder, "fulmar", "slow_s=0")
