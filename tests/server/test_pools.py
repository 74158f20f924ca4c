"""Pools and certificates through the server: made, changed, deleted; held by one plan only; pairs
brought and what is said of them.
"""

from __future__ import annotations

import contextlib
import json
import sqlite3
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import pytest
from cryptography.hazmat.primitives import serialization

from nimble_stone.cli.client import Client
from nimble_stone.core.errors import StoneError
from nimble_stone.keyring import certificates
from nimble_stone.lab.scenario import demo, products
from tests.support.processes import PASSWORD, LabProcess, ServerProcess, ended, lab_and_server

SKERRY = (
    "nimble-stone: plan/1\nname: {name}\nkit: skerry\npackage: Skerry 2.4.1\nbay:"
    " kelda-main\nvalues: {{pool: kelda-survey{more}}}\nroles: {{worker: {{count: 0}}}}\n"
)


@pytest.fixture(scope="module")
def place(
    tmp_path_factory: pytest.TempPathFactory,
) -> Iterator[tuple[LabProcess, ServerProcess, Client]]:
    folder = tmp_path_factory.mktemp("pools")
    with lab_and_server(folder) as (lab, server, client):
        client.call("POST", "/api/estate", demo.estate_file(lab.plan).model_dump(mode="json"))
        client.call("POST", "/api/estate/read", {})
        file = folder / "skerry.ova"
        file.write_bytes(products.ova(products.PRODUCTS["skerry"], mib=1))
        client.upload(file, lambda *_: None)
        yield lab, server, client


@pytest.fixture
def client(place: tuple[LabProcess, ServerProcess, Client]) -> Iterator[Client]:
    yield place[2]
    for plan in place[2].call("GET", "/api/plans"):
        place[2].call("DELETE", f"/api/plans/{plan['id']}")


def made(client: Client, name: str, more: str = "") -> dict[str, Any]:
    return dict(client.call("POST", "/api/plans", {"text": SKERRY.format(name=name, more=more)}))


def pool(client: Client, name: str) -> dict[str, Any]:
    return dict(next(one for one in client.call("GET", "/api/pools") if one["name"] == name))


def put(client: Client, **body: Any) -> list[dict[str, Any]]:
    return list(
        client.call(
            "PUT",
            "/api/pools",
            {
                "name": "west",
                "kind": "ipv4",
                "network": "survey",
                "first": "10.44.20.30",
                "last": "10.44.20.40",
                **body,
            },
        )
    )


def test_a_pool_is_made_changed_used_and_given_up(client: Client) -> None:
    put(
        client,
        excluded="10.44.20.33-10.44.20.35, 10.44.20.40",
        reserved="10.44.20.36 the tide clock\n\n10.44.20.37",
        order="down",
    )
    found = pool(client, "west")
    assert (found["size"], found["free"], found["excluded"], found["order"]) == (
        11,
        5,
        "10.44.20.33-10.44.20.35, 10.44.20.40",
        "down",
    )
    assert found["reserved"] == "10.44.20.36 the tide clock\n10.44.20.37 reserved"
    plan = made(client, "reef").copy()
    assert [node["cells"]["address"]["value"] for node in plan["nodes"]] == [
        "10.44.20.11",
        "10.44.20.12",
        "10.44.20.13",
    ]
    plan = client.call(
        "PATCH",
        "/api/plans/reef",
        {"version": 1, "edits": [{"path": ["values", "pool"], "value": "west"}]},
    )
    assert [node["cells"]["address"]["value"] for node in plan["nodes"]] == [
        "10.44.20.39",
        "10.44.20.38",
        "10.44.20.32",
    ]
    with pytest.raises(StoneError, match="is used by reef"):
        client.call("DELETE", "/api/pools/west")
    # what is held and still lies in it is kept
    put(client, order="up")
    again = client.call(
        "PATCH", "/api/plans/reef", {"version": 2, "edits": [{"path": ["title"], "value": "Reef"}]}
    )
    assert [node["cells"]["address"]["value"] for node in again["nodes"]] == [
        "10.44.20.39",
        "10.44.20.38",
        "10.44.20.32",
    ]
    client.call("DELETE", "/api/plans/reef")
    assert pool(client, "west")["free"] == 11
    assert "west" not in {one["name"] for one in client.call("DELETE", "/api/pools/west")}


