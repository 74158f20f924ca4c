"""The kit's expression language: what it computes, what it refuses, and that nothing runs long or
reads anything but its inputs.
"""

from __future__ import annotations

import math

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nimble_stone.core.errors import FormatError
from nimble_stone.core.kit import expression
from nimble_stone.core.kit.expression import parse

INPUTS: dict[str, expression.Value] = {
    "gauges": 140.0,
    "n": 3.0,
    "mode": "later",
    "count.standby": 0.0,
    "text": "12",
    "on": True,
}


@pytest.mark.parametrize(
    ("text", "value"),
    [
        ("1 + 2 * 3", 7),
        ("(1 + 2) * 3", 9),
        ("10 - 4 - 3", 3),
        ("-2 * 3", -6),
        ("7 % 4", 3),
        ("9 / 4", 2.25),
        ("ceil(gauges / 60)", 3),
        ("floor(2.9)", 2),
        ("round(2.5)", 3),
        ("min(4, 2, 3)", 2),
        ("max(n, 2)", 3),
        ("if(gauges > 100, 'many', 'few')", "many"),
        ("n = 3 and mode = 'later'", True),
        ("not n = 3", False),
        ("count.standby > 0 or on", True),
        ("mode != 'at once'", True),
        ("text = 12", True),
        ("text + 1", 13),
        ("mode = 'LATER'", True),
        ("1 < 2 = true", True),
        ("ceil(0.1 + 0.2 - 0.3)", 0),
        ("not (false or false)", True),
    ],
)
def test_it_computes(text: str, value: expression.Value) -> None:
    assert parse(text).value(INPUTS) == value


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("", "ends too early"),
        ("1 +", "ends too early"),
        ("(1", "“)” is missing"),
        ("1 2", "“2” was not expected"),
        ("system('ls')", "there is no function “system”"),
        ("x[0]", "not a value for an expression"),
        ("min()", "was not expected here"),
        ("ceil(1, 2)", "ceil takes 1 values"),
        ("1" + "+1" * 250, "400 characters"),
        ("(" * 30 + "1" + ")" * 30, "nested more than"),
        ("lambda: 1", "not a value for an expression"),
        ("'open", "not a value"),
        ("and", "not expected"),
    ],
)
def test_it_refuses_and_says_where(text: str, why: str) -> None:
    with pytest.raises(FormatError, match=".") as caught:
        parse(text)
    assert why in str(caught.value)
    assert caught.value.place


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("1 / 0", "division by zero"),
        ("1 % (n - 3)", "division by zero"),
        ("mode * 2", "is not a number"),
        ("other + 1", "has no value"),
        ("n.__class__", "has no value"),
        ("999999999999999 * 999999999999999", "too large"),
    ],
)
def test_what_cannot_be_worked_out_is_told(text: str, why: str) -> None:
    with pytest.raises(FormatError, match=why):
        parse(text).value(INPUTS)


def test_only_what_is_needed_is_read() -> None:
    assert parse("if(n = 3, 1, missing)").value({"n": 3.0}) == 1
    assert parse("n = 3 or missing").value({"n": 3.0}) is True
    assert parse("a + b.c * min(d, 2)").names == {"a", "b.c", "d"}


NUMBERS = st.recursive(
    st.integers(0, 99).map(str),
    lambda inner: st.tuples(inner, st.sampled_from([" + ", " - ", " * "]), inner).map(
        lambda t: f"({t[0]}{t[1]}{t[2]})"
    ),
    max_leaves=12,
)


@settings(max_examples=200, deadline=None)
@given(NUMBERS)
def test_arithmetic_is_arithmetic(text: str) -> None:
    expected = eval(text)  # digits, brackets and three signs, made above
    try:
        found = parse(text).value({})
    except FormatError as error:
        assert "bounds" in str(error) or "deep" in str(error)
        return
    assert isinstance(found, float)
    assert math.isclose(found, expected, rel_tol=1e-9)


@settings(max_examples=300, deadline=None)
@given(st.text("0123456789.+-*/%()=<>!,'abn_ \t\n\x00é{}[];:", max_size=60))
def test_any_text_gives_an_answer_or_a_located_refusal(text: str) -> None:
    try:
        found = parse(text)
        found.value(dict.fromkeys(found.names, 1.0))
    except FormatError as error:
        assert error.code == "expression"
