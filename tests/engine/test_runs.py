"""Runs on the stand-ins through the real server: the course of things, trouble, holds, retries,
taking back.
"""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

import pytest
from lxml import etree

from nimble_stone.cli.client import Client
from nimble_stone.core.errors import StoneError
from nimble_stone.lab.scenario import demo
from tests.support.processes import PASSWORD, LabProcess, ServerProcess, ended, ready_plan, wait_for
from tests.support.raw import ssh


def plan_text(name: str, bay: str = "kelda-main", pool: str = "kelda-survey") -> str:
    return (
        demo.PLAN.replace("name: western", f"name: {name}")
        .replace("bay: kelda-main", f"bay: {bay}")
        .replace("pool: kelda-survey", f"pool: {pool}")
    )


def start(client: Client, plan: str) -> str:
    found = client.call("POST", f"/api/plans/{plan}/run")
    assert found["run"], found["plan"]["findings"]
    return str(found["run"])


def undo(client: Client, run: str) -> None:
    client.call("POST", f"/api/runs/{run}/undo", {})
    assert ended(client, run, states=("undone",))["state"] == "undone"


def ours(lab: LabProcess) -> list[str]:
    """Volumes of ours and guests that no bedrock explains."""
    found = []
    for name, host in lab.show()["hosts"].items():
        bedrock = {
            guest.name for plan in lab.plan.hosts if plan.name == name for guest in plan.bedrock
        }
        found += [
            *(volume for volume in host["volumes"] if volume.startswith("ns-")),
            *(guest for guest in host["guests"] if guest not in bedrock),
        ]
    return found


def test_three_nodes_are_rolled_out_proved_reported_and_taken_back(
    client: Client, lab: LabProcess, server: ServerProcess, tmp_path: Path
) -> None:
    run = start(client, "western")
    done = ended(client, run)
    assert done["state"] == "done", [
        (s["key"], s["message"]) for s in done["steps"] if s["state"] == "failed"
    ]
    assert len(done["proofs"]) == 46
    assert all(proof["passed"] for proof in done["proofs"])
    order = {s["key"]: s["started_at"] for s in done["steps"]}
    assert order["token/lead-1"] < order["start/archive-1"]
    assert order["form/cluster"] > max(order["join/archive-1"], order["join/archive-2"])
    hosts = {node["host"] for node in done["nodes"]}
    # once per datastore
    assert (
        sum(
            line.startswith("uploaded ns-base-")
            for name in hosts
            for line in lab.show()["hosts"][name]["log"]
        )
        == 3
    )
    # the same content has the same name everywhere
    assert len({volume for volume in ours(lab) if volume.startswith("ns-base-")}) == 1

    transcript = client.call("GET", f"/api/runs/{run}/transcript?step=define/lead-1")
    assert any(
        "virsh -q -c qemu:///system define --validate" in entry["command"] for entry in transcript
    )
    joins = json.dumps(
        client.call("GET", f"/api/runs/{run}/transcript?step=join/archive-1"), ensure_ascii=False
    )
    assert "••••••" in joins
    assert "services are up" in client.call("GET", f"/api/runs/{run}/console?node=lead-1")["text"]

    root = etree.fromstring(client.text(f"/api/runs/{run}/acceptance.xml").encode())
    assert (root.get("tests"), root.get("failures")) == ("46", "0")
    assert "All 46 acceptance checks passed" in client.text(f"/api/runs/{run}/acceptance.html")

    again = client.call("POST", "/api/plans/western/check")
    # its own guests do not block it
    assert not [finding for finding in again["findings"] if finding["severity"] == "blocker"]
    with pytest.raises(StoneError, match="is deployed already"):
        client.call("POST", "/api/plans/western/run")
    assert f"run/{run}/token" in client.call("GET", "/api/secrets")
    undo(client, run)
    assert ours(lab) == []
    assert not any(name.startswith("run/") for name in client.call("GET", "/api/secrets"))
    bedrock = {guest.name for host in lab.plan.hosts for guest in host.bedrock}
    assert bedrock <= {guest for host in lab.show()["hosts"].values() for guest in host["guests"]}


