"""Networks made and changed through the server, and finding anything by name."""

from __future__ import annotations

from typing import Any

import pytest

from nimble_stone.cli.client import Client
from nimble_stone.core.errors import InputError, StoneError
from nimble_stone.lab.scenario import demo

SHORE = {
    "name": "shore",
    "subnet": "10.44.70.0/24",
    "gateway": "10.44.70.1",
    "vlan": "470",
    "dns": "10.44.0.5, 10.45.0.5",
}


def networks(answer: dict[str, Any]) -> dict[str, dict[str, Any]]:
    return {one["name"]: one for one in answer["networks"]}


def test_a_network_is_made_changed_and_removed(client: Client) -> None:
    made = networks(client.call("PUT", "/api/networks", SHORE))["shore"]
    assert (made["vlan"], made["mtu"], made["dns"]) == (470, None, ["10.44.0.5", "10.45.0.5"])
    changed = networks(client.call("PUT", "/api/networks", {**SHORE, "vlan": "", "mtu": "9000"}))
    assert (changed["shore"]["vlan"], changed["shore"]["mtu"]) == (None, 9000)
    assert "survey" in changed, "the others stay"
    left = client.call("DELETE", "/api/networks/shore")
    assert "shore" not in networks(left)
    with pytest.raises(StoneError, match="has no network"):
        client.call("DELETE", "/api/networks/shore")


@pytest.mark.parametrize(
    ("wrong", "told"),
    [
        ({"subnet": "10.44.70.0/33"}, "subnet"),
        ({"gateway": "10.44.71.1"}, "gateway 10.44.71.1 is not in 10.44.70.0/24"),
        ({"vlan": "many"}, "vlan"),
        ({"vlan": "5000"}, "vlan"),
        ({"dns": "10.44.0.5 nobody"}, "dns"),
        ({"dynamic_first": "10.44.70.10"}, "two ends"),
        ({"dynamic_first": "10.44.71.10", "dynamic_last": "10.44.71.20"}, "10.44.70.0/24"),
    ],
)
def test_what_is_no_network_is_refused_in_words(
    client: Client, wrong: dict[str, str], told: str
) -> None:
    with pytest.raises(InputError, match=told):
        client.call("PUT", "/api/networks", {**SHORE, **wrong})
    assert "shore" not in networks(client.call("GET", "/api/estate"))


def test_a_network_in_use_stays_as_its_users_need_it(client: Client) -> None:
    with pytest.raises(StoneError, match="pool kelda-survey"):
        client.call("DELETE", "/api/networks/survey")
    narrow = {**SHORE, "name": "survey", "subnet": "10.44.20.0/28", "gateway": "10.44.20.1"}
    with pytest.raises(InputError, match="does not contain pool"):
        client.call("PUT", "/api/networks", narrow)
    survey = networks(client.call("GET", "/api/estate"))["survey"]
    assert survey["subnet"] == "10.44.20.0/23"


def test_anything_is_found_by_a_part_of_its_name(client: Client) -> None:
    plan = client.call(
        "POST", "/api/plans", {"text": demo.PLAN.replace("name: western", "name: searched")}
    )
    address = plan["nodes"][0]["cells"]["address"]["value"]

    def found(text: str) -> set[tuple[str, str, str]]:
        hits = client.call("GET", f"/api/search?text={text}")
        return {(hit["kind"], hit["ident"], hit["name"]) for hit in hits}

    assert ("host", "gannet", "gannet") in found("ANNE")
    assert ("host", "fulmar", "fulmar") in found("10.44.1.12")
    assert ("node", "searched", "searched-arc-1") in found("searched-arc")
    assert ("address", "searched", address) in found(address)
    assert {name for kind, _, name in found("gauge") if kind == "package"} == {
        "Gauge Collector 4.2.0"
    }
    # signs that mean something to a database mean themselves here
    assert found("%25%25") == set()
    assert found("a_n") == set()
    with pytest.raises(InputError):
        client.call("GET", "/api/search?text=a")


def test_the_list_of_plans_tells_which_could_be_run(client: Client) -> None:
    client.call("POST", "/api/plans", {"text": demo.PLAN.replace("name: western", "name: open")})
    lines = {line["id"]: line for line in client.call("GET", "/api/plans")}
    view = client.call("GET", "/api/plans/open")
    blockers = [one for one in view["findings"] if one["severity"] == "blocker"]
    assert lines["open"]["blockers"] == len(blockers) > 0
