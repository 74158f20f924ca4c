"""Tables as CSV: what a spreadsheet would work out is told as text, and comes back as it was."""

from __future__ import annotations

import csv
import io

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimble_stone.app import spreadsheet


@pytest.mark.parametrize(
    "text",
    [
        "=1+1",
        "+1+1",
        "-1+1",
        "@SUM(A1)",
        " =1+1",
        "\t=1+1",
        "  @x",
        "\r\n=cmd|' /C calc'!A0",
        "\u00a0=1",
        "-cmd",
        "+x",
        "＝1+1",
        " -5",
    ],
)
def test_what_may_be_a_formula_gets_an_apostrophe(text: str) -> None:
    written = next(csv.reader(io.StringIO(spreadsheet.csv_of([[text, "x"]]).decode(), newline="")))
    assert written[0] == "'" + text


@pytest.mark.parametrize(
    "text", ["10.44.0.1", "-5", "+5", "-5.5", "a=b", "a@b", "", " ", "west-lead", "'quoted'"]
)
def test_what_is_none_stays_as_it_is(text: str) -> None:
    written = next(csv.reader(io.StringIO(spreadsheet.csv_of([[text, "x"]]).decode(), newline="")))
    assert written[0] == text


@given(
    st.text(st.characters(blacklist_categories=["Cs"], blacklist_characters="\0\r"), max_size=20)
)
def test_every_text_comes_back_as_it_was(text: str) -> None:
    again = spreadsheet.read(spreadsheet.csv_of([["a,b;c\td", "x"], [text, "y"]]))
    assert again[1][0] == text