def test_a_second_run_that_wants_the_same_name_or_address_is_refused_at_its_check(
    client: Client,
) -> None:
    ready_plan(client, plan_text("first"))
    run = start(client, "first")
    ready_plan(
        client, plan_text("second") + "nodes:\n  lead-1: {name: first-lead, address: 10.44.20.11}\n"
    )
    found = client.call("POST", "/api/plans/second/run")
    assert found["run"] == ""
    assert {"claimed-name", "claimed-address"} <= {
        finding["code"] for finding in found["plan"]["findings"]
    }
    assert ended(client, run)["state"] == "done"
    undo(client, run)


def test_hold_stops_before_the_next_step_and_going_on_finishes(
    client: Client, lab: LabProcess
) -> None:
    ready_plan(client, plan_text("held"))
    lab.turn("all", speed=8)
    try:
        run = start(client, "held")
        wait_for(
            lambda: any(
                s["state"] == "waiting" for s in client.call("GET", f"/api/runs/{run}")["steps"]
            ),
            60,
            "a wait",
        )
        assert client.call("POST", f"/api/runs/{run}/hold", {})["state"] == "held"
        wait_for(
            lambda: (
                not any(
                    s["state"] in ("working", "waiting")
                    for s in client.call("GET", f"/api/runs/{run}")["steps"]
                )
            ),
            60,
            "rest",
        )
        rest = client.call("GET", f"/api/runs/{run}")
        assert rest["state"] == "held"
        assert any(s["state"] == "planned" for s in rest["steps"])
        lab.turn("all", speed=400)
        client.call("POST", f"/api/runs/{run}/resume", {})
        assert ended(client, run)["state"] == "done"
    finally:
        lab.turn("all", speed=400)
    undo(client, run)


def test_a_transfer_that_is_cut_is_tried_again_by_itself_and_made_once(
    client: Client, lab: LabProcess
) -> None:
    view = ready_plan(client, plan_text("cut"))
    host = next(node["host"] for node in view["nodes"] if node["id"] == "lead-1")
    lab.turn(host, cut_after=600_000)
    run = start(client, "cut")
    done = ended(client, run)
    assert done["state"] == "done", done["sentence"]
    carry = next(s for s in done["steps"] if s["key"] == "carry/kelda-shared")
    assert carry["attempt"] == 2
    assert any(event["kind"] == "try-again" for event in done["events"])
    undo(client, run)
    assert ours(lab) == []


def test_a_host_that_dies_in_mid_transfer_fails_the_step_and_retry_completes(
    client: Client, lab: LabProcess
) -> None:
    view = ready_plan(client, plan_text("dies"))
    host = next(node["host"] for node in view["nodes"] if node["id"] == "archive-1")
    lab.turn(host, rate=2000.0)
    run = start(client, "dies")
    wait_for(
        lambda: (
            "working"
            in {
                s["state"]
                for s in client.call("GET", f"/api/runs/{run}")["steps"]
                if s["kind"] == "carry" and s["host"] == host
            }
        ),
        30,
        "the transfer",
    )
    lab.turn(host, unreachable=True, rate=12e6)
    stuck = ended(client, run)
    failed = next(s for s in stuck["steps"] if s["state"] == "failed")
    assert (stuck["state"], failed["attempt"], failed["host"]) == ("trouble", 3, host)
    assert "cannot be reached" in failed["message"] or "was lost" in failed["message"]
    lab.turn(host, unreachable=False)
    client.call("POST", f"/api/runs/{run}/retry", {})
    assert ended(client, run)["state"] == "done"
    undo(client, run)
    assert ours(lab) == []


def test_a_changed_host_key_blocks_the_run_and_says_why_until_a_person_forgets_the_old_one(
    client: Client, lab: LabProcess
) -> None:
    ready_plan(client, plan_text("rekeyed") + "nodes:\n  lead-1: {host: skua}\n")
    lab.turn("skua", new_host_key=True)
    try:
        found = client.call("POST", "/api/plans/rekeyed/run")
        finding = next(f for f in found["plan"]["findings"] if f["code"] == "host-key-changed")
        assert found["run"] == ""
        assert "was pinned" in finding["message"]
        client.call("DELETE", "/api/estate/hosts/skua/pin")
        run = start(client, "rekeyed")
        assert ended(client, run)["state"] == "done"
        undo(client, run)
    finally:
        lab.turn("skua", new_host_key=False)
        client.call("DELETE", "/api/estate/hosts/skua/pin")