@pytest.mark.parametrize(
    ("body", "words"),
    [
        ({"first": "10.44.20.50"}, "lies after"),
        ({"first": "10.1.0.1", "last": "10.1.0.9"}, "is not in survey"),
        ({"network": "moon"}, "no network “moon”"),
        ({"network": ""}, "no network is chosen"),
        ({"excluded": "10.44.20.33-"}, "not an IPv4 address or a range"),
        ({"reserved": "tide clock"}, "“tide” is not an IPv4 address"),
        ({"first": "tide"}, "IPv4"),
        (
            {"kind": "mac", "first": "53:00:00:00:00:01", "last": "53:00:00:00:00:02"},
            "group address",
        ),
        ({"name": "kelda-macs"}, "with another kind"),
        ({"kind": "number", "first": "0", "last": "x"}, "not a number"),
    ],
)
def test_a_wrong_pool_is_refused_in_words_and_nothing_is_changed(
    client: Client, body: dict[str, Any], words: str
) -> None:
    before = client.call("GET", "/api/pools")
    with pytest.raises(StoneError, match=words):
        put(client, **body)
    assert client.call("GET", "/api/pools") == before


def test_no_two_plans_hold_the_same_of_a_series(client: Client) -> None:
    one = made(client, "one", ", mac_pool: kelda-macs, pool6: kelda-six")
    two = made(client, "two", ", mac_pool: kelda-macs, pool6: kelda-six")
    for column in ("mac", "address6", "address"):
        mine, theirs = (
            {node["cells"][column]["value"] for node in plan["nodes"]} for plan in (one, two)
        )
        assert len(mine | theirs) == 6
    typed = client.call(
        "PATCH",
        "/api/plans/two",
        {
            "version": 1,
            "edits": [
                {
                    "path": ["nodes", "controller-1", "mac"],
                    "value": one["nodes"][0]["cells"]["mac"]["value"],
                }
            ],
        },
    )
    assert any(
        f["code"] == "claimed-address" and "held by plan “one”" in f["message"]
        for f in typed["findings"]
    )
    client.call("DELETE", "/api/plans/one")
    assert {m["by"] for m in pool(client, "kelda-macs")["members"] if m["state"] == "held"} == {
        "two"
    }


def test_pools_from_the_command_line(
    place: tuple[LabProcess, ServerProcess, Client], client: Client
) -> None:
    server = place[1]
    put(client)
    made(client, "reef", ", group: x").copy()
    said = server.cli("estate", "pools").stdout
    assert "west" in said
    # three nodes, a virtual address, one kept out
    assert "61 of 64" not in said
    assert (
        next(line for line in said.splitlines() if line.startswith("kelda-survey")).split()[-1]
        == "reef"
    )
    assert "deleted" in server.cli("estate", "delete-pool", "west").stdout
    assert "no pool “west”" in server.cli("estate", "delete-pool", "west", check=None).stderr


def pair_for(names: list[str], by: certificates.Pair) -> certificates.Pair:
    return certificates.issue(by, names, time.time())


