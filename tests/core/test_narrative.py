"""The sentence and the button: in every situation they say what is so and offer what makes sense."""

from __future__ import annotations

from itertools import pairwise

import pytest

from nimble_stone.core import narrative, sequence
from nimble_stone.core.acceptance import Verdict
from nimble_stone.core.findings import Edit, Finding, Remedy
from nimble_stone.core.narrative import StepState
from nimble_stone.core.sequence import Limits, Slot
from tests.core.scene import estate, sheet

NODES = ("lead-1", "archive-1", "archive-2")


def steps(**states: str) -> dict[str, StepState]:
    """One step per node; names use _ for -."""
    given = {key.replace("_", "-"): state for key, state in states.items()}
    found = {node: StepState(node, given.get(node, "planned"), "Boot", "no answer" if given.get(node) == "failed" else "") for node in NODES}
    return found | ({"carry": StepState("", given["carry"], "Disk onto kelda-shared", "")} if "carry" in given else {})


@pytest.mark.parametrize(("state", "given", "says", "offers"), [
    ("running", {}, "None of three nodes stands. All goes well.", "hold"),
    ("running", {"carry": "working"}, "None of three nodes stands. Disk onto kelda-shared is under way.", "hold"),
    ("running", {"lead_1": "waiting"}, "None of three nodes stands, one is being laid. western-lead: boot is awaited.", "hold"),
    ("running", {"lead_1": "done", "archive_1": "working", "archive_2": "waiting"}, "One of three nodes stands, two are being laid. western-arc-2: boot is awaited.", "hold"),
    ("trouble", {"lead_1": "failed"}, "None of three nodes stands. western-lead: no answer", "retry"),
    ("trouble", {"lead_1": "failed", "archive_1": "failed"}, "None of three nodes stands. western-lead: no answer One more failed.", "retry"),
    ("held", {"lead_1": "done"}, "One of three nodes stands. Held by you; what had begun is finished, nothing new begins.", "resume"),
    ("proving", {}, "Three nodes stand. They are being proved.", "none"),
    ("done", {}, "Three nodes stand. All of it is proved.", "acceptance"),
    ("unproved", {}, "Three nodes stand, but not everything could be proved.", "acceptance"),
    ("undoing", {"lead_1": "undoing"}, "Taking back what this run made; 1 step to go.", "none"),
    ("undoing", {"lead_1": "failed"}, "Taking back got stuck: western-lead: no answer", "undo"),
    ("undone", {}, "Everything this run made was taken back.", "none"),
])
def test_a_run_says_where_it_stands_and_offers_the_next_thing(state: str, given: dict[str, str], says: str, offers: str) -> None:
    found = narrative.of_run(sheet(), state, steps(**given), 30, "09:00")
    assert f"{found.before}{found.strong}{found.after}" == says
    assert found.action.kind == offers


@pytest.mark.parametrize(("finding", "kind", "label"), [
    (Finding(severity="blocker", code="licence", message="x", remedy=Remedy(label="Read and accept the licence")), "licence", "Read and accept the licence"),
    (Finding(severity="blocker", code="package-missing", message="x", remedy=Remedy(label="Take one in")), "package", "Take one in"),
    (Finding(severity="blocker", code="gateway-outside", message="x", remedy=Remedy(label="Use 10.44.20.1", edit=Edit(path=("values", "gateway"), value="1"))), "remedy", "Use 10.44.20.1"),
    (Finding(severity="blocker", code="memory", message="x", remedy=Remedy(label="A remedy that takes far too many words for a button")), "cell", "Show where"),
    (Finding(severity="blocker", code="count", message="x"), "cell", "Show where"),
])
def test_the_first_blocker_decides_the_button(finding: Finding, kind: str, label: str) -> None:
    found = narrative.of_plan(sheet(), [finding, finding], 10, ("disk", "boot"))
    assert (found.action.kind, found.action.label) == (kind, label)
    assert found.strong == "x"
    assert found.after == " One more must be settled before it can run."
    assert found.below == "expected 10 s · critical path: disk → boot"


def test_cautions_do_not_stop_but_are_said() -> None:
    caution = Finding(severity="caution", code="room-full", message="x")
    assert narrative.of_plan(sheet(), [caution], 1, ()).strong == "Ready to run, with 1 caution"


def test_the_acceptance_names_what_does_not_hold() -> None:
    good, bad = Verdict("a", "Name", "lead-1", "x", "x", True, ""), Verdict("b", "Clock", "archive-1", "within 5 s", "+9 s", False, "")
    assert narrative.of_acceptance(sheet(), [], "").strong == "Nothing was proved yet."
    assert narrative.of_acceptance(sheet(), [good], "09:00").strong == "All 1 proofs hold."
    found = narrative.of_acceptance(sheet(), [good, bad], "09:00")
    assert f"{found.before}{found.strong}{found.after}" == "1 of 2 proofs does not hold. western-arc-1: clock was to be within 5 s, found +9 s."


def test_a_forecast_keeps_to_limits_and_to_what_has_happened() -> None:
    planned = sequence.build(sheet(), estate())
    wide, narrow = sequence.forecast(planned), sequence.forecast(planned, Limits(per_host=1, overall=1))
    assert narrow.end_s > wide.end_s
    busy = sorted((slot.start_s, slot.end_s) for key, slot in narrow.slots.items() if not next(s for s in planned if s.key == key).waits)
    assert all(one[1] <= other[0] + 1e-9 for one, other in pairwise(busy))
    late = sequence.forecast(planned, done={"carry/kelda-shared": Slot(0, 100)})
    assert late.slots["clone/lead-1"].start_s >= 100
    assert late.end_s > wide.end_s + 90
    assert sequence.forecast([]).end_s == 0