def test_a_full_datastore_fails_the_step_in_plain_words_and_retry_completes(
    client: Client, lab: LabProcess
) -> None:
    view = ready_plan(client, plan_text("full"))
    host = next(node["host"] for node in view["nodes"] if node["id"] == "archive-1")
    # slow enough that it fills while the disk travels
    lab.turn(host, rate=2000.0)
    run = start(client, "full")
    wait_for(
        lambda: (
            "working"
            in {
                s["state"]
                for s in client.call("GET", f"/api/runs/{run}")["steps"]
                if s["kind"] == "carry"
            }
        ),
        30,
        "the transfer",
    )
    lab.turn(host, full=True, rate=12e6)
    stuck = ended(client, run)
    assert stuck["state"] == "trouble"
    failed = next(s for s in stuck["steps"] if s["state"] == "failed")
    assert "No space left on device" in failed["message"]
    assert stuck["sentence"]["action"]["kind"] == "retry"
    lab.turn(host, full=False)
    client.call("POST", f"/api/runs/{run}/retry", {})
    assert ended(client, run)["state"] == "done"
    undo(client, run)


@pytest.mark.parametrize(
    ("trouble", "step"), [("never-boots", "boot"), ("never-ready", "services")]
)
def test_a_guest_that_never_comes_up_is_waited_for_and_can_be_taken_back_at_once(
    client: Client, lab: LabProcess, trouble: str, step: str
) -> None:
    name = f"late-{step}"
    ready_plan(client, plan_text(name))
    lab.turn("all", guests={f"{name}-lead": trouble})
    run = start(client, name)
    wait_for(
        lambda: (
            next(
                s
                for s in client.call("GET", f"/api/runs/{run}")["steps"]
                if s["key"] == f"{step}/lead-1"
            )["state"]
            == "waiting"
        ),
        60,
        "the wait",
    )
    waiting = client.call("GET", f"/api/runs/{run}")
    assert waiting["sentence"]["strong"].endswith(step)
    undo(client, run)
    lab.turn("all", guests={f"{name}-lead": ""})
    assert ours(lab) == []


@pytest.mark.parametrize("with_disks", [False, True])
def test_a_vm_removed_by_hand_is_made_again_on_retry(
    client: Client, lab: LabProcess, with_disks: bool
) -> None:
    name = f"byhand{with_disks:d}"
    lab.turn("all", guests={f"{name}-lead": "never-ready"})
    view = ready_plan(client, plan_text(name))
    lead = next(node for node in view["nodes"] if node["id"] == "lead-1")
    run = start(client, name)

    def waits() -> bool:
        steps = client.call("GET", f"/api/runs/{run}")["steps"]
        return next(s for s in steps if s["key"] == "services/lead-1")["state"] == "waiting"

    wait_for(waits, 60, "the wait")
    virsh = "virsh -q -c qemu:///system"
    ssh(lab, lead["host"], f"{virsh} destroy {name}-lead", "")
    ssh(lab, lead["host"], f"{virsh} undefine {name}-lead", "")
    if with_disks:
        store = lead["cells"]["datastore"]["value"]
        ssh(lab, lead["host"], f"{virsh} vol-delete ns-{run}-{name}-lead-disk0 --pool {store}", "")
    stuck = ended(client, run)
    assert stuck["state"] == "trouble"
    failed = next(s for s in stuck["steps"] if s["state"] == "failed")
    assert "is no longer on" in failed["message"]
    lab.turn("all", guests={f"{name}-lead": ""})
    client.call("POST", f"/api/runs/{run}/retry", {})
    done = ended(client, run)
    assert done["state"] == "done"
    tries = {step["key"]: step["attempt"] for step in done["steps"]}
    assert tries["define/lead-1"] == 2
    assert tries["clone/lead-1"] == 1 + with_disks
    assert tries["medium/lead-1"] == 1
    assert {tries[f"define/archive-{n}"] for n in (1, 2)} == {1}
    told = [e["kind"] for e in done["events"] if e["step"] == "define/lead-1"]
    assert "no-longer" in told
    undo(client, run)
    assert ours(lab) == []


