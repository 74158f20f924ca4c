"""Designing from the command line: without a server against a file of facts, and with one."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from nimble_stone.cli.client import Client
from nimble_stone.lab.scenario import appliance, demo, products
from tests.core import scene
from tests.support import spawning
from tests.support.processes import ServerProcess, ready_plan

SHARED = (
    "nimble-stone: values/1\nname: kelda\nvalues: {ntp: 10.44.0.6, domain: shore.holm.example}\n"
)


@pytest.fixture(scope="module")
def desk(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder with facts, packages, plans and shared values: all that is needed without a
    server.
    """
    folder = tmp_path_factory.mktemp("desk")
    (folder / "facts.json").write_text(scene.estate().model_dump_json())
    (folder / "gauge.ova").write_bytes(appliance.ova(mib=1))
    (folder / "ballast.ova").write_bytes(products.ova(products.PRODUCTS["ballast"], mib=1))
    (folder / "west.yaml").write_text(
        demo.PLAN.replace("values:\n  pool", "include: [kelda]\nvalues:\n  pool")
    )
    (folder / "wide.yaml").write_text(
        (folder / "west.yaml").read_text().replace("count: 2", "count: 4")
    )
    (folder / "kelda.values.yaml").write_text(SHARED)
    (folder / "keel.yaml").write_text(
        "nimble-stone: plan/1\nname: keel\nkit: ballast\npackage: Ballast 1.9.2\nbay:"
        " kelda-main\nvalues: {pool: kelda-survey, net.copying.pool: kelda-storage, disk.data: 512,"
        " disk.data.count: 3, admin_password: 'keyring:x'}\n"
    )
    return folder


def offline(
    desk: Path,
    verb: str,
    plan: str,
    *more: str,
    package: str = "gauge.ova",
    check: tuple[int, ...] = (0,),
) -> Any:
    """The JSON answer of a command without a server."""
    found = spawning.run(
        [
            "plan",
            verb,
            str(desk / plan),
            *more,
            "--facts",
            str(desk / "facts.json"),
            "--package",
            str(desk / package),
            "--json",
        ]
    )
    assert found.returncode in check, found.stdout + found.stderr
    return json.loads(found.stdout)


def test_check_names_network_roles_and_reads_shared_values_beside_the_plan(desk: Path) -> None:
    found = offline(desk, "check", "keel.yaml", package="ballast.ova", check=(0, 1))
    assert {frozenset(node["addresses"]) for node in found["nodes"]} == {
        frozenset({"service", "copying"})
    }
    assert all(node["addresses"]["copying"].startswith("10.44.60.") for node in found["nodes"])
    assert len({node["host"] for node in found["nodes"]}) == 4
    assert set(found["forecast"]) == {
        "expected_seconds",
        "p50_seconds",
        "p90_seconds",
        "critical_path",
    }
    assert found["forecast"]["critical_path"][-2:] == ["form/cluster", "stage/use"]
    western = offline(desk, "check", "west.yaml", check=(1,))
    assert {
        finding["code"] for finding in western["findings"] if finding["severity"] == "blocker"
    } == {"licence", "unanswered"}


def test_packages_given_in_any_order_find_their_roles(desk: Path) -> None:
    for product in (products.PRODUCTS["tidebook"], products.PARTS["transfer"]):
        (desk / f"{product.id}.ova").write_bytes(products.ova(product, mib=1))
    (desk / "tide.yaml").write_text(
        "nimble-stone: plan/1\nname: tide\nkit: tidebook\npackage: Tidebook 7.1.0\nbay:"
        " kelda-main\nvalues: {pool: kelda-survey, net.copying.pool: kelda-storage, admin_password:"
        " 'keyring:x'}\nroles: {transfer: {count: 1, package: Tidebook Transfer 2.2.0}}\n"
    )
    found = offline(
        desk,
        "check",
        "tide.yaml",
        "--package",
        str(desk / "transfer.ova"),
        package="tidebook.ova",
        check=(0, 1),
    )
    assert [f["code"] for f in found["findings"] if f["severity"] == "blocker"] == []
    assert {node["role"]: node["memory_bytes"] >> 30 for node in found["nodes"]} == {
        "primary": 8,
        "standby": 8,
        "transfer": 4,
    }
    alone = offline(desk, "check", "tide.yaml", package="tidebook.ova", check=(1,))
    assert [f["message"] for f in alone["findings"] if f["severity"] == "blocker"][:1] == [
        "“Tidebook Transfer 2.2.0” is not imported for role transfer."
    ]


