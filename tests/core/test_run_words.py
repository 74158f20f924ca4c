"""What is said of a run, cell by cell: page, lists, tab and terminal say the same."""

from __future__ import annotations

import re
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimble_stone.core.run_words import (
    EVENTS,
    STATES,
    Checks,
    RunWords,
    StepSeen,
    facts_of,
    words_of,
)
from nimble_stone.core.runs.states import ACTIVE, ENDED


def test_nodes_that_stand_are_deployed_until_their_turn_has_come() -> None:
    def seen(node: str, kind: str, state: str) -> StepSeen:
        return StepSeen(node, f"west-{node}", kind, kind, state, "")

    half = [
        seen("lead", "swap", "done"),
        seen("lead", "boot", "waiting"),
        seen("arc-1", "clone", "done"),
        seen("arc-1", "swap", "planned"),
        seen("arc-2", "leave", "planned"),
        seen("arc-2", "retire", "planned"),
        seen("arc-2", "start", "planned"),
        seen("rel-1", "clone", "working"),
    ]
    facts = facts_of("running", half, others=["lead", "arc-1", "arc-2"])
    assert words_of(facts).before == "2 of 4 nodes deployed, 1 deploying, 1 changing. "


def step(node: str, state: str, kind: str = "boot", message: str = "", **more: Any) -> StepSeen:
    return StepSeen(
        node,
        f"west-{node}" if node else "",
        {"boot": "Boot", "carry": "Copy image to kelda-shared", "define": "Define VM"}[kind],
        kind,
        state,
        message,
        **more,
    )


