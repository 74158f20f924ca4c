"""Designing through the server: sizes, losses, places, differences, tables, many plans, shared
values, pools; two people at once.
"""

from __future__ import annotations

import base64
import io
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from openpyxl import Workbook, load_workbook

from nimble_stone.app.application import ANSWERS
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

SHARED = (
    "nimble-stone: values/1\nname: kelda\ntitle: Kelda\nvalues:\n  pool: kelda-survey  # the"
    " western range\n  station: west\n  ntp: 10.44.0.5\n"
)


@pytest.fixture(scope="module")
def place(
    tmp_path_factory: pytest.TempPathFactory,
) -> Iterator[tuple[LabProcess, ServerProcess, Client]]:
    folder = tmp_path_factory.mktemp("designs")
    with lab_and_server(folder) as (lab, server, client):
        client.call("POST", "/api/estate", demo.estate_file(lab.plan).model_dump(mode="json"))
        client.call("POST", "/api/estate/read", {})
        client.upload(small_package(folder), lambda *_: None)
        ready_plan(client, demo.PLAN)
        yield lab, server, client


@pytest.fixture
def client(place: tuple[LabProcess, ServerProcess, Client]) -> Iterator[Client]:
    """The client; what a test makes is gone after it."""
    found = place[2]
    yield found
    for plan in found.call("GET", "/api/plans"):
        if plan["id"] != "western":
            found.call("DELETE", f"/api/plans/{plan['id']}")
    while left := found.call("GET", "/api/values"):
        included = {
            name
            for one in left
            for name in ("kelda", "coast")
            if f"include: [{name}]" in one["text"]
        }
        found.call(
            "DELETE",
            f"/api/values/{next(one['name'] for one in left if one['name'] not in included)}",
        )


def edit(client: Client, plan: str, *edits: tuple[str, Any]) -> dict[str, Any]:
    version = client.call("GET", f"/api/plans/{plan}")["version"]
    return dict(
        client.call(
            "PATCH",
            f"/api/plans/{plan}",
            {
                "version": version,
                "edits": [{"path": path.split("/"), "value": value} for path, value in edits],
            },
        )
    )


def another(client: Client, name: str, more: str = "") -> dict[str, Any]:
    return dict(
        client.call(
            "POST",
            "/api/plans",
            {"text": demo.PLAN.replace("name: western", f"name: {name}") + more},
        )
    )


def test_sizing_proposes_and_its_edits_take_it_over(client: Client) -> None:
    another(client, "sized")
    found = client.call("POST", "/api/plans/sized/sizing", {"loads": {"gauges": 700}})
    archive = next(one for one in found["proposals"] if one["role"] == "archive")
    assert archive["chosen"]["carries"]["gauges"] >= 700
    assert (
        archive["refused"]["carries"]["gauges"] < 700
        or "one per host; there are 4" in archive["reason"]
    )
    version = client.call("GET", "/api/plans/sized")["version"]
    plan = client.call("PATCH", "/api/plans/sized", {"version": version, "edits": found["edits"]})
    assert {role["id"]: role["count"] for role in plan["roles"]}["archive"] == archive["chosen"][
        "count"
    ]
    again = client.call("POST", "/api/plans/sized/sizing", {"loads": {}})
    # the plan remembers what it was sized for
    assert next(load["value"] for load in again["loads"] if load["id"] == "gauges") == 700
    with pytest.raises(StoneError, match="knows no load"):
        client.call("POST", "/api/plans/sized/sizing", {"loads": {"whales": 1}})


