"""Checks that measure, that connect, and that do a workload: what is judged, said and drawn."""

from __future__ import annotations

import json
from dataclasses import asdict, replace
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from nimble_stone.core.acceptance import Answer, Expected, expectations, judge, verdict_of
from nimble_stone.core.acceptance.series import Limits, Seen
from nimble_stone.core.acceptance.workload import Done, Round
from nimble_stone.core.kit.checks import AcceptanceCheck
from tests.core.scene import sheet

CALL = {"path": "/status"}


def check(**more: Any) -> AcceptanceCheck:
    return AcceptanceCheck.model_validate({"id": "x", "label": "X", **more})


def expected(one: AcceptanceCheck) -> list[Expected]:
    kit = sheet().kit.model_copy(update={"acceptance": (one,)})
    return expectations(replace(sheet(), kit=kit))


def latency(**more: Any) -> Expected:
    call = {"kind": "series", "call": CALL, "value": "ms:", "unit": "ms"}
    return expected(check(**call, **more))[0]


@pytest.mark.parametrize(
    ("more", "values", "passed"),
    [
        ({}, (1.0, 900.0), True),
        ({"at_most": "5"}, (1.0, 2.0, 900.0), True),
        ({"at_most": "5"}, (1.0, 6.0, 7.0), False),
        ({"at_most": "5", "worst": "20"}, (1.0, 2.0, 21.0), False),
        ({"at_least": "100"}, (90.0, 101.0, 102.0), True),
        ({"at_least": "100"}, (90.0, 99.0, 102.0), False),
        ({"at_most": "5", "limit": 0.5}, (5.4,), True),
    ],
)
def test_median_and_worst_of_a_series_are_judged(
    more: dict[str, Any], values: tuple[float, ...], passed: bool
) -> None:
    verdict = judge(latency(**more), Answer(Seen(values, 0, "ms"), "asked"))
    assert verdict.passed is passed
    assert verdict.chart is not None
    assert verdict.chart.values == values


def test_an_answer_without_a_value_fails_a_series_and_says_so() -> None:
    verdict = judge(latency(at_most="5"), Answer(Seen((1.0, 2.0), 3, "ms"), "asked"))
    assert not verdict.passed
    assert verdict.found == "median 1.5 ms, worst 2 ms, 2 values; 3 of 5 answers had none"
    nothing = judge(latency(), Answer(Seen((), 20), "asked"))
    assert (nothing.passed, nothing.chart) == (False, None)
    assert nothing.found == "no value in 20 answers"
    lost = judge(latency(), Answer(None, "asked", unknown="no answer"))
    assert (lost.checked, lost.chart) == (False, None)


def test_what_a_series_must_keep_is_said_and_templates_are_filled() -> None:
    said = latency(at_most="{prefix}", worst="900").expected
    assert said == "median at most 23 ms, worst at most 900 ms"
    assert latency().expected == "20 values"


@given(st.lists(st.floats(0, 1e6), min_size=1, max_size=50), st.floats(0, 1e6))
def test_a_series_that_passes_has_no_value_above_its_worst(
    values: list[float], worst: float
) -> None:
    wanted = Limits(len(values), worst=worst)
    one = replace(latency(), wanted=wanted)
    verdict = judge(one, Answer(Seen(tuple(values)), "asked"))
    assert verdict.passed == all(value <= worst for value in values)
    assert verdict_of(json.loads(json.dumps(asdict(verdict)))) == verdict


def test_ports_that_a_node_does_not_reach_are_named() -> None:
    one = expected(check(kind="reach", of="cluster", ports=[2380, 2379]))[0]
    right = judge(one, Answer(one.wanted, "asked"))
    assert (right.passed, right.found) == (True, "6 of 6 pairs")
    first = replace(one.wanted[0], reached=False, shut=(2379,))
    wrong = judge(one, Answer((first, *one.wanted[1:]), "asked"))
    assert not wrong.passed
    assert wrong.found == f"5 of 6 pairs; lost: {first.source} → {first.target}:2379"
    silent = replace(first, shut=(), asked=False)
    worse = judge(one, Answer((silent, first, *one.wanted[2:]), "asked"))
    assert worse.found == (
        f"4 of 6 pairs; lost: {first.source} → {first.target}:2379;"
        f" could not be asked: {first.source}"
    )
    assert worse.mesh is not None
    assert worse.mesh.silent == (0,)
    assert verdict_of(json.loads(json.dumps(asdict(worse)))) == worse


def workload(**more: Any) -> Expected:
    steps = [{"label": "write", "call": CALL}, {"label": "read", "on": "others", "call": CALL}]
    return expected(check(kind="workload", of="cluster", workload=steps, **more))[0]


def test_a_workload_passes_when_all_is_done_in_time_and_removed() -> None:
    one = workload(at_most="5")
    assert one.expected == "write → read, within 5 s"
    done = (Done("write", 1, 0.5), Done("read", 2, 1.25))
    right = judge(one, Answer(Round(done), "asked"))
    assert (right.passed, right.found) == (True, "write 0.50 s → read by 2 nodes 1.25 s")
    for found, words in (
        (Round(done[:1]), "write 0.50 s"),
        (Round((Done("write", 1, 9.0), done[1])), "write 9.00 s → read by 2 nodes 1.25 s"),
        (Round(done, "forget: refused"), "not removed: forget: refused"),
        (Round((done[0], Done("read", 2, 1.0, "m2: got “”"))), "read by 2 nodes: m2: got “”"),
    ):
        verdict = judge(one, Answer(found, "asked"))
        assert not verdict.passed
        assert words in verdict.found


def test_a_step_for_others_is_left_out_where_there_is_one_node() -> None:
    one = workload(roles=["lead"])
    assert one.expected == "write"


@pytest.mark.parametrize(
    ("wrong", "why"),
    [
        ({"kind": "series"}, "has no call"),
        ({"kind": "workload", "of": "cluster"}, "has no workload"),
        ({"kind": "workload", "workload": [{"label": "w", "call": CALL}]}, "checks the cluster"),
        (
            {
                "kind": "workload",
                "of": "cluster",
                "workload": [{"label": "w", "call": CALL, "value": "$["}],
            },
            "“w”: value:",
        ),
        ({"kind": "series", "call": CALL, "times": 1}, "greater than or equal to 2"),
    ],
)
def test_a_check_that_cannot_be_made_is_refused(wrong: dict[str, Any], why: str) -> None:
    with pytest.raises(ValidationError, match=why):
        check(**wrong)
