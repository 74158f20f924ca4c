"""The plan read backwards, and the documents made of it."""

from __future__ import annotations

import re
from dataclasses import replace
from typing import Any, get_args

import pytest
from lxml import etree

from nimble_stone.app.kits import load_kits
from nimble_stone.core import report
from nimble_stone.core.acceptance import (
    KINDS,
    NOT_ASKED,
    Answer,
    Expected,
    Subject,
    Verdict,
    asked,
    cluster,
    disks,
    expectations,
    hardware,
    identity,
    judge,
    totals,
)
from nimble_stone.core.acceptance.model import Chart
from nimble_stone.core.acceptance.series import Limits, Seen
from nimble_stone.core.acceptance.workload import Done, Round, Work
from nimble_stone.core.kit.checks import CLUSTER_KINDS, AcceptanceCheck
from nimble_stone.core.kit.model import Kit
from tests.core.scene import sheet


def test_every_node_is_expected_as_it_was_planned() -> None:
    listed = expectations(sheet())
    assert len(listed) == 3 * 14 + 4
    found = {(item.node, item.kind): item.expected for item in listed}
    assert found["archive-1", "hardware"] == "4 vCPU, 32 GiB, 1 disk"
    assert found["archive-1", "boot"] == "starts from disk"
    assert found["lead-1", "address"] == "10.44.20.11/23"
    assert found["", "members"] == "western-arc-1, western-arc-2, western-lead"


def item(kind: str, wanted: Any, limit: float = 0) -> Expected:
    return Expected("p", "P", "n", kind, wanted, limit, "as planned")


def passes(one: Expected, found: Any) -> bool:
    return judge(one, Answer(found, "asked")).passed


def test_there_is_a_kind_for_every_word_that_a_kit_may_use() -> None:
    assert set(KINDS) == set(get_args(AcceptanceCheck.model_fields["kind"].annotation))
    assert {kind.id for kind in KINDS.values() if kind.of == "cluster"} == set(CLUSTER_KINDS)


@pytest.mark.parametrize("kit", sorted(load_kits()))
def test_every_check_of_every_kit_passes_on_what_it_expects_and_on_nothing_else(kit: str) -> None:
    other = {
        "running": hardware.Power(False, "paused (user)"),
        "autostart": False,
        "hardware": hardware.Given(hardware.Hardware(1, 1, 9)),
        "networks": hardware.Links(("elsewhere",)),
        "disks": disks.found_disks([1], []),
        "boot": "network",
        "host": hardware.Place("elsewhere"),
        "gateway": identity.Reached("10.9.9.9", False),
        "clock": 1e6,
        "port": identity.Port(1, False),
        "certificate": (identity.Shown("x", "expired"),),
        "one-lead": 2,
        "virtual": (cluster.Served("10.9.9.9", 1, False),),
        "balanced": (cluster.Balanced("x", ("y",)),),
        "reach": (asked.Pair("x", "y", reached=False),),
        "address": "10.9.9.9/8",
        "address6": "fd00::9/64",
        "series": Seen((), 1),
        "workload": Round(()),
        "call": "something else",
    }
    checks = load_kits()[kit].acceptance
    for check in checks:
        subject = Subject(sheet(), sheet().nodes[0] if check.of == "node" else None, check)
        wanted = KINDS[check.kind].expect(subject)
        if wanted is None:
            continue
        one = Expected(check.id, check.label, "", check.kind, wanted, check.limit, "as planned")
        if isinstance(wanted, Limits):
            assert passes(one, Seen((1.0,) * wanted.times))
        elif isinstance(wanted, Work):
            assert passes(one, Round(tuple(Done(label, 1, 0.1) for label in wanted.steps)))
        elif isinstance(wanted, asked.Wish):
            assert passes(one, wanted.equals)
        elif wanted not in ("", (), None) and wanted != identity.Reached(""):
            assert passes(one, wanted) or check.kind in ("address", "address6"), check.kind
        assert not passes(one, other.get(check.kind, ("something", "else"))), check.kind
        unknown = judge(one, Answer(None, "asked", unknown="no answer"))
        assert (unknown.passed, unknown.checked) == (False, False)
        assert unknown.found == "not known: no answer"