def test_losses_places_and_balance_belong_together(client: Client) -> None:
    plan = client.call("GET", "/api/plans/western")
    on = {node["name"]: node["host"] for node in plan["nodes"]}
    losses = {tuple(one["hosts"]): one for one in client.call("GET", "/api/plans/western/headroom")}
    # its disk is shared: it starts elsewhere
    assert losses[(on["western-lead"],)]["fit"] == ["western-lead"]
    assert losses[(on["western-arc-1"],)]["homeless"] == ["western-arc-1"]  # its disk is not
    pairs = client.call("GET", "/api/plans/western/headroom?together=2")
    assert len(pairs) == 3
    assert pairs[0]["weight"] == "broken"
    why = client.call("GET", "/api/plans/western/why?node=archive-1")
    assert [one["host"] for one in why if one["here"]] == [on["western-arc-1"]]
    assert (
        next(one["reason"] for one in why if one["host"] == on["western-arc-2"])
        == "has a node of this role already"
    )
    another(
        client,
        "crowded",
        "  relay: {count: 4}\nnodes:\n"
        + "".join(f"  relay-{n}: {{host: petrel, size: large}}\n" for n in (1, 2, 3)),
    )
    found = client.call("GET", "/api/plans/crowded/balance")
    assert found["moves"][0]["host"] == "petrel"
    assert found["after"] < found["before"]
    version = client.call("GET", "/api/plans/crowded")["version"]
    moved = client.call(
        "PATCH", "/api/plans/crowded", {"version": version, "edits": found["edits"]}
    )
    assert {node["id"]: node["host"] for node in moved["nodes"]} | {
        m["node"]: m["to"] for m in found["moves"]
    } == {node["id"]: node["host"] for node in moved["nodes"]}


def test_a_host_that_is_avoided_takes_nothing_and_a_contradiction_is_told(client: Client) -> None:
    another(client, "avoiding", "placement: {avoid: [gannet, fulmar]}\n")
    plan = client.call("GET", "/api/plans/avoiding")
    assert {node["host"] for node in plan["nodes"]} <= {"skua", "petrel"}
    plan = edit(client, "avoiding", ("nodes/lead-1/host", "gannet"))
    finding = next(f for f in plan["findings"] if f["code"] == "avoided")
    assert "which the plan excludes" in finding["message"]


def test_two_plans_never_hold_the_same_address_and_giving_up_gives_back(client: Client) -> None:
    mine = {
        node["cells"]["address"]["value"]
        for node in client.call("GET", "/api/plans/western")["nodes"]
    }
    first, second = another(client, "first"), another(client, "second")
    held = [
        {node["cells"]["address"]["value"] for node in plan["nodes"]} for plan in (first, second)
    ]
    assert not held[0] & held[1]
    assert not mine & (held[0] | held[1])
    grown = edit(client, "first", ("roles/archive/count", 4))
    # what it had it keeps
    assert held[0] <= {node["cells"]["address"]["value"] for node in grown["nodes"]}
    assert not held[1] & {node["cells"]["address"]["value"] for node in grown["nodes"]}
    pool = next(p for p in client.call("GET", "/api/pools") if p["name"] == "kelda-survey")
    states = {m["address"]: (m["state"], m["by"]) for m in pool["members"]}
    assert {states[address] for address in held[1]} == {("held", "second")}
    assert states["10.44.20.20"] == ("excluded", "")
    assert (
        pool["free"]
        == sum(m["state"] == "free" for m in pool["members"])
        >= pool["largest_gap"]
        > 0
    )
    draft = another(client, "sketch", "draft: true\n")
    assert draft["nodes"][0]["cells"]["address"]["value"] not in held[0] | held[1] | mine
    assert all(m["by"] != "sketch" for p in client.call("GET", "/api/pools") for m in p["members"])
    client.call("DELETE", "/api/plans/second")
    assert not any(
        m["by"] == "second" for p in client.call("GET", "/api/pools") for m in p["members"]
    )
    typed = another(client, "typed", f"nodes: {{lead-1: {{address: {sorted(mine)[0]}}}}}\n")
    assert [f["code"] for f in typed["findings"] if f["column"] == "address"] == ["claimed-address"]