def test_a_missing_include_is_told_with_what_there_is(desk: Path) -> None:
    (desk / "lost.yaml").write_text(
        (desk / "west.yaml").read_text().replace("[kelda]", "[nowhere]")
    )
    found = spawning.run(
        ["plan", "check", str(desk / "lost.yaml"), "--facts", str(desk / "facts.json")]
    )
    assert found.returncode == 2
    assert "“nowhere”, which do not exist; there are kelda" in found.stderr


def test_place_answers_why_and_balance(desk: Path) -> None:
    placed = offline(desk, "place", "wide.yaml")
    assert set(placed["assignments"]) == {
        "western-lead",
        *(f"western-arc-{n}" for n in (1, 2, 3, 4)),
    }
    assert placed["spread"]["bound"] <= placed["spread"]["worst_load"]
    why = offline(desk, "place", "west.yaml", "--why", "western-arc-1")
    assert {one["host"] for one in why} == {"gannet", "fulmar", "skua", "petrel"}
    assert sum(one["here"] for one in why) == 1
    assert offline(desk, "place", "west.yaml", "--why", "nobody", check=(1,)) == []
    level = offline(desk, "place", "west.yaml", "--balance")
    assert level["after"] <= level["before"]
    crowded = offline(desk, "place", "west.yaml", check=(0,))
    assert crowded["reasons"] == {}
    (desk / "much.yaml").write_text(
        (desk / "west.yaml").read_text().replace("count: 2", "count: 7")
    )
    short = offline(desk, "place", "much.yaml", check=(1,))
    assert all(
        "role archive needs a host with no node of this role yet" in reason
        for reason in short["reasons"].values()
    )
    assert len(short["reasons"]) == 3


def test_size_headroom_layout_and_forecast(desk: Path) -> None:
    sized = offline(desk, "size", "west.yaml", "--load", "gauges=500")
    archive = next(one for one in sized["proposals"] if one["role"] == "archive")
    assert archive["chosen"]["carries"]["gauges"] >= 500
    assert (
        offline(desk, "size", "west.yaml", "--load", "gauges=99999", check=(1,))["proposals"][1][
            "chosen"
        ]
        is None
    )
    assert (
        spawning.run(
            [
                "plan",
                "size",
                str(desk / "west.yaml"),
                "--load",
                "gauges=many",
                "--facts",
                str(desk / "facts.json"),
            ]
        ).returncode
        == 2
    )
    losses = offline(desk, "headroom", "keel.yaml", package="ballast.ova")
    assert {one["weight"] for one in losses} == {"bent"}
    pairs = offline(desk, "headroom", "keel.yaml", "--pairs", package="ballast.ova", check=(1,))
    assert len(pairs) == 6
    assert {one["weight"] for one in pairs} == {"broken"}
    layout = {
        one["label"]: one for one in offline(desk, "layout", "keel.yaml", package="ballast.ova")
    }
    assert layout["2 copies"]["usable_bytes"] == 4 * 3 * (512 << 30) // 2
    assert layout["2 copies"]["survives_domains"] == 1
    assert "need 6 hosts; 4 have such disks" in layout["4 + 2 parity"]["reason"]
    assert [label for label, one in layout.items() if one["chosen"]] == ["2 copies"]
    forecast = offline(desk, "forecast", "west.yaml")
    assert 0 < forecast["p50_seconds"] <= forecast["p90_seconds"]


