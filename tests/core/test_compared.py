"""Two rounds of acceptance checks, compared."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from nimble_stone.core.acceptance import Verdict
from nimble_stone.core.acceptance.compared import compare
from nimble_stone.core.acceptance.model import Chart


def verdict(check: str, found: str, *, node: str = "a-1", passed: bool = True) -> Verdict:
    return Verdict(check, check.title(), node, "x", found, passed, "asked", True)


def test_what_changed_is_told_and_what_varies_is_not() -> None:
    chart = Chart((1.0, 2.0), 1.5, 2.0, None, None, "ms")
    before = [
        verdict("name", "one"),
        verdict("clock", "off by 0.1 s"),
        verdict("disk", "40 GiB"),
        verdict("gone", "x"),
        Verdict("time", "Time", "", "x", "median 1.5 ms", True, "asked", True, None, chart),
    ]
    now = [
        verdict("name", "two"),
        verdict("clock", "off by 0.2 s"),
        verdict("disk", "none", passed=False),
        verdict("new", "y"),
        Verdict("time", "Time", "", "x", "median 1.7 ms", True, "asked", True, None, chart),
    ]
    found = compare(before, now, {"clock"})
    assert [(one.check, one.was_outcome, one.now_outcome) for one in found.changed] == [
        ("name", "passed", "passed"),
        ("disk", "passed", "failed"),
        ("new", "not made", "passed"),
        ("gone", "passed", "not made"),
    ]
    assert [(one.was, one.now) for one in found.measured] == [("median 1.5 ms", "median 1.7 ms")]


@given(
    st.lists(
        st.builds(
            verdict,
            st.sampled_from(["a", "b", "c"]),
            st.sampled_from(["1", "2"]),
            passed=st.booleans(),
        ),
        max_size=6,
    )
)
def test_a_round_never_differs_from_itself(verdicts: list[Verdict]) -> None:
    found = compare(verdicts, verdicts, ())
    assert found.changed == ()