def test_what_another_plan_would_take_is_seen_and_counted(client: Client) -> None:
    another(client, "big", "nodes: {lead-1: {host: petrel, size: large}}\n")
    full = another(
        client,
        "late",
        "  relay: {count: 3}\nnodes:\n"
        + "".join(f"  relay-{n}: {{host: petrel, size: large}}\n" for n in (1, 2, 3)),
    )
    found = [f for f in full["findings"] if f["code"] == "memory-planned"]
    assert found
    assert "“big”" in found[0]["message"]
    assert found[0]["severity"] == "caution"
    assert {(one["plan"], one["host"]) for one in full["claims"]} >= {("big", "petrel")}


def test_shared_values_reach_every_plan_and_tell_beforehand(client: Client) -> None:
    client.call("PUT", "/api/values/kelda", {"text": SHARED})
    for name in ("one", "two"):
        client.call(
            "POST",
            "/api/plans",
            {
                "text": (
                    f"nimble-stone: plan/1\nname: {name}\nkit: gauge-collector\npackage: Gauge"
                    " Collector 4.2.0\nbay: kelda-main\ninclude: [kelda]\n"
                )
            },
        )
    plan = client.call("GET", "/api/plans/one")
    assert plan["nodes"][0]["cells"]["station"] == {"value": "west", "origin": "shared"}
    changed = SHARED.replace("ntp: 10.44.0.5", "ntp: 10.44.0.6")
    touched = client.call("POST", "/api/values/kelda/touches", {"text": changed})
    assert {one["plan"]: [d["text"] for d in one["differences"]] for one in touched} == {
        name: ["NTP: 10.44.0.5 → 10.44.0.6 for every node"] for name in ("one", "two")
    }
    assert client.call("GET", "/api/plans/two")["nodes"][0]["cells"]["ntp"]["value"] == "10.44.0.5"
    kept = client.call("PUT", "/api/values/kelda", {"version": 1, "text": changed})
    assert sorted(kept["plans"]) == ["one", "two"]
    assert client.call("GET", "/api/plans/two")["nodes"][0]["cells"]["ntp"]["value"] == "10.44.0.6"
    own = edit(client, "two", ("values/ntp", "10.44.0.7"))
    assert own["nodes"][0]["cells"]["ntp"] == {"value": "10.44.0.7", "origin": "plan"}
    with pytest.raises(StoneError, match="were changed by another user"):
        client.call("PUT", "/api/values/kelda", {"version": 1, "text": SHARED})
    with pytest.raises(StoneError, match="is included by"):
        client.call("DELETE", "/api/values/kelda")


def test_includes_that_go_round_or_lead_nowhere_are_refused(client: Client) -> None:
    client.call("PUT", "/api/values/kelda", {"text": SHARED})
    client.call(
        "PUT",
        "/api/values/coast",
        {
            "text": (
                "nimble-stone: values/1\nname: coast\ninclude: [kelda]\nvalues: {station: coast}\n"
            )
        },
    )
    with pytest.raises(StoneError, match="in a ring: kelda → coast → kelda"):
        client.call("PUT", "/api/values/kelda", {"text": SHARED + "include: [coast]\n"})
    with pytest.raises(StoneError, match="which do not exist"):
        client.call(
            "POST",
            "/api/plans",
            {"text": demo.PLAN.replace("name: western", "name: lost") + "include: [nowhere]\n"},
        )
    assert "lost" not in {plan["id"] for plan in client.call("GET", "/api/plans")}