LAID = [step("lead", "done"), step("arc-1", "done"), step("arc-2", "done")]
HALF = [step("lead", "done"), step("arc-1", "waiting"), step("arc-2", "planned")]
BROKEN = [
    step("lead", "done"),
    step("arc-1", "planned"),
    step("arc-2", "failed", message="no boot within 4 min"),
]
TABLE: list[
    tuple[str, str, list[StepSeen], dict[str, Any], tuple[str, str, str, str, str, str]]
] = [
    # what, state, steps, more; then sentence, button, short, plans list, tab, terminal line
    (
        "shared step",
        "running",
        [step("", "working", "carry"), *(step(n, "planned") for n in ("lead", "arc-1", "arc-2"))],
        {},
        (
            "0 of 3 nodes deployed. Copying image to kelda-shared.",
            "Hold",
            "deploying",
            "deploying, 0 of 3 nodes",
            "0/3",
            "deploying 0/3: copying image to kelda-shared",
        ),
    ),
    (
        "node step",
        "running",
        HALF,
        {},
        (
            "1 of 3 nodes deployed, 1 deploying. west-arc-1: waiting for boot.",
            "Hold",
            "deploying",
            "deploying, 1 of 3 nodes",
            "1/3",
            "deploying 1/3: west-arc-1: waiting for boot",
        ),
    ),
    (
        "queued",
        "running",
        [step("lead", "done"), step("arc-1", "planned"), step("arc-2", "planned")],
        {"queued": ["limit of 2 steps on gannet reached"] * 2},
        (
            "1 of 3 nodes deployed. 2 steps queued: limit of 2 steps on gannet reached.",
            "Hold",
            "deploying",
            "deploying, 1 of 3 nodes",
            "1/3",
            "deploying 1/3: 2 steps queued: limit of 2 steps on gannet reached",
        ),
    ),
    (
        "one failed",
        "running",
        [step("lead", "done"), step("arc-1", "waiting"), BROKEN[2]],
        {},
        (
            "1 of 3 nodes deployed, 1 deploying, 1 failed. west-arc-2: no boot within 4 min",
            "Retry",
            "deploying, 1 failed",
            "deploying, 1 failed",
            "! 1/3",
            "deploying 1/3, 1 failed: west-arc-2: no boot within 4 min",
        ),
    ),
    (
        "stuck",
        "trouble",
        BROKEN,
        {},
        (
            "Stopped: 1 of 3 nodes deployed, 1 failed. west-arc-2: no boot within 4 min",
            "Retry",
            "needs attention",
            "needs attention: 1 step failed",
            "! Stopped",
            "stopped 1/3, 1 failed: west-arc-2: no boot within 4 min",
        ),
    ),
    (
        "holding",
        "held",
        HALF,
        {},
        (
            "Holding: 1 running step will finish, no new steps start.",
            "Resume",
            "holding",
            "on hold",
            "Hold 1/3",
            "holding: 1 step still running",
        ),
    ),
    (
        "idle",
        "held",
        [step("lead", "done"), step("arc-1", "planned"), step("arc-2", "planned")],
        {},
        (
            "On hold. 1 of 3 nodes deployed, nothing is running.",
            "Resume",
            "on hold",
            "on hold, 1 of 3 nodes",
            "Hold 1/3",
            "on hold 1/3",
        ),
    ),
    (
        "held, failed",
        "held",
        BROKEN,
        {},
        (
            "On hold. 1 of 3 nodes deployed, 1 failed. west-arc-2: no boot within 4 min",
            "Resume and retry",
            "on hold, 1 failed",
            "on hold, 1 failed",
            "! Hold",
            "on hold 1/3: west-arc-2: no boot within 4 min",
        ),
    ),
    (
        "proving",
        "proving",
        LAID,
        {"checks": Checks(39)},
        (
            "3 of 3 nodes deployed. Running 39 acceptance checks.",
            "",
            "checking",
            "deployed, checking",
            "Checking",
            "checking: 39 acceptance checks",
        ),
    ),
    (
        "done",
        "done",
        LAID,
        {"checks": Checks(39)},
        (
            "3 of 3 nodes deployed. All 39 acceptance checks passed.",
            "Show acceptance",
            "checks passed",
            "deployed, checks passed",
            "✓",
            "checks passed: 3 nodes, 39 of 39",
        ),
    ),
    (
        "done, skipped",
        "done",
        [*LAID[:2], step("arc-2", "skipped", message="it is up")],
        {"checks": Checks(39)},
        (
            "3 of 3 nodes deployed, 1 step skipped by request. All 39 acceptance checks passed.",
            "Show acceptance",
            "checks passed, 1 skipped",
            "deployed, 1 step skipped",
            "✓",
            "checks passed, 1 skipped: west-arc-2: Boot: it is up",
        ),
    ),
    (
        "some failed",
        "unproved",
        LAID,
        {"checks": Checks(39, 2, 0, "west-arc-2 clock")},
        (
            "3 of 3 nodes deployed. 2 of 39 acceptance checks failed; first: west-arc-2 clock.",
            "Show failed checks",
            "2 checks failed",
            "deployed, 2 checks failed",
            "! 2 failed",
            "checks failed: 2 of 39",
        ),
    ),
    (
        "some open",
        "unproved",
        LAID,
        {"checks": Checks(39, 0, 6, "", "west-arc-2 is unreachable")},
        (
            (
                "3 of 3 nodes deployed. 0 of 39 checks failed, 6 could not run: west-arc-2 is"
                " unreachable"
            ),
            "Show acceptance",
            "6 not checked",
            "deployed, 6 not checked",
            "! 6 open",
            "checks incomplete: 6 of 39 not run",
        ),
    ),
    (
        "undoing",
        "undoing",
        [
            step("lead", "undone"),
            step("arc-1", "undoing"),
            step("arc-2", "done"),
            step("", "planned", "carry"),
        ],
        {},
        (
            "Rolling back: 1 of 3 steps undone.",
            "",
            "rolling back",
            "rolling back",
            "Rollback 1/3",
            "rolling back 1/3",
        ),
    ),
    (
        "undoing, failed before",
        "undoing",
        [
            step("lead", "undone"),
            step("arc-1", "failed", message="no boot"),
            step("arc-2", "undoing"),
        ],
        {},
        (
            "Rolling back: 1 of 3 steps undone.",
            "",
            "rolling back",
            "rolling back",
            "Rollback 1/3",
            "rolling back 1/3",
        ),
    ),
    (
        "undoing, stuck",
        "undoing",
        [
            step("lead", "undone"),
            step("arc-1", "undone"),
            step("arc-2", "failed", message="host is down", undo_failed=True),
        ],
        {},
        (
            "Rollback stopped: west-arc-2: host is down. 1 step left.",
            "Continue rollback",
            "rollback stopped",
            "rollback stopped",
            "! Rollback",
            "rollback stopped 2/3: west-arc-2: host is down",
        ),
    ),
    (
        "stopped by a fault",
        "trouble",
        HALF,
        {"reason": "A fault in Nimble Stone itself."},
        (
            "Stopped: 1 of 3 nodes deployed, 1 deploying. A fault in Nimble Stone itself.",
            "Retry",
            "needs attention",
            "needs attention: stopped",
            "! Stopped",
            "stopped 1/3: A fault in Nimble Stone itself.",
        ),
    ),
    (
        "undoing, stopped by a fault",
        "undoing",
        [step("lead", "undone"), step("arc-1", "done"), step("arc-2", "done")],
        {"reason": "A fault in Nimble Stone itself."},
        (
            "Rollback stopped: A fault in Nimble Stone itself. 2 steps left.",
            "Continue rollback",
            "rollback stopped",
            "rollback stopped",
            "! Rollback",
            "rollback stopped 1/3: A fault in Nimble Stone itself.",
        ),
    ),
    (
        "undone",
        "undone",
        [step("lead", "undone", "define"), step("arc-1", "undone", "define")],
        {},
        (
            (
                "Rolled back. 2 VMs were deleted with their disks and config ISOs; images used"
                " elsewhere were kept."
            ),
            "",
            "rolled back",
            "rolled back",
            "Rolled back",
            "rolled back",
        ),
    ),
    (
        "undone, one",
        "undone",
        [step("lead", "undone", "define")],
        {},
        (
            (
                "Rolled back. 1 VM was deleted with its disks and config ISOs; images used"
                " elsewhere were kept."
            ),
            "",
            "rolled back",
            "rolled back",
            "Rolled back",
            "rolled back",
        ),
    ),
]


