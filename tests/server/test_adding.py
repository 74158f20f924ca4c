"""Adding hosts: looked at first, keys confirmed, added all or none; moved and retired with care."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from nimble_stone.cli.client import Client
from nimble_stone.core.errors import StoneError
from nimble_stone.lab.scenario import demo
from tests.support.processes import (
    LabProcess,
    ServerProcess,
    lab_and_server,
    ready_plan,
    small_package,
)

LIST = (
    "[kelda-main]\ngannet 10.44.1.11\nfulmar 10.44.1.12\nskua 10.44.1.13\n\n[ness-two]\ntern"
    " 10.45.1.15\nthis is no host at all\nnowhere 10.44.9.9\nfar 8.8.8.8\nno-such-name\n"
)


@pytest.fixture
def place(tmp_path: Path) -> Iterator[tuple[LabProcess, ServerProcess, Client]]:
    with lab_and_server(tmp_path) as found:
        found[2].call("PUT", "/api/secrets/birds", {"value": demo.PASSWORD})
        found[2].call("PUT", "/api/secrets/wrong", {"value": "not the password"})
        yield found


def looked(
    client: Client, text: str = LIST, credential: str = "birds"
) -> dict[str, dict[str, Any]]:
    listing = client.call("POST", "/api/estate/list", {"text": text})
    found = client.call(
        "POST", "/api/estate/look", {"entries": listing["entries"], "credential": credential}
    )
    return {seen["entry"]["name"] or seen["address"]: seen for seen in found}


def request(look: dict[str, Any], **more: Any) -> dict[str, Any]:
    return {
        "fingerprint": look["fingerprint"],
        "host": {
            "name": look["entry"]["name"],
            "address": look["address"],
            "credential": "birds",
            "site": "Kelda",
            "bay": look["entry"]["bay"] or "new",
            **more,
        },
    }


def test_every_line_is_looked_at_and_says_what_was_found(
    place: tuple[LabProcess, ServerProcess, Client],
) -> None:
    lab, _, client = place
    lab.turn("skua", login_refused=True)
    lab.turn("tern", unreachable=True)
    listing = client.call("POST", "/api/estate/list", {"text": LIST})
    assert [(j["line"], j["text"]) for j in listing["junk"]] == [(8, "this is no host at all")]
    found = looked(client)
    assert {name: seen["outcome"] for name, seen in found.items()} == {
        "gannet": "fine",
        "fulmar": "fine",
        "skua": "refused",
        "tern": "unreachable",
        "nowhere": "unreachable",
        "far": "forbidden",
        "no-such-name": "unknown-name",
    }
    assert found["gannet"]["fingerprint"].startswith("SHA256:")
    assert found["gannet"]["hostname"] == "gannet.holm.example"
    assert all(seen["words"] for seen in found.values() if seen["outcome"] != "fine")
    # looking keeps nothing
    assert client.call("GET", "/api/estate")["hosts"] == []
    assert {
        seen["outcome"] for seen in looked(client, "gannet 10.44.1.11\n", "wrong").values()
    } == {"refused"}
    with pytest.raises(StoneError, match="no entry"):
        looked(client, "gannet 10.44.1.11\n", "nobody")


def test_hosts_are_added_with_the_key_that_was_confirmed_all_or_none(
    place: tuple[LabProcess, ServerProcess, Client],
) -> None:
    lab, _, client = place
    found = looked(client)
    wrong = request(found["fulmar"]) | {"fingerprint": "SHA256:another"}
    added = client.call(
        "POST",
        "/api/estate/hosts",
        [request(found["gannet"], note="first one", tags=["spare"]), request(found["fulmar"])],
    )
    assert [(h["name"], h["bay"], h["note"], h["tags"], h["trouble"]) for h in added["hosts"]] == [
        ("fulmar", "kelda-main", "", [], ""),
        ("gannet", "kelda-main", "first one", ["spare"], ""),
    ]
    # and they were read
    assert added["hosts"][0]["memory_bytes"] > 0
    assert {
        seen["outcome"] for name, seen in looked(client).items() if name in ("gannet", "fulmar")
    } == {"known"}
    with pytest.raises(StoneError, match="already"):
        client.call("POST", "/api/estate/hosts", [request(found["skua"]), request(found["gannet"])])
    assert len(client.call("GET", "/api/estate")["hosts"]) == 2
    client.call("DELETE", "/api/estate/hosts/fulmar")
    with pytest.raises(StoneError, match="another key was pinned"):
        client.call("POST", "/api/estate/hosts", [wrong])
    lab.turn("fulmar", new_host_key=True)
    assert looked(client)["fulmar"]["outcome"] == "key-changed"


def test_a_host_is_moved_and_retired_unless_something_depends_on_it(
    place: tuple[LabProcess, ServerProcess, Client], tmp_path: Path
) -> None:
    lab, server, client = place
    client.call(
        "POST",
        "/api/estate",
        demo.estate_file(lab.plan).model_copy(update={"hosts": ()}).model_dump(mode="json"),
    )
    found = looked(client)
    client.call(
        "POST",
        "/api/estate/hosts",
        [request(found["gannet"]), request(found["fulmar"]), request(found["skua"])],
    )
    moved = client.call(
        "PATCH", "/api/estate/hosts/skua", {"bay": "spare", "note": "waits for memory"}
    )
    assert [(h["bay"], h["note"], h["site"]) for h in moved["hosts"] if h["name"] == "skua"] == [
        ("spare", "waits for memory", "Kelda")
    ]
    client.upload(small_package(tmp_path), lambda *_: None)
    ready_plan(client, demo.PLAN + "nodes:\n  lead-1: {host: gannet}\n")
    with pytest.raises(StoneError, match="plan western names it"):
        client.call("DELETE", "/api/estate/hosts/gannet")
    client.call("DELETE", "/api/estate/hosts/skua")
    assert {h["name"] for h in client.call("GET", "/api/estate")["hosts"]} == {"gannet", "fulmar"}
    done = server.cli("estate", "remove", "fulmar")
    assert "removed from the estate" in done.stdout


def test_the_terminal_shows_the_keys_first_and_adds_on_a_word(
    place: tuple[LabProcess, ServerProcess, Client], tmp_path: Path
) -> None:
    _, server, client = place
    (tmp_path / "birds.csv").write_text(
        "name;address;bay\ngannet;10.44.1.11;kelda-main\nfulmar;10.44.1.12;kelda-main\n;;\n"
    )
    shown = json.loads(
        server.cli(
            "estate", "add", str(tmp_path / "birds.csv"), "--credential", "birds", "--json", check=1
        ).stdout
    )
    assert [seen["outcome"] for seen in shown["looks"]] == ["fine", "fine"]
    assert shown["junk"][0]["line"] == 4
    assert shown["added"] == 0
    assert client.call("GET", "/api/estate")["hosts"] == []
    assert (
        "2 hosts added"
        in server.cli(
            "estate",
            "add",
            "-",
            "--credential",
            "birds",
            "--pin",
            "--site",
            "Kelda",
            stdin="10.44.1.11\nfulmar 10.44.1.12\n",
        ).stdout
    )
    assert {
        (h["name"], h["site"], h["bay"]) for h in client.call("GET", "/api/estate")["hosts"]
    } == {("gannet", "Kelda", "new"), ("fulmar", "Kelda", "new")}


def test_the_ground_is_judged_and_a_leftover_of_an_ended_run_is_seen(
    place: tuple[LabProcess, ServerProcess, Client],
) -> None:
    lab, server, client = place
    client.call(
        "POST",
        "/api/estate",
        demo.estate_file(lab.plan).model_copy(update={"hosts": ()}).model_dump(mode="json"),
    )
    found = looked(client, "[ness-two]\ntern 10.45.1.15\nwhimbrel 10.45.1.16\nknot 10.45.1.18\n")
    client.call("POST", "/api/estate/hosts", [request(one) for one in found.values()])
    fitness = client.call("GET", "/api/estate/rules")
    assert len(fitness["rules"]) >= 20
    broken = {(v["host"], v["rule"]): v for v in fitness["violations"]}
    # the host that lacks the survey network
    assert "ness-survey" in broken["knot", "networks"]["message"]
    assert ("tern", "networks") not in broken
    shown = json.loads(server.cli("estate", "rules", "knot", "--json", check=1).stdout)
    assert {v["host"] for v in shown["violations"]} == {"knot"}
    lab.turn("tern", unreachable=True)
    client.call("POST", "/api/estate/read", {})
    assert (
        next(
            v
            for v in client.call("GET", "/api/estate/rules")["violations"]
            if (v["host"], v["rule"]) == ("tern", "answers")
        )["severity"]
        == "blocker"
    )
    assert server.cli("estate", "rules", "--reference").stdout.startswith(
        "# Host and machine rules"
    )