def test_the_sheet_travels_as_csv_and_xlsx_and_wrong_cells_are_kept_as_typed(
    client: Client, place: tuple[LabProcess, ServerProcess, Client]
) -> None:
    another(client, "tabled")
    text = client.text("/api/plans/tabled/sheet.csv")
    header = text.splitlines()[0].split(",")
    assert header[:3] == ["node", "role", "name"]
    assert "admin_password" not in header
    answer = client.call("POST", "/api/plans/tabled/sheet", {"text": text})
    assert (answer["edits"], answer["wrong"]) == ([], [])
    assert answer["same"] > 30
    table = (
        "node\tAddress\tSize\tStation group\tTide\nlead-1\t10.44.20.66\thuge\twest"
        " coast\t3\ntabled-arc-1\t10.44.20.999\tlarge\tw\t\nnobody\t\t\t\t\n"
    )
    answer = client.call("POST", "/api/plans/tabled/sheet", {"text": table})
    assert {(tuple(e["path"]), e["value"]) for e in answer["edits"]} == {
        (("nodes", "lead-1", "address"), "10.44.20.66"),
        (("nodes", "lead-1", "station"), "west coast"),
        (("nodes", "archive-1", "size"), "large"),
    }
    assert {(w["row"], w["column"], w["text"]) for w in answer["wrong"]} == {
        (1, "tide", "tide"),
        (2, "size", "huge"),
        (3, "address", "10.44.20.999"),
        (3, "station", "w"),
        (4, "node", "nobody"),
    }
    server = place[1]
    server.cli("plan", "export", "tabled", "--xlsx", str(server.data / "t.xlsx"))
    book = load_workbook(server.data / "t.xlsx")
    assert [cell.value for cell in book.worksheets[0][1]][:3] == ["node", "role", "name"]
    book.worksheets[0]["C3"] = "tabled-head"
    out = io.BytesIO()
    book.save(out)
    answer = client.call(
        "POST", "/api/plans/tabled/sheet", {"file": base64.b64encode(out.getvalue()).decode()}
    )
    assert [(e["path"], e["value"]) for e in answer["edits"]] == [
        (["nodes", "lead-1", "name"], "tabled-head")
    ]
    for bad in (b"PK\x03\x04 no workbook at all", b"\xff\xfe\x00n"):
        with pytest.raises(StoneError, match="XLSX"):
            client.call("POST", "/api/plans/tabled/sheet", {"file": base64.b64encode(bad).decode()})


def test_five_thousand_cells_with_forty_wrong_ones(client: Client) -> None:
    another(client, "wide", "  relay: {count: 200}\n".replace("  relay", "  relay"))
    plan = edit(client, "wide", ("roles/archive/count", 290))
    rows = [
        [
            "node",
            "name",
            "size",
            "station",
            "time_zone",
            "ntp",
            "dns",
            "domain",
            "provisioning",
            "address",
            "gateway",
        ]
    ]
    bad = 0
    for i, node in enumerate(plan["nodes"]):
        size = "colossal" if i % 12 == 0 and bad < 40 else "small"
        bad += size == "colossal"
        rows.append(
            [
                node["id"],
                f"wide-x{i}",
                size,
                "wide range",
                "Europe/Oslo",
                "10.44.0.5",
                "10.44.0.5",
                "wide.holm.example",
                "overlay",
                "",
                "10.44.20.1",
            ]
        )
    assert sum(len(row) - 1 for row in rows[1:]) >= 4900
    answer = client.call(
        "POST", "/api/plans/wide/sheet", {"text": "\n".join("\t".join(row) for row in rows)}
    )
    assert len(answer["wrong"]) == bad == 40
    assert {w["text"] for w in answer["wrong"]} == {"colossal"}
    done = client.call(
        "PATCH", "/api/plans/wide", {"version": plan["version"], "edits": answer["edits"]}
    )
    assert [node["name"] for node in done["nodes"]][:2] == ["wide-x0", "wide-x1"]
    assert sum(
        node["cells"]["provisioning"]["value"] == "overlay" for node in done["nodes"]
    ) == len(done["nodes"])