def test_diff_tells_what_changed_by_meaning(desk: Path) -> None:
    found = spawning.run(
        [
            "plan",
            "diff",
            str(desk / "west.yaml"),
            str(desk / "wide.yaml"),
            "--facts",
            str(desk / "facts.json"),
            "--package",
            str(desk / "gauge.ova"),
        ]
    )
    assert (found.returncode, found.stdout.splitlines()[0]) == (
        1,
        "2 nodes of role archive more: western-arc-3, western-arc-4",
    )
    same = offline(desk, "diff", "west.yaml", str(desk / "west.yaml"))
    assert same == {"differences": []}


def test_the_same_with_a_server(
    server: ServerProcess, client: Client, desk: Path, tmp_path: Path
) -> None:
    ready_plan(client, demo.PLAN.replace("name: western", "name: cliffs"))
    assert (
        "archive: 2 × large"
        in server.cli("plan", "size", "cliffs", "--load", "gauges=300", "--apply").stdout
    )
    assert {
        node["cells"]["size"]["value"]
        for node in client.call("GET", "/api/plans/cliffs")["nodes"]
        if node["role"] == "archive"
    } == {"large"}
    assert "lead down" in server.cli("plan", "headroom", "cliffs", check=1).stdout
    assert "here" in server.cli("plan", "place", "cliffs", "--why", "cliffs-lead").stdout
    assert "no data disks" in server.cli("plan", "layout", "cliffs").stdout
    server.cli("plan", "layout", check=2)
    values = str(desk / "kelda.values.yaml")
    assert "Preview only" in server.cli("plan", "values", values).stdout
    assert "Saved." in server.cli("plan", "values", values, "--save").stdout
    assert "kelda" in server.cli("plan", "values").stdout
    (tmp_path / "many.csv").write_text(
        "name;title;bay\nbluff;Bluff;kelda-main\nreef;Reef;ness-two\n"
    )
    words = (
        "plan",
        "many",
        str(tmp_path / "many.csv"),
        "--kit",
        "gauge-collector",
        "--package",
        "Gauge Collector 4.2.0",
        "--include",
        "kelda",
    )
    # blockers: the licence, a password
    assert "Preview only" in server.cli(*words, check=1).stdout
    assert "2 plans made" in server.cli(*words, "--create", check=1).stdout
    reef = client.call("GET", "/api/plans/reef")
    assert reef["nodes"][0]["cells"]["domain"] == {
        "value": "shore.holm.example",
        "origin": "shared",
    }
    assert reef["nodes"][0]["cells"]["address"]["value"].startswith("10.45.20.")
    assert (
        "plan spit is made"
        in server.cli(
            "plan",
            "copy",
            "bluff",
            "spit",
            "--bay",
            "ness-two",
            "--map",
            "kelda-survey=ness-survey",
        ).stdout
    )
    assert (
        "Bay: kelda-main → ness-two" in server.cli("plan", "diff", "bluff", "spit", check=1).stdout
    )
    # nothing stands to compare with
    server.cli("plan", "diff", "spit", check=2)
    server.cli("plan", "export", "spit", "--csv", str(tmp_path / "spit.csv"))
    table = (
        (tmp_path / "spit.csv")
        .read_text()
        .replace("spit-lead", "spit-head")
        .replace(",small,", ",tiny,", 1)
    )
    (tmp_path / "spit.csv").write_text(table)
    landed = json.loads(
        server.cli(
            "plan", "import", str(tmp_path / "spit.csv"), "--into", "spit", "--json", check=1
        ).stdout
    )
    assert [edit["value"] for edit in landed["edits"]] == ["spit-head"]
    assert [(wrong["column"], wrong["text"]) for wrong in landed["wrong"]] == [("size", "tiny")]
    assert client.call("GET", "/api/plans/spit")["nodes"][0]["name"] == "spit-head"
    for name in ("spit", "reef", "bluff", "cliffs"):
        client.call("DELETE", f"/api/plans/{name}")
    client.call("DELETE", "/api/values/kelda")