def test_nothing_found_never_passes_and_clocks_are_compared_in_seconds() -> None:
    assert judge(item("name", "west"), Answer(None, "asked")).found == "nothing"
    assert not passes(item("name", ""), "")
    assert not judge(item("name", "west"), NOT_ASKED).checked
    clock = item("clock", 0.0, 5)
    assert passes(clock, -4.96)
    for found in (5.04, float("nan"), float("inf"), None):
        assert not passes(clock, found)


def test_values_are_compared_not_the_words_for_them() -> None:
    """127.6 GiB were once as good as 128: both were said with the same words."""
    one = item("hardware", hardware.Given(hardware.Hardware(4, 128 << 30, 1)))
    almost = hardware.Given(hardware.Hardware(4, int(127.6 * (1 << 30)), 1))
    assert passes(one, hardware.Given(hardware.Hardware(4, (128 << 30) - 4096, 1)))
    verdict = judge(one, Answer(almost, "asked"))
    assert not verdict.passed
    assert "127.600 GiB" in verdict.found
    assert passes(item("address6", "fd00:0:0::1/64"), "fd00::1/64")
    assert not passes(item("address", "10.0.0.1/24"), "not an address")


def test_what_is_stored_and_what_runs_are_both_looked_at() -> None:
    """Changed by hand: at once, from the next start, or only outside the definition."""
    planned = hardware.Hardware(4, 8 << 30, 2)
    one = item("hardware", hardware.Given(planned))
    assert passes(one, hardware.Given(planned, planned))
    for stored, live, words in (
        (planned, replace(planned, vcpu=2), "2 vCPU, 8 GiB, 2 disks now; 4 vCPU, 8 GiB, 2 disks"),
        (replace(planned, disks=1), planned, "4 vCPU, 8 GiB, 1 disk from its next start"),
        (replace(planned, memory_bytes=4 << 30), None, "4 vCPU, 4 GiB, 2 disks"),
    ):
        verdict = judge(one, Answer(hardware.Given(stored, live), "asked"))
        assert not verdict.passed
        assert words in verdict.found
    nets = item("networks", hardware.Links(("survey", "storage")))
    both = ("survey", "storage")
    assert passes(nets, hardware.Links(both, both))
    for found, words in (
        (hardware.Links(both, both, ("storage",)), "survey, storage (link down)"),
        (hardware.Links(both, ("survey",)), "survey now; survey, storage from its next start"),
        (hardware.Links(("survey", "other")), "survey, other"),
    ):
        verdict = judge(nets, Answer(found, "asked"))
        assert not verdict.passed
        assert words in verdict.found
    paused = judge(
        item("running", hardware.Power(True)),
        Answer(hardware.Power(False, "paused (user)"), "asked"),
    )
    assert (paused.passed, paused.found) == (False, "paused (user)")


def test_disks_are_compared_by_their_sizes_and_by_who_may_read_their_files() -> None:
    modes = [("a-disk0", "0600"), ("a-readings1", "0640"), ("a-config.iso", "")]
    one = item("disks", disks.found_disks([20 << 30, 32 << 30], []))
    assert passes(one, disks.found_disks([32 << 30, 20 << 30], modes))
    for capacities, rights, words in (
        ([20 << 30, 48 << 30], [], "2 disks: 48 GiB, 20 GiB"),
        # one sector less is another size, and reads otherwise
        ([20 << 30, (32 << 30) - 512], [], f"2 disks: {(32 << 30) - 512} B, 20 GiB"),
        ([20 << 30], [], "1 disk: 20 GiB"),
        (
            [32 << 30, 20 << 30],
            [("a-config.iso", "0644"), ("a-disk0", "0600")],
            "2 disks: 32 GiB, 20 GiB; open to all accounts of the host: a-config.iso (0644)",
        ),
    ):
        verdict = judge(one, Answer(disks.found_disks(capacities, rights), "asked"))
        assert (verdict.passed, verdict.found) == (False, words)