@pytest.mark.parametrize("row", TABLE, ids=[row[0] for row in TABLE])
def test_each_state_says_the_same_everywhere(row: Any) -> None:
    _, state, steps, more, expected = row
    checks = more.pop("checks", Checks()) if "checks" in more else Checks()
    found = words_of(facts_of(state, steps, checks, **more))
    assert (
        found.sentence,
        found.label,
        found.short,
        found.plans,
        found.tab,
        found.line,
    ) == expected


def test_the_table_has_every_state() -> None:
    assert {row[1] for row in TABLE} == set(STATES) == {*ACTIVE, *ENDED}


def test_a_step_that_takes_longer_than_expected_leaves_no_remaining_time() -> None:
    assert facts_of("running", HALF, left_s=12.0).left_s == 12.0
    late = [step("lead", "waiting", overdue=True)]
    assert facts_of("running", late, left_s=0.0).left_s is None


STEPS = st.lists(
    st.builds(
        step,
        st.sampled_from(["", "a", "b", "c"]),
        st.sampled_from(
            ["planned", "working", "waiting", "done", "failed", "skipped", "undoing", "undone"]
        ),
        st.sampled_from(["boot", "carry", "define"]),
        st.just("m"),
        undo_failed=st.booleans(),
    ),
    max_size=12,
)


@given(st.sampled_from(STATES), STEPS, st.integers(0, 40), st.integers(0, 5), st.integers(0, 5))
def test_whatever_a_run_looks_like_it_is_put_into_words(
    state: str, steps: list[StepSeen], checks: int, failed: int, unknown: int
) -> None:
    found: RunWords = words_of(
        facts_of(state, steps, Checks(checks, min(failed, checks), min(unknown, checks)))
    )
    assert all((found.sentence.strip(), found.short, found.plans, found.tab, found.line))
    assert not re.search(r"\b1 steps", found.sentence)
    assert "1 nodes" not in found.sentence
    assert "  " not in found.sentence
    if found.action in ("none", ""):
        assert found.label == ""


def test_kinds_of_entries_have_words() -> None:
    import re
    from pathlib import Path

    source = "".join(
        path.read_text()
        for path in (Path(__file__).parents[2] / "src/nimble_stone/engine").glob("*.py")
    )
    written = set(
        re.findall(r'_move\(\s*(?:step|self\._job\.steps\[key\]), "([a-z-]+)"', source)
    ) | set(re.findall(r'_journal\([^,]+, "([a-z-]+)"', source))
    assert written <= set(EVENTS)