def test_four_clusters_from_a_table(client: Client) -> None:
    client.call("PUT", "/api/values/kelda", {"text": SHARED})
    table = (
        "name,title,bay,count.archive,archive.size,pool\n"
        "north,Northern,kelda-main,2,medium,kelda-survey\n"
        "south,Southern,kelda-main,2,,kelda-survey\n"
        "east,Eastern,ness-two,3,,ness-survey\n"
        "huge,Too large,kelda-main,9,,kelda-survey\n"
    )
    body = {
        "text": table,
        "kit": "gauge-collector",
        "package": "Gauge Collector 4.2.0",
        "include": ["kelda"],
    }
    found = client.call("POST", "/api/plans/table", body)
    assert [(one["name"], one["nodes"], bool(one["faults"])) for one in found["plans"]] == [
        ("north", 3, False),
        ("south", 3, False),
        ("east", 4, False),
        ("huge", 10, False),
    ]
    # nine that stand apart on four hosts
    assert "host-missing" in {f["code"] for f in found["plans"][3]["blockers"]}
    # as if built one after the other
    assert len({one["first_address"] for one in found["plans"]}) == 4
    assert found["made"] == []
    made = client.call("POST", "/api/plans/table", {**body, "make": True})
    assert made["made"] == ["north", "south", "east", "huge"]
    assert client.call("GET", "/api/plans/east")["nodes"][0]["cells"]["station"]["value"] == "west"
    north = client.call("GET", "/api/plans/north")
    assert [node["cells"]["size"] for node in north["nodes"]][1] == {
        "value": "medium",
        "origin": "group",
    }
    again = client.call(
        "POST",
        "/api/plans/table",
        {
            **body,
            "text": (
                table + "twin,a,kelda-main,x,,\ntwin,b,kelda-main,2,,\n,nameless,kelda-main,2,,\n"
            ),
        },
    )
    faults = [one["faults"][0] for one in again["plans"]]
    assert faults[0] == "plan “north” exists already"
    assert faults[-3:-1] == ["the name “twin” is there twice"] * 2
    assert "name" in faults[-1]
    with pytest.raises(StoneError, match="row 2: plan “north” exists already"):
        client.call("POST", "/api/plans/table", {**body, "make": True})


def test_a_plan_is_carried_over_to_the_other_room(client: Client) -> None:
    edit(client, "western", ("values/relay_to", "10.44.20.9"))
    found = client.call(
        "POST",
        "/api/plans/western/copy",
        {"name": "ness", "bay": "ness-two", "mapping": {"kelda-survey": "ness-survey"}},
    )
    assert found["left"] == [{"path": "values.relay_to", "value": "10.44.20.9"}]
    edit(client, "western", ("values/relay_to", None))
    plan = client.call("GET", "/api/plans/ness")
    assert {node["host"] for node in plan["nodes"]} <= {"tern", "whimbrel", "dunlin"}
    assert plan["nodes"][0]["cells"]["address"]["value"].startswith("10.45.20.")
    # its password is an entry of its own: no plan opens those of another
    secret = plan["nodes"][0]["cells"]["admin_password"]["value"]
    assert secret.startswith("keyring:plan/ness/")
    assert not [one for one in plan["findings"] if one["column"] == "admin_password"]
    text = client.text("/api/plans/ness/file")
    # comments travel too
    assert "# The gauges of the western shore" in text
    told = {
        one["text"]
        for one in client.call("GET", "/api/plans/ness/difference?plan=western")["differences"]
    }
    assert "Bay: kelda-main → ness-two" in told
    assert any(text.startswith("Pool: kelda-survey → ness-survey") for text in told)
    with pytest.raises(StoneError, match="has no bay"):
        client.call("POST", "/api/plans/western/copy", {"name": "x", "bay": "nowhere"})


def test_two_people_at_one_plan(client: Client) -> None:
    plan = another(client, "ours")
    mine = edit(client, "ours", ("values/station", "north"))
    with pytest.raises(StoneError, match="was changed by another user") as caught:
        client.call(
            "PATCH",
            "/api/plans/ours",
            {
                "version": plan["version"],
                "edits": [{"path": ["values", "station"], "value": "south"}],
            },
        )
    assert caught.value.code == "plan-changed"
    both = client.call(
        "PATCH",
        "/api/plans/ours",
        {
            "version": plan["version"],
            "edits": [{"path": ["values", "domain"], "value": "ours.holm.example"}],
        },
    )
    # what touches nothing of theirs is laid on top of it
    assert both["version"] == mine["version"] + 1
    assert (
        both["nodes"][0]["cells"]["station"]["value"],
        both["nodes"][0]["cells"]["domain"]["value"],
    ) == ("north", "ours.holm.example")
    told = client.call("GET", f"/api/plans/ours/difference?version={plan['version']}")[
        "differences"
    ]
    assert {one["label"] for one in told} == {"Station group", "Domain"}


