"""How data lies on a cluster's disks: the ways a product knows, the one the answers choose, and
what is said of it.
"""

from __future__ import annotations

from importlib.resources import files
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nimble_stone.core import checks, headroom, sizing, yaml_text
from nimble_stone.core.checks import Situation
from nimble_stone.core.findings import Finding
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.plan import redundancy
from nimble_stone.core.plan.model import Plan
from nimble_stone.core.plan.sheet import Sheet, resolve
from tests.core.test_resolution import ESTATE, KITS, PACKAGES, sheet_of

GIB = 1 << 30
TEXT = (files("nimble_stone.kits") / "ballast.yaml").read_text()


def ballast(
    nodes: dict[str, Any] | None = None, roles: dict[str, Any] | None = None, **values: Any
) -> Sheet:
    return sheet_of(
        "ballast",
        {
            "values": (
                {"pool": "kelda-survey", "net.copying.pool": "kelda-storage", "disk.data": "128"}
                | values
            ),
            "nodes": nodes or {},
            "roles": roles or {},
        },
    )


def told(sheet: Sheet) -> dict[str, Finding]:
    return {
        one.code: one
        for one in checks.check(Situation(sheet, ESTATE))
        if one.code.startswith("laying")
    }


def test_the_answers_choose_a_way_and_each_way_knows_the_answers_that_would() -> None:
    known = {way.layout.scheme.label: way for way in redundancy.ways(ballast())}
    assert list(known) == ["2 copies", "3 copies", "2 + 1 parity", "4 + 2 parity"]
    assert [label for label, way in known.items() if way.chosen] == ["2 copies"]
    assert known["2 copies"].layout.usable_bytes == 4 * 2 * 128 * GIB // 2
    edit = known["2 + 1 parity"].edits[0]
    assert (edit.path, edit.value) == (("values", "copies"), "2+1")
    found = redundancy.current(ballast(copies="2+1"))
    assert found is not None
    assert found.usable_bytes == 2 * (4 * 2 * 128 * GIB // 3)
    assert redundancy.current(ballast(copies="many")) is None
    # its ledger disk is no data disk
    assert redundancy.ways(sheet_of("tidebook", {"values": {"pool": "kelda-survey"}})) == []


@settings(max_examples=40, deadline=None)
@given(
    st.lists(st.integers(1, 12), min_size=4, max_size=4), st.sampled_from(["2", "3", "2+1", "4+2"])
)
def test_what_is_told_of_a_way_is_what_it_comes_to(counts: list[int], copies: str) -> None:
    sheet = ballast(
        {f"storage-{n}": {"disk.data.count": str(count)} for n, count in enumerate(counts, 1)},
        copies=copies,
    )
    found = redundancy.current(sheet)
    assert found is not None
    assert (found.raw_bytes, found.disks) == (sum(counts) * 128 * GIB, sum(counts))
    findings = told(sheet)
    # six hosts are needed, four there are
    assert ("laying-hosts" in findings) == (copies == "4+2")
    assert ("laying-waste" in findings) == (
        not found.reason and found.wasted_bytes > 0.1 * found.raw_bytes
    )
    assert sum(way.chosen for way in redundancy.ways(sheet)) == 1


def test_a_way_that_cannot_be_is_a_blocker_with_one_that_can() -> None:
    found = told(ballast(copies="4+2"))["laying-hosts"]
    assert found.severity == "blocker"
    assert found.message == "4 + 2 parity need 6 hosts; 4 have such disks."
    assert found.remedy is not None
    assert found.remedy.edit is not None
    assert (found.remedy.label, found.remedy.edit.value) == ("Use 2 + 1 parity", "2+1")


def test_no_protection_is_said_before_anything_is_built() -> None:
    kit = yaml_text.read(TEXT.replace("pieces: 1, spare: 1", "pieces: 1, spare: 0"), Kit, "x")
    sheet = resolve(
        Plan.model_validate(
            {
                "nimble-stone": "plan/1",
                "name": "p",
                "kit": "ballast",
                "bay": "kelda-main",
                "values": {"disk.data": "128"},
            }
        ),
        kit,
        PACKAGES["ballast"],
        ESTATE,
    )
    assert told(sheet)["laying-bare"].message == "Data is stored only once: any failure loses data."
    assert redundancy.ways(sheet)[0].layout.scheme.label == "one copy"


@pytest.mark.parametrize(
    ("old", "new", "word"),
    [
        ("disks: [data]", "disks: [lost]", "data_layout uses “lost”, which is not an extra disk"),
        (
            "answers: {copies: 2+1}",
            "answers: {copies: seven}",
            "to “seven”, which is not a choice of it",
        ),
        ("answers: {copies: 2+1}", "answers: {colour: red}", "which is not a setting of this kit"),
    ],
)
def test_wrong_kits_are_refused(old: str, new: str, word: str) -> None:
    with pytest.raises(yaml_text.Faults) as refused:
        yaml_text.read(TEXT.replace(old, new), Kit, "the kit")
    assert word in str(refused.value)
    assert "line " in str(refused.value)


def test_losses_follow_the_parity_that_was_chosen() -> None:
    role = KITS["ballast"].roles[0]
    assert [
        headroom.copies_of(ballast(copies=copies), role) for copies in ("2", "3", "2+1", "4+2")
    ] == [2, 3, 2, 3]


def with_load(tib: float, **values: Any) -> Sheet:
    """Ballast with a stated workload, in TiB."""
    return sheet_of(
        "ballast",
        {
            "load": {"usable": tib},
            "values": {
                "pool": "kelda-survey",
                "net.copying.pool": "kelda-storage",
                "disk.data": "128",
                **values,
            },
        },
    )


def stated(sheet: Sheet) -> list[Finding]:
    return [
        one
        for one in checks.check(Situation(sheet, ESTATE))
        if one.code in ("layout-short", "layout-tight")
    ]


def test_a_workload_that_the_disks_do_not_store_is_a_finding_whose_remedy_is_enough() -> None:
    found = stated(with_load(30))
    assert [(one.severity, one.code) for one in found] == [("blocker", "layout-short")]
    assert found[0].message == (
        "The data disks store 512 GiB in 2 copies; the workload is 30 TiB (usable capacity)."
    )
    remedy = found[0].remedy
    assert remedy is not None
    assert remedy.edit is not None
    assert remedy.edit.path == ("values", "disk.data")
    assert stated(with_load(30, **{"disk.data": str(remedy.edit.value)})) == []
    # a size that no product disk may have is not proposed
    beyond = stated(with_load(400))[0].remedy
    assert beyond is not None
    assert beyond.edit is None
    # it fits, but not when a host was lost
    tight = stated(with_load(0.45))
    assert [(one.severity, one.code) for one in tight] == [("caution", "layout-tight")]
    assert "384 GiB in 2 copies with 1 host lost" in tight[0].message
    assert stated(with_load(0.375)) == []


@settings(max_examples=40, deadline=None)
@given(
    st.floats(0.01, 60),
    st.integers(32, 16384),
    st.integers(1, 12),
    st.sampled_from(["2", "3", "2+1"]),
)
def test_load_layout_and_sizing_never_contradict_each_other(
    tib: float, gib: int, many: int, copies: str
) -> None:
    sheet = with_load(
        tib, **{"disk.data": str(gib), "disk.data.count": str(many), "copies": copies}
    )
    grown = redundancy.growth(sheet, "storage")
    assert grown is not None
    [proposal] = sizing.propose(
        sheet.kit,
        PACKAGES["ballast"].descriptor.sizes,
        {"usable": tib, "readers": 1},
        stored={"storage": grown},
    )
    nodes = len(sheet.nodes)
    carried = {one.count: one.carries["usable"] for one in proposal.curve}
    now = redundancy.current(sheet)
    assert now is not None
    if nodes in carried:
        assert carried[nodes] == pytest.approx(now.safe_bytes / (1 << 40), abs=0.001)
    chosen = proposal.chosen
    if chosen is not None and chosen.count <= nodes:
        assert all(one.code != "layout-short" for one in stated(sheet))
    if stated(sheet):
        assert chosen is None or chosen.count > nodes or chosen.carries["usable"] - tib < 0.001


@pytest.mark.parametrize(
    ("change", "why"),
    [
        (("unit: TiB, usual: 0.125", "unit: files, usual: 0.125"), "its unit is GiB or TiB"),
        (
            ('small: {readers: "n * 60"}', 'small: {usable: "n", readers: "n * 60"}'),
            "no formula may say how much fits",
        ),
    ],
)
def test_a_stored_load_is_told_by_disks_alone(change: tuple[str, str], why: str) -> None:
    assert change[0] in TEXT
    with pytest.raises(yaml_text.Faults) as refused:
        yaml_text.read(TEXT.replace(*change), Kit, "the kit")
    assert why in str(refused.value)
