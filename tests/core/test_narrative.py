"""The sentence and the button: in every situation they say what is so and offer what makes
sense.
"""

from __future__ import annotations

from itertools import pairwise

import pytest

from nimble_stone.core import narrative, sequence
from nimble_stone.core.acceptance import Verdict
from nimble_stone.core.findings import Edit, Finding, Remedy
from nimble_stone.core.sequence import Limits, Slot
from tests.core.scene import estate, sheet


@pytest.mark.parametrize(
    ("finding", "kind", "label"),
    [
        (
            Finding(
                severity="blocker",
                code="licence",
                message="x",
                remedy=Remedy(label="Read and accept the licence"),
            ),
            "licence",
            "Read and accept the licence",
        ),
        (
            Finding(
                severity="blocker",
                code="package-missing",
                message="x",
                remedy=Remedy(label="Import one"),
            ),
            "package",
            "Import one",
        ),
        (
            Finding(
                severity="blocker",
                code="gateway-outside",
                message="x",
                remedy=Remedy(
                    label="Use 10.44.20.1", edit=Edit(path=("values", "gateway"), value="1")
                ),
            ),
            "remedy",
            "Use 10.44.20.1",
        ),
        (
            Finding(
                severity="blocker",
                code="memory",
                message="x",
                remedy=Remedy(label="A remedy that takes far too many words for a button"),
            ),
            "cell",
            "Show where",
        ),
        (Finding(severity="blocker", code="count", message="x"), "cell", "Show where"),
    ],
)
def test_the_first_blocker_decides_the_button(finding: Finding, kind: str, label: str) -> None:
    found = narrative.of_plan(sheet(), [finding, finding], 10, ("disk", "boot"))
    assert (found.action.kind, found.action.label) == (kind, label)
    assert found.strong == "x"
    assert found.after == " 1 more blocker."
    assert found.below == "expected 10 s · critical path: disk → boot"


def test_cautions_do_not_stop_but_are_said() -> None:
    caution = Finding(severity="caution", code="room-full", message="x")
    assert narrative.of_plan(sheet(), [caution], 1, ()).strong == "Ready to run, with 1 caution"


def said(*verdicts: Verdict, state: str = "done") -> str:
    found = narrative.of_acceptance(sheet(), verdicts, state)
    return f"{found.before}{found.strong}{found.after}|{found.action.kind}"


def test_the_acceptance_names_what_failed_and_what_could_not_be_asked() -> None:
    good, bad = (
        Verdict("a", "Name", "lead-1", "x", "x", True, ""),
        Verdict("b", "Clock", "archive-1", "within 5 s", "+9 s", False, ""),
    )
    unknown = Verdict(
        "c", "Port", "archive-2", "8080 open", "not known: no answer", False, "", checked=False
    )
    assert said() == "No acceptance checks yet. They run when the deployment steps finish.|none"
    assert said(good) == "1 acceptance check passed. 3 nodes.|prove"
    assert (
        said(good, bad)
        == "1 of 2 acceptance checks failed. First: western-arc-1 clock, expected within 5 s, found"
        " +9 s.|prove"
    )
    assert (
        said(good, unknown)
        == "0 of 2 acceptance checks failed, 1 could not run. First: western-arc-2 port, no"
        " answer.|prove"
    )
    assert (
        said(good, bad, unknown)
        == "1 of 3 acceptance checks failed, 1 could not run. First: western-arc-1 clock, expected"
        " within 5 s, found +9 s.|prove"
    )


def test_the_acceptance_of_a_run_that_was_rolled_back_is_not_todays() -> None:
    good, bad = (
        Verdict("a", "Name", "lead-1", "x", "x", True, ""),
        Verdict("b", "Clock", "archive-1", "within 5 s", "+9 s", False, ""),
    )
    assert (
        said(good, bad, state="undone")
        == "Rolled back. What is below was found before: 1 of 2 checks passed.|none"
    )
    assert said(state="undone") == "Rolled back.|none"


def test_a_forecast_keeps_to_limits_and_to_what_has_happened() -> None:
    planned = sequence.build(sheet(), estate())
    wide, narrow = (
        sequence.forecast(planned),
        sequence.forecast(planned, Limits(per_host=1, overall=1)),
    )
    assert narrow.end_s > wide.end_s
    busy = sorted(
        (slot.start_s, slot.end_s)
        for key, slot in narrow.slots.items()
        if not next(s for s in planned if s.key == key).waits
    )
    assert all(one[1] <= other[0] + 1e-9 for one, other in pairwise(busy))
    late = sequence.forecast(planned, done={"carry/kelda-shared": Slot(0, 100)})
    assert late.slots["clone/lead-1"].start_s >= 100
    assert late.end_s > wide.end_s + 90
    assert sequence.forecast([]).end_s == 0