def test_chances_and_the_difference_a_shared_value_would_make(client: Client) -> None:
    found = client.call("GET", "/api/plans/western/chances")
    assert 0 < found["p50_seconds"] <= found["p90_seconds"]
    told = client.call("GET", "/api/plans/western/check/shared?column=time_zone&value=Europe/Oslo")
    assert [one["text"] for one in told] == ["Time zone: UTC → Europe/Oslo for every node"]
    assert (
        client.call("GET", "/api/plans/western")["nodes"][0]["cells"]["time_zone"]["value"] == "UTC"
    )


def test_drives_of_a_bay_are_laid_out(
    client: Client, place: tuple[LabProcess, ServerProcess, Client]
) -> None:
    found = client.call("GET", "/api/estate/bays/kelda-main/layout?kind=HDD")
    assert [one["label"] for one in found][:2] == ["2 copies", "3 copies"]
    assert found[0]["usable_bytes"] > found[1]["usable_bytes"] > 0
    one_each = client.call("GET", "/api/estate/bays/kelda-main/layout?most=1&least_gib=1")
    assert one_each[0]["disks"] == one_each[0]["domains"]
    with pytest.raises(StoneError, match="has no matching free disk"):
        client.call("GET", "/api/estate/bays/kelda-main/layout?least_gib=999999")
    told = place[1].cli("plan", "layout", "--bay", "kelda-main", "--kind", "HDD").stdout
    assert "2 copies" in told
    assert "usable" in told


def test_a_workbook_that_unpacks_beyond_reason_is_refused(tmp_path: Path) -> None:
    import zipfile

    from nimble_stone.app import spreadsheet
    from nimble_stone.core.errors import FormatError

    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("xl/workbook.xml", b"\0" * (130 << 20))
    with pytest.raises(FormatError, match="unpacks to more than"):
        spreadsheet.read(out.getvalue())
    Workbook().save(tmp_path / "plain.xlsx")
    bomb = io.BytesIO()
    laughs = "".join(f'<!ENTITY l{n} "{f"&l{n - 1};" * 10}">' for n in range(1, 10))
    with zipfile.ZipFile(tmp_path / "plain.xlsx") as plain, zipfile.ZipFile(bomb, "w") as archive:
        for item in plain.infolist():
            text = plain.read(item).decode()
            if item.filename == "xl/worksheets/sheet1.xml":
                text = f'<!DOCTYPE x [<!ENTITY l0 "ha">{laughs}]>' + text.replace(
                    "<sheetData></sheetData>",
                    '<sheetData><row r="1"><c r="A1"'
                    ' t="inlineStr"><is><t>&l9;</t></is></c></row></sheetData>',
                )
                assert "&l9;" in text
            archive.writestr(item.filename, text)
    with pytest.raises(FormatError, match="not a readable XLSX file"):
        spreadsheet.read(bomb.getvalue())
    book = Workbook()
    assert book.active is not None
    book.active.append(["node", 12.0, "=1+1", None])
    book.save(tmp_path / "b.xlsx")
    # a formula that nobody worked out says nothing
    assert spreadsheet.read((tmp_path / "b.xlsx").read_bytes()) == [["node", "12"]]
    assert spreadsheet.csv_of([["=2+3", "-x", "-3", "plain"]]) == b"'=2+3,'-x,-3,plain\r\n"
    assert spreadsheet.read(b"'=2+3;'-x;-3\n") == [["=2+3", "-x", "-3"]]


