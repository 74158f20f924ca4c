"""The plan read backwards, and the documents made of it."""

from __future__ import annotations

from lxml import etree

from nimble_stone.core import report
from nimble_stone.core.acceptance import Expected, Verdict, expectations, judge, totals
from tests.core.scene import sheet


def test_every_node_is_expected_as_it_was_planned() -> None:
    listed = expectations(sheet())
    assert len(listed) == 3 * 10 + 2
    found = {(item.node, item.kind): item.expected for item in listed}
    assert found["archive-1", "hardware"] == "4 vCPU, 32 GiB, 1 disk"
    assert found["lead-1", "address"] == "10.44.20.11/23"
    assert found["", "members"] == "western-arc-1, western-arc-2, western-lead"


def test_nothing_found_never_passes_and_clocks_are_compared_in_seconds() -> None:
    item = Expected("p", "P", "n", "name", "", 0)
    assert not judge(item, "", "").passed
    clock = Expected("c", "Clock", "n", "clock", "within 5 s", 5)
    assert judge(clock, "-4.9 s", "").passed
    for found in ("+5.1 s", "the node tells no time", "nan s", ""):
        assert not judge(clock, found, "").passed


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