def test_many_checks_of_one_kind_are_judged_each_by_its_own_limit() -> None:
    kit = sheet().kit
    clock = next(check for check in kit.acceptance if check.kind == "clock")
    strict = clock.model_copy(update={"id": "clock-strict", "label": "Strict", "limit": 0.5})
    both = kit.model_copy(update={"acceptance": (clock, strict)})
    listed = [one for one in expectations(replace(sheet(), kit=both)) if one.node == "lead-1"]
    verdicts = {one.proof: passes(one, 1.0) for one in listed}
    assert verdicts == {clock.id: True, "clock-strict": False}


def test_a_check_that_cannot_be_asked_so_is_refused_where_it_is_written() -> None:
    kit = sheet().kit.model_dump(mode="json", by_alias=True)
    check = kit["acceptance"][0]
    for changed, message in (
        ([*kit["acceptance"], check], "share the id"),
        ([check | {"of": "cluster"}], "checks the node, not the cluster"),
    ):
        with pytest.raises(ValueError, match=message):
            Kit.model_validate(kit | {"acceptance": changed})


def test_reports_carry_every_verdict_and_escape_what_machines_say() -> None:
    verdicts = [
        Verdict("a", "Name", "n1", "western", "<script>alert(1)</script>\x00", False, "GET"),
        Verdict("b", "Role", "n1", "lead", "lead", True, "GET"),
        Verdict("m", "Members", "", "all", "all", True, "GET"),
    ]
    root = etree.fromstring(
        report.junit("run", "2026-11-23T10:00:00Z", verdicts, {"n1": "western-lead"})
    )
    assert (root.get("tests"), root.get("failures")) == ("3", "1")
    assert [suite.get("name") for suite in root] == ["western-lead", "cluster"]
    page = report.html("Western", "2 of 3", "now", verdicts, {"n1": "western-lead"})
    assert "<script>alert" not in page
    assert "http" not in page.replace("http-equiv", "")
    assert totals(verdicts) == {"passed": 2, "failed": 1, "open": 0}


def test_a_series_is_drawn_in_the_report() -> None:
    chart = Chart((4.0, 8.0, 2.0), "ms", 4.0)
    drawn = Verdict("t", "Time", "", "x", "median 4 ms", True, "asked", chart=chart)
    text = report.html("Western", "1 of 1", "now", [drawn], {})
    points = re.findall(r'points="([^"]+)"', text)
    assert [point.split(",") for point in points[0].split()] == [
        ["0.0", "16.0"],
        ["90.0", "2.0"],
        ["180.0", "23.0"],
    ]
    assert "3 values, the highest 8 ms" in text


def test_who_must_reach_the_nodes_is_each_other_their_hosts_or_bays() -> None:
    one = sheet()
    check = AcceptanceCheck(id="r", label="Reached", kind="reach", of="cluster", ports=(80,))
    by = {
        source: asked.pairs(Subject(one, None, check.model_copy(update={"source": source})))
        for source in ("nodes", "hosts", "ness-two, {name}")
    }
    count = len(one.nodes)
    assert [len(by[source] or ()) for source in ("nodes", "hosts")] == [count * (count - 1), count]
    hosts = by["hosts"] or ()
    assert {pair.source for pair in hosts} == {node.value("host") for node in one.nodes}
    assert {pair.source for pair in by["ness-two, {name}"] or ()} == {
        "ness-two",
        one.nodes[0].name,
    }
    assert asked.mesh(hosts) is None
    assert asked.mesh(by["nodes"] or ()) is not None


def test_of_many_members_it_is_said_which_are_missing() -> None:
    kind = KINDS["members"]
    wanted = tuple(f"tide-{number:03}" for number in range(300))
    item = Expected("members", "All members joined", "", "members", wanted, 0, kind.say(wanted))
    assert item.expected == "300 members: tide-000, tide-001, tide-002 and 297 more"
    fine = judge(item, Answer(wanted, "asked"))
    assert (fine.passed, fine.found) == (True, item.expected)
    other = judge(item, Answer((*wanted[:-2], "stranger"), "asked"))
    assert not other.passed
    assert other.found == "299 members; missing: tide-298, tide-299; not planned: stranger"
    few = judge(replace(item, wanted=wanted[:3]), Answer(wanted[:2], "asked"))
    assert few.found == "tide-000, tide-001"