def test_an_edit_is_answered_against_what_that_very_page_has(client: Client) -> None:
    """Two pages look at one version of a plan, but saw different worlds: the answer to one is never
    a difference from the other's.
    """
    old = another(client, "pages")
    rival = another(
        client,
        "rival",
        f"nodes: {{lead-1: {{address: {old['nodes'][1]['cells']['address']['value']}}}}}\n",
    )
    assert rival["id"] == "rival"
    new = client.call("GET", "/api/plans/pages")
    assert new["version"] == old["version"]
    assert new["tag"] != old["tag"]
    edits = {
        "version": old["version"],
        "edits": [{"path": ["values", "time_zone"], "value": "Europe/Oslo"}],
    }
    early = client.call("PATCH", f"/api/plans/pages?known={old['tag']}", edits)
    # what this page saw is remembered beside what the other one saw
    assert early["since"] == old["tag"]
    for _ in range(ANSWERS + 1):
        client.call("GET", "/api/plans/pages")
    late = client.call(
        "PATCH", f"/api/plans/pages?known={old['tag']}", edits | {"version": early["version"]}
    )
    # whole: this page's answer is no longer remembered
    assert not late.get("since")
    again = client.call(
        "PATCH",
        f"/api/plans/pages?known={late['tag']}",
        {"version": late["version"], "edits": [{"path": ["values", "time_zone"], "value": "UTC"}]},
    )
    assert again["since"] == late["tag"]
    assert {frozenset(node) for node in again["nodes"]} == {frozenset({"id", "cells"})}
    assert {frozenset(node["cells"]) for node in again["nodes"]} == {frozenset({"time_zone"})}


def test_licence_and_passwords_once_for_all_plans_of_a_table_then_all_run(client: Client) -> None:
    body = {
        "text": "name,bay,pool,count.archive\n"
        "outer,kelda-main,kelda-survey,2\ninner,kelda-main,kelda-survey,2\n",
        "kit": "gauge-collector",
        "package": "Gauge Collector 4.2.0",
    }
    plain = client.call("POST", "/api/plans/table", body)
    assert plain["licence"]
    codes = {(one["code"], one["column"]) for one in plain["plans"][0]["blockers"]}
    assert {("licence", "licence"), ("unanswered", "admin_password")} <= codes
    # what people must answer is a column to add, passwords are not
    assert plain["unanswered"] == [{"column": "station", "label": "Station group", "plans": 2}]
    body |= {"licence_by": "Mara Lindqvist", "passwords": True, "values": {"station": "west"}}
    ready = client.call("POST", "/api/plans/table", body)
    assert [(one["blockers"], one["passwords"]) for one in ready["plans"]] == [([], 1)] * 2
    assert ready["unanswered"] == []
    made = client.call("POST", "/api/plans/table", {**body, "make": True})
    assert made["made"] == ["outer", "inner"]
    references = set()
    for name in made["made"]:
        view = client.call("GET", f"/api/plans/{name}")
        assert view["licence_by"] == "Mara Lindqvist"
        references |= {node["cells"]["admin_password"]["value"] for node in view["nodes"]}
    # each plan has one of its own, in the keyring
    assert {one.split("/")[1] for one in references} == {"outer", "inner"}
    begun = client.call("POST", "/api/plans/runs", {"plans": ["outer", "nobody", "inner"]})
    assert [(one["plan"], bool(one["run"]), one["blockers"]) for one in begun] == [
        ("outer", True, []),
        ("nobody", False, []),
        ("inner", True, []),
    ]
    assert "nobody" in begun[1]["trouble"]
    for one in (begun[0], begun[2]):
        assert ended(client, one["run"])["state"] == "done"
    again = client.call("POST", "/api/plans/runs", {"plans": ["outer"]})
    assert "deployed already" in again[0]["trouble"]
    for one in (begun[0], begun[2]):
        client.call("POST", f"/api/runs/{one['run']}/undo", {})
        ended(client, one["run"])
