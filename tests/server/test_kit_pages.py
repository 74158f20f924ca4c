"""Kits: on the shelf, read, checked while they are typed, kept and removed; by the interface that
page and command line use.
"""

from __future__ import annotations

from pathlib import Path

import pytest

from nimble_stone.cli.client import Client
from nimble_stone.core.errors import InputError, StoneError
from nimble_stone.core.kit.order import stages
from tests.core.test_resolution import KITS
from tests.support.processes import LabProcess, ServerProcess

EXAMPLES = [
    one
    for one in sorted((Path(__file__).parents[2] / "docs/examples").glob("*.yaml"))
    if one.read_text().partition("nimble-stone: ")[2].startswith("kit/1")
]
OWN = "id: skerry\ntitle: Skerry"


def shelf(client: Client) -> dict[str, dict[str, object]]:
    return {kit["id"]: kit for kit in client.call("GET", "/api/kits/shelf")["kits"]}


def test_the_shelf_has_all_kits_and_who_uses_them(client: Client) -> None:
    found = shelf(client)
    assert set(found) == set(KITS)
    assert found["gauge-collector"]["plans"] == 1
    assert found["tidebook"]["plans"] == 0
    assert not any(kit["own"] for kit in found.values())


def test_a_kit_is_read_as_a_person_would(client: Client) -> None:
    page = client.call("GET", "/api/kits/skerry")
    assert page["text"].startswith("# Skerry")
    about = page["about"]
    assert [role["id"] for role in about["roles"]] == ["controller", "worker"]
    columns = {stage["id"]: stage["column"] for stage in about["order"]}
    assert columns["role/controller"] == 0
    for stage in about["order"]:
        assert all(columns[one] < stage["column"] for one in stage["after"])
    with pytest.raises(StoneError, match="there is no kit"):
        client.call("GET", "/api/kits/nowhere")
    with pytest.raises(StoneError):
        client.call("GET", "/api/kits/..%2f..%2fetc")


@pytest.mark.parametrize("example", EXAMPLES, ids=[one.stem for one in EXAMPLES])
def test_every_example_is_read_by_the_page(client: Client, example: Path) -> None:
    found = client.call("POST", "/api/kits/check", {"text": example.read_text()})
    assert found["faults"] == []
    about = found["about"]
    assert about["speaks"]
    assert about["lines"]
    if example.stem == "pontoon":
        assert [one["label"] for one in about["systems"]] == ["Load balancer"]
        assert {one["asks"] for one in about["order"]} == {"", "Load balancer"}


@pytest.mark.parametrize("name", ["admin_password", "kept.token", "first.admin_password"])
def test_what_a_step_says_that_it_makes_names_no_secret(client: Client, name: str) -> None:
    text = next(one for one in EXAMPLES if one.stem == "pontoon").read_text()
    told = text.replace('makes: "server {name}', f'makes: "server {{{name}}}')
    [fault] = client.call("POST", "/api/kits/check", {"text": told})["faults"]
    assert f"makes is told in the open; it cannot name “{name}”" in fault["message"]


@pytest.mark.parametrize("login", ["none", "basic", "bearer"])
def test_the_page_says_who_asks(client: Client, login: str) -> None:
    text = client.call("GET", "/api/kits/skerry")["text"]
    access = f"access: {{login: {login}, bearer: '{{admin_password}}'}}\nservice:"
    found = client.call("POST", "/api/kits/check", {"text": text.replace("service:", access, 1)})
    assert found["faults"] == []
    words = {"none": "no login", "basic": "name and password", "bearer": "a token"}
    assert found["about"]["speaks"] == f"HTTP, {words[login]}"


def test_a_kit_that_was_changed_changes_the_plans_steps(client: Client) -> None:
    """What was worked out by the old one is not shown for the new one."""
    text = client.call("GET", "/api/kits/skerry")["text"]
    plan = "nimble-stone: plan/1\nname: shoals\nkit: skerry\nbay: kelda-main\n"
    client.call("POST", "/api/plans", {"text": plan})

    def labels() -> set[str]:
        return {step["label"] for step in client.call("GET", "/api/plans/shoals/steps")}

    before = labels()
    client.call("PUT", "/api/kits", {"text": text.replace("label: Join\n", "label: Let in\n")})
    assert labels() - before == {"Let in"}
    client.call("DELETE", "/api/kits/skerry")
    assert labels() == before
    client.call("DELETE", "/api/plans/shoals")