def test_a_pair_is_brought_judged_used_and_put_back(
    place: tuple[LabProcess, ServerProcess, Client], client: Client
) -> None:
    server = place[1]
    plan = made(client, "reef")
    for column in ("admin_password", "seal_key"):
        plan = client.call(
            "POST",
            "/api/plans/reef/secret",
            {"version": plan["version"], "column": column, "value": PASSWORD},
        )
    here = client.call("GET", "/api/plans/reef/pair?column=certificate.interface")
    assert here["words"] == ""
    assert here["nodes"] == 3
    assert here["names"][:4] == [
        "reef-ctl1.kelda.holm.example",
        "reef-ctl1",
        "10.44.20.11",
        "10.44.20.74",
    ]
    by = certificates.make_authority(time.time(), "Holm")
    narrow = pair_for(here["names"][:1], by)

    def keep(pair: certificates.Pair) -> dict[str, Any]:
        version = client.call("GET", "/api/plans/reef")["version"]
        return dict(
            client.call(
                "POST",
                "/api/plans/reef/pair",
                {
                    "version": version,
                    "column": "certificate.interface",
                    "certificate": pair.certificate,
                    "key": pair.key,
                },
            )
        )

    with pytest.raises(StoneError, match="does not belong"):
        keep(certificates.Pair(narrow.certificate, by.key))
    told = [f["message"] for f in keep(narrow)["findings"] if f["code"] == "certificate"]
    assert (
        told[0] == "Interface certificate of reef-ctl1 is not valid for reef-ctl1, 10.44.20.11,"
        " 10.44.20.74."
    )
    assert len(told) == 3
    wide = pair_for(here["names"], by)
    assert not [f for f in keep(wide)["findings"] if f["severity"] == "blocker"]
    assert client.call("GET", "/api/plans/reef/pair?column=certificate.interface")[
        "words"
    ].startswith("reef-ctl1.kelda.holm.example, by Holm authority")
    assert "PRIVATE KEY" not in server.cli("plan", "export", "reef").stdout
    with pytest.raises(StoneError, match="there is nothing at /api/nothing"):
        client.call("GET", "/api/nothing")

    run = client.call("POST", "/api/plans/reef/run")
    done = ended(client, run["run"])
    assert done["state"] == "done", [p for p in done["proofs"] if not p["passed"]] + [
        s["message"] for s in done["steps"] if s["state"] == "failed"
    ]
    assert {p["found"] for p in done["proofs"] if p["proof"] == "certificate"} == {
        "Interface certificate trusted"
    }
    # The key went to the guests and nowhere else: no transcript, journal or proof has it, and the
    # database has it sealed.
    secret = (
        serialization.load_pem_private_key(wide.key.encode(), None)
        .private_bytes(
            serialization.Encoding.PEM,
            serialization.PrivateFormat.PKCS8,
            serialization.NoEncryption(),
        )
        .decode()
        .splitlines()[1]
    )
    for step in done["steps"]:
        assert secret not in json.dumps(
            client.call("GET", f"/api/runs/{run['run']}/transcript?step={step['key']}")
        )
    assert secret.encode() not in (server.data / "nimble-stone.db").read_bytes()

    # A later edit of the plan changes nothing of what the run built, nor of how it is proved.
    keep(pair_for(here["names"], by))
    client.call(
        "POST",
        "/api/plans/reef/secret",
        {
            "version": client.call("GET", "/api/plans/reef")["version"],
            "column": "admin_password",
            "value": "Neap-tables 1894 and on",
        },
    )
    again = client.call("POST", f"/api/runs/{run['run']}/prove", {})
    assert [(p["label"], p["found"]) for p in again["proofs"] if not p["passed"]] == []
    client.call("POST", f"/api/runs/{run['run']}/undo", {})
    assert ended(client, run["run"], states=("undone",))["state"] == "undone"


def test_the_authority_is_one_and_can_be_had_as_a_file(
    place: tuple[LabProcess, ServerProcess, Client], tmp_path: Path
) -> None:
    server, client = place[1], place[2]
    first = client.call("GET", "/api/authority")
    said = server.cli("certificate", "authority")
    assert said.stdout.strip() == first["certificate"].strip()
    made(client, "reef")
    pair = pair_for(["reef-ctl1"], certificates.make_authority(time.time(), "Holm"))
    (tmp_path / "c.pem").write_text(pair.certificate)
    (tmp_path / "k.pem").write_text(pair.key)
    kept = server.cli(
        "certificate",
        "bring",
        "reef",
        "certificate.interface",
        str(tmp_path / "c.pem"),
        str(tmp_path / "k.pem"),
        "--node",
        "controller-2",
    )
    assert "kept: reef-ctl1, by Holm authority" in kept.stdout
    plan = client.call("GET", "/api/plans/reef")
    assert [node["cells"]["certificate.interface"]["value"][:8] for node in plan["nodes"]] == [
        "made her",
        "keyring:",
        "made her",
    ]
    assert (
        "made here"
        in server.cli(
            "certificate", "show", "reef", "certificate.interface", "--node", "controller-1"
        ).stdout
    )
    client.call("DELETE", "/api/plans/reef")


