"""A plan opens its own keyring entries and those a person granted to it, however the name got into
it.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest

from nimble_stone.cli.client import Client
from nimble_stone.core.errors import StoneError
from nimble_stone.lab.scenario import demo
from tests.support.processes import (
    LabProcess,
    ServerProcess,
    ended,
    lab_and_server,
    ready_plan,
    small_package,
)

STOLEN = f"keyring:{demo.CREDENTIAL}"
Place = tuple[LabProcess, ServerProcess, Client]


@pytest.fixture(scope="module")
def place(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Place]:
    folder = tmp_path_factory.mktemp("grants")
    with lab_and_server(folder) as (lab, server, client):
        client.call("POST", "/api/estate", demo.estate_file(lab.plan).model_dump(mode="json"))
        client.call("POST", "/api/estate/read", {})
        client.upload(small_package(folder), lambda *_: None)
        ready_plan(client, demo.PLAN)
        yield lab, server, client


def withheld(view: dict[str, Any]) -> dict[str, Any] | None:
    return next((f for f in view["findings"] if f["code"] == "secret-not-granted"), None)


def plan_text(name: str, more: str = "") -> str:
    return demo.PLAN.replace("name: western", f"name: {name}") + more


def with_password(text: str, reference: str) -> str:
    assert "values:\n" in text
    return text.replace("values:\n", f"values:\n  admin_password: {reference}\n", 1)


def test_a_plan_file_cannot_take_the_hosts_password(place: Place) -> None:
    client = place[2]
    view = client.call("POST", "/api/plans", {"text": with_password(plan_text("thief"), STOLEN)})
    finding = withheld(view)
    assert finding
    assert finding["severity"] == "blocker"
    assert demo.CREDENTIAL in finding["message"]
    assert "the login of 8 hosts and machines (" in finding["message"]
    view = client.call(
        "POST", "/api/plans/thief/licence", {"version": view["version"], "by": "mira"}
    )
    started = client.call("POST", "/api/plans/thief/run")
    assert started["run"] == ""


def test_shared_values_and_edits_cannot_either(place: Place) -> None:
    client = place[2]
    shared = f"nimble-stone: values/1\nname: lent\nvalues:\n  admin_password: {STOLEN}\n"
    client.call("PUT", "/api/values/lent", {"text": shared})
    view = client.call("POST", "/api/plans", {"text": plan_text("includes", "include: [lent]\n")})
    assert withheld(view)
    view = client.call("POST", "/api/plans", {"text": plan_text("edited")})
    edit = {"path": ["nodes", "lead-1", "admin_password"], "value": STOLEN}
    view = client.call("PATCH", "/api/plans/edited", {"version": view["version"], "edits": [edit]})
    assert withheld(view)["node"] == "lead-1"  # type: ignore[index]


def test_a_copied_plan_does_not_inherit_what_its_model_may_open(place: Place) -> None:
    client = place[2]
    text = client.text("/api/plans/western/file").replace("name: western", "name: copied")
    assert "keyring:plan/western/" in text
    finding = withheld(client.call("POST", "/api/plans", {"text": text}))
    assert finding
    assert "it belongs to plan western" in finding["message"]


def test_what_a_person_grants_is_opened_and_what_is_revoked_is_not(place: Place) -> None:
    _, server, client = place
    client.call("PUT", "/api/secrets/team", {"value": "Tide-tables 1893"})
    client.call("POST", "/api/plans", {"text": with_password(plan_text("lent-to"), "keyring:team")})
    assert withheld(client.call("GET", "/api/plans/lent-to"))
    assert (
        server.cli("secret", "grant", "team", "lent-to").stdout
        == "Plan lent-to may open keyring entry team.\n"
    )
    view = client.call("GET", "/api/plans/lent-to")
    assert withheld(view) is None
    entry = next(e for e in client.call("GET", "/api/keyring") if e["name"] == "team")
    assert (entry["plans"], entry["owner"], entry["grantable"]) == (
        ["lent-to"],
        "no plan or host",
        True,
    )
    server.cli("secret", "revoke", "team", "lent-to")
    assert withheld(client.call("GET", "/api/plans/lent-to"))
    assert "team" in server.cli("secret", "list").stdout
    server.cli("secret", "remove", "team")
    assert "team" not in server.cli("secret", "list").stdout


def test_a_grant_taken_away_during_a_run_stops_the_step_that_needs_it(place: Place) -> None:
    lab, _, client = place
    client.call("PUT", "/api/secrets/brief", {"value": "Tide-tables 1893"})
    view = client.call(
        "POST", "/api/plans", {"text": with_password(plan_text("brief"), "keyring:brief")}
    )
    client.call("POST", "/api/keyring/grants", {"entry": "brief", "plan": "brief"})
    client.call("POST", "/api/plans/brief/licence", {"version": view["version"], "by": "mira"})
    lab.turn("all", speed=4)
    try:
        run = client.call("POST", "/api/plans/brief/run")["run"]
        assert run
        client.call("DELETE", "/api/keyring/grants", params={"entry": "brief", "plan": "brief"})
    finally:
        lab.turn("all", speed=400)
    found = ended(client, run)
    assert found["state"] == "trouble"
    assert any("may not open keyring entry “brief”" in step["message"] for step in found["steps"])
    client.call("POST", "/api/keyring/grants", {"entry": "brief", "plan": "brief"})
    client.call("POST", f"/api/runs/{run}/retry", {})
    assert ended(client, run)["state"] == "done"
    client.call("POST", f"/api/runs/{run}/undo", {})
    ended(client, run, states=("undone",))


@pytest.mark.parametrize("entry", ["authority", "run/0000/token"])
def test_what_belongs_to_the_installation_is_granted_to_nobody(place: Place, entry: str) -> None:
    client = place[2]
    client.call("GET", "/api/authority")
    with pytest.raises(StoneError, match="cannot be granted"):
        client.call("POST", "/api/keyring/grants", {"entry": entry, "plan": "western"})
    with pytest.raises(StoneError, match="is reserved"):
        client.call("PUT", f"/api/secrets/{entry}", {"value": "x"})


def test_unknown_entries_and_plans_are_named_and_logins_in_use_stay(place: Place) -> None:
    client = place[2]
    with pytest.raises(StoneError, match="no entry “nowhere”"):
        client.call("POST", "/api/keyring/grants", {"entry": "nowhere", "plan": "western"})
    with pytest.raises(StoneError, match="no plan “nowhere”"):
        client.call("POST", "/api/keyring/grants", {"entry": demo.CREDENTIAL, "plan": "nowhere"})
    with pytest.raises(StoneError, match="in use by"):
        client.call("DELETE", f"/api/secrets/{demo.CREDENTIAL}")


def test_a_deleted_plans_entries_go_with_it(place: Place) -> None:
    client = place[2]
    view = client.call("POST", "/api/plans", {"text": plan_text("passing")})
    client.call(
        "POST",
        "/api/plans/passing/secret",
        {"version": view["version"], "column": "admin_password", "value": "Tide-tables 1893"},
    )
    assert any(name.startswith("plan/passing/") for name in client.call("GET", "/api/secrets"))
    client.call("DELETE", "/api/plans/passing")
    assert not any(name.startswith("plan/passing/") for name in client.call("GET", "/api/secrets"))