@pytest.mark.parametrize("kit", KITS.values(), ids=list(KITS))
def test_every_box_of_the_order_comes_after_what_it_needs(kit: object) -> None:
    seen: set[str] = set()
    for stage in stages(kit):  # type: ignore[arg-type]
        assert set(stage.after) <= seen
        seen.add(stage.id)


def test_faults_are_told_with_line_and_column_and_nothing_is_kept(client: Client) -> None:
    text = client.call("GET", "/api/kits/skerry")["text"]
    spoilt = text.replace("kind: running", "kind: walking", 1).replace("least: 1", "leest: 1", 1)
    found = client.call("POST", "/api/kits/check", {"text": spoilt})
    assert found["about"] is None
    assert [fault["place"].startswith("line ") for fault in found["faults"]] == [True, True]
    with pytest.raises(InputError, match="leest"):
        client.call("PUT", "/api/kits", {"text": spoilt})
    assert not shelf(client)["skerry"]["own"]
    for bad in ("{", "&a [*a]", "x" * 200_000, "nimble-stone: kit/1\n" + "- a\n" * 10):
        assert client.call("POST", "/api/kits/check", {"text": bad})["faults"]


def test_an_own_kit_replaces_a_shipped_one_until_it_is_removed(
    client: Client, server: ServerProcess, lab: LabProcess
) -> None:
    text = client.call("GET", "/api/kits/skerry")["text"]
    page = client.call("PUT", "/api/kits", {"text": text.replace(OWN, "id: skerry\ntitle: Reef")})
    assert (page["own"], page["about"]["title"]) == (True, "Reef")
    assert (server.data / "kits/skerry.yaml").exists()
    assert shelf(client)["skerry"]["own"]
    client.call("DELETE", "/api/kits/skerry")
    assert client.call("GET", "/api/kits/skerry")["about"]["title"] == "Skerry"
    with pytest.raises(StoneError, match="not an own kit"):
        client.call("DELETE", "/api/kits/skerry")


def test_a_kit_that_plans_need_stays(client: Client) -> None:
    text = client.call("GET", "/api/kits/gauge-collector")["text"]
    mine = text.replace("id: gauge-collector", "id: tide-collector")
    client.call("PUT", "/api/kits", {"text": mine})
    plan = "nimble-stone: plan/1\nname: mine\nkit: tide-collector\nbay: kelda-main\n"
    client.call("POST", "/api/plans", {"text": plan})
    with pytest.raises(StoneError, match="is used by mine"):
        client.call("DELETE", "/api/kits/tide-collector")
    client.call("DELETE", "/api/plans/mine")
    client.call("DELETE", "/api/kits/tide-collector")
    assert "tide-collector" not in shelf(client)


def test_earlier_texts_of_a_kit_stay_and_tell_what_changed(
    client: Client, server: ServerProcess
) -> None:
    """What is saved, and what somebody changed in the file, each once; also after it is gone."""
    text = client.call("GET", "/api/kits/skerry")["text"]

    def versions() -> list[tuple[int, int, int, bool]]:
        found = client.call("GET", "/api/kits/skerry/versions")["versions"]
        return [(one["number"], one["added"], one["removed"], one["current"]) for one in found]

    def titled(title: str) -> str:
        return text.replace("title: Skerry", f"title: {title}", 1)

    first = max((one[0] for one in versions()), default=0)
    client.call("PUT", "/api/kits", {"text": titled("Outer skerry")})
    client.call("PUT", "/api/kits", {"text": titled("Outer skerry")})
    # the shipped text, which it replaced, and its own
    numbers = [one[0] for one in versions() if one[0] > first]
    assert versions()[0] == (numbers[0], 1, 1, True)
    # somebody edits the file
    [file] = [one for one in (server.data / "kits").glob("*.yaml") if "skerry" in one.name]
    file.write_text(titled("Inner skerry") + "# by hand\n")
    client.call("GET", "/api/kits/skerry")
    assert versions()[0] == (numbers[0] + 1, 2, 1, True)
    before = client.call("GET", f"/api/kits/skerry/versions/{numbers[0]}")
    assert before["text"] == titled("Outer skerry")
    assert "-title: Outer skerry" in before["difference"]
    assert "+title: Inner skerry" in before["difference"]
    told = server.cli("kit", "versions", "skerry").stdout
    assert "+2 −1" in told
    shown = server.cli("kit", "versions", "skerry", "--show", str(numbers[0])).stdout
    assert "title: Outer skerry" in shown
    client.call("DELETE", "/api/kits/skerry")
    assert len(versions()) >= 3
    assert not client.call("GET", "/api/kits/skerry")["own"]
    with pytest.raises(StoneError, match="no version 999"):
        client.call("GET", "/api/kits/skerry/versions/999")