def test_plans_of_a_time_when_plans_held_nothing_hold_at_the_next_start(
    place: tuple[LabProcess, ServerProcess, Client],
) -> None:
    _, server, client = place
    made(client, "old", ", mac_pool: kelda-macs")
    made(client, "broken")
    server.kill()
    with contextlib.closing(sqlite3.connect(server.data / "nimble-stone.db")) as db, db:
        db.execute("DELETE FROM claim")
        db.execute("DELETE FROM claim_member")
        db.execute("DELETE FROM meta WHERE key = 'data-version'")
        db.execute("UPDATE plan SET text = 'no plan at all: [' WHERE id = 'broken'")
    server.start()
    assert {m["by"] for m in pool(client, "kelda-macs")["members"] if m["state"] == "held"} == {
        "old"
    }
    with contextlib.closing(sqlite3.connect(server.data / "nimble-stone.db")) as db, db:
        db.execute(
            "UPDATE plan SET text = ? WHERE id = 'broken'", (SKERRY.format(name="broken", more=""),)
        )
    mine = {node["cells"]["address"]["value"] for node in made(client, "new")["nodes"]}
    assert not mine & {
        node["cells"]["address"]["value"] for node in client.call("GET", "/api/plans/old")["nodes"]
    }
    for name in ("old", "broken", "new"):
        client.call("DELETE", f"/api/plans/{name}")


def test_undoing_a_password_brings_the_earlier_one_back(client: Client) -> None:
    plan = made(client, "reef")
    first = client.call(
        "POST",
        "/api/plans/reef/secret",
        {"version": plan["version"], "column": "admin_password", "value": PASSWORD},
    )
    second = client.call(
        "POST",
        "/api/plans/reef/secret",
        {
            "version": first["version"],
            "column": "admin_password",
            "value": "Neap-tables 1894 and on",
        },
    )
    references = [one["nodes"][0]["cells"]["admin_password"]["value"] for one in (first, second)]
    assert len(set(references)) == 2
    back = client.call("POST", f"/api/plans/reef/restore/{first['version']}", {})
    assert back["nodes"][0]["cells"]["admin_password"]["value"] == references[0]
    assert not [f for f in back["findings"] if f["column"] == "admin_password"]


def test_plans_that_are_made_at_the_same_moment_share_nothing(client: Client) -> None:
    put(client, name="narrow", first="10.44.20.30", last="10.44.20.49")
    text = SKERRY.replace("kelda-survey", "narrow")
    with ThreadPoolExecutor(4) as pool_of_threads:
        plans = list(
            pool_of_threads.map(
                lambda n: client.call(
                    "POST",
                    "/api/plans",
                    {"text": text.format(name=f"p{n}", more=", mac_pool: kelda-macs")},
                ),
                range(4),
            )
        )
    assert len(plans) == 4
    held = [
        (m["address"], m["by"]) for m in pool(client, "narrow")["members"] if m["state"] == "held"
    ]
    assert len({address for address, _ in held}) == len(held)
    # whoever came second is told, and the next edit gives it what is free
    for plan in plans:
        version = client.call("GET", f"/api/plans/{plan['id']}")["version"]
        client.call(
            "PATCH",
            f"/api/plans/{plan['id']}",
            {"version": version, "edits": [{"path": ["title"], "value": "again"}]},
        )
    final = [client.call("GET", f"/api/plans/{plan['id']}") for plan in plans]
    for column in ("address", "mac"):
        used = [node["cells"][column]["value"] for plan in final for node in plan["nodes"]]
        assert len(used) == len(set(used)) == 12
    for plan in plans:
        client.call("DELETE", f"/api/plans/{plan['id']}")
    client.call("DELETE", "/api/pools/narrow")


def test_places_beyond_the_plan_are_tried_when_it_is_checked_against_the_world(
    place: tuple[LabProcess, ServerProcess, Client], client: Client
) -> None:
    lab = place[0]
    made(client, "reef")
    assert not [
        f
        for f in client.call("POST", "/api/plans/reef/check")["findings"]
        if f["code"].startswith("outside")
    ]
    for host in ("gannet", "fulmar", "skua", "petrel"):
        lab.turn(host, walled=True)
    try:
        told = next(
            f
            for f in client.call("POST", "/api/plans/reef/check")["findings"]
            if f["code"] == "outside-unreached"
        )
    finally:
        for host in ("gannet", "fulmar", "skua", "petrel"):
            lab.turn(host, walled=False)
    assert told["severity"] == "caution"
    assert (
        told["message"]
        == "store of programs (programs.kelda.holm.example:443) is unreachable: No route to host"
        " (tried from fulmar, gannet, petrel)."
    )
    version = client.call("GET", "/api/plans/reef")["version"]
    client.call(
        "PATCH",
        "/api/plans/reef",
        {"version": version, "edits": [{"path": ["values", "domain"], "value": "$(reboot)"}]},
    )
    assert any(
        "neither a host name nor an address" in f["message"]
        for f in client.call("POST", "/api/plans/reef/check")["findings"]
    )