def test_an_address_that_answers_already_stops_the_run_with_its_evidence(
    client: Client, lab: LabProcess
) -> None:
    view = ready_plan(client, plan_text("taken"))
    lab.turn("all", occupied=[view["nodes"][1]["cells"]["address"]["value"]])
    found = client.call("POST", "/api/plans/taken/run")
    lab.turn("all", occupied=[])
    assert found["run"] == ""
    finding = next(f for f in found["plan"]["findings"] if f["code"] == "address-answers")
    assert re.search(r"52:54:00:\S+ answers on br-survey of", finding["message"])
    assert finding["remedy"]["edit"]["value"].startswith("10.44.20.")


def test_a_guest_somebody_else_made_is_never_touched(client: Client, lab: LabProcess) -> None:
    """A foreign guest takes the name after the check: the step refuses, and taking back leaves it
    alone.
    """
    view = ready_plan(client, plan_text("foreign"))
    lead = next(node for node in view["nodes"] if node["id"] == "lead-1")
    lab.turn(lead["host"], slow_s=0.4)
    run = start(client, "foreign")
    ssh(
        lab,
        lead["host"],
        "virsh -q -c qemu:///system define --validate /dev/stdin",
        "<domain type='kvm'><name>foreign-lead</name><memory>1</memory></domain>",
    )
    stuck = ended(client, run)
    lab.turn(lead["host"], slow_s=0)
    assert stuck["state"] == "trouble"
    assert "not created by this run" in next(
        s["message"] for s in stuck["steps"] if s["state"] == "failed"
    )
    client.call("POST", f"/api/runs/{run}/undo", {})
    wait_for(
        lambda: (
            client.call("GET", f"/api/runs/{run}")["sentence"]["action"]["kind"] == "undo"
            or client.call("GET", f"/api/runs/{run}")["state"] == "undone"
        ),
        60,
        "taking back",
    )
    assert "foreign-lead" in lab.show()["hosts"][lead["host"]]["guests"]
    ssh(lab, lead["host"], "virsh -q -c qemu:///system undefine foreign-lead", "")
    client.call("POST", f"/api/runs/{run}/undo", {})
    assert ended(client, run, states=("undone",))["state"] == "undone"
    assert ours(lab) == []


def test_skipping_needs_a_reason_and_is_journalled(client: Client, lab: LabProcess) -> None:
    ready_plan(client, plan_text("skipped"))
    run = start(client, "skipped")
    with pytest.raises(StoneError, match="reason"):
        client.call("POST", f"/api/runs/{run}/skip", {"steps": ["boot/lead-1"]})
    with pytest.raises(StoneError, match="failed"):
        client.call(
            "POST", f"/api/runs/{run}/skip", {"steps": ["form/cluster"], "reason": "because"}
        )
    ended(client, run)
    undo(client, run)


def test_a_second_rollout_at_the_same_addresses_is_proved_though_its_guests_have_new_keys(
    client: Client, lab: LabProcess
) -> None:
    ready_plan(client, plan_text("twice"))
    for _ in range(2):
        run = start(client, "twice")
        done = ended(client, run)
        assert done["state"] == "done", [
            (p["label"], p["found"]) for p in done["proofs"] if not p["passed"]
        ]
        undo(client, run)


def journal(client: Client, run: str) -> list[dict[str, Any]]:
    return list(client.call("GET", f"/api/runs/{run}")["events"])


def test_the_journal_tells_the_whole_course(client: Client) -> None:
    ready_plan(client, plan_text("told"))
    run = start(client, "told")
    done = ended(client, run)
    kinds = [event["kind"] for event in journal(client, run)]
    assert kinds[0] == "run-started"
    assert kinds[-1] == "proved"
    for step in done["steps"]:
        own = [event["kind"] for event in journal(client, run) if event["step"] == step["key"]]
        assert own[0] == "begun"
        assert own[-1] == "done"
    assert PASSWORD not in json.dumps(journal(client, run))
    undo(client, run)
