"""Lists of hosts: every line is read, junk is named by number and reason, nothing else is lost."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimble_stone.core.estate_list import MAX_LINES, Entry, parse


def targets(text: str) -> list[str]:
    return [entry.target for entry in parse(text).entries]


def test_one_a_line_with_names_addresses_users_ports_notes_and_sections() -> None:
    found = parse(
        "# the birds\n[kelda-main]\ngannet 10.44.1.11\n10.44.1.12 fulmar\nroot@skua:2222  #"
        " spare\n\n[ness-two]\n10.45.1.15\r\n"
    )
    assert found.junk == ()
    assert found.entries == (
        Entry(3, "gannet", "10.44.1.11", bay="kelda-main"),
        Entry(4, "fulmar", "10.44.1.12", bay="kelda-main"),
        Entry(5, "skua", port=2222, user="root", note="spare", bay="kelda-main"),
        Entry(8, "", "10.45.1.15", bay="ness-two"),
    )


@pytest.mark.parametrize("separator", [",", ";", "\t"])
def test_tables_with_a_header_also_from_a_spreadsheet(separator: str) -> None:
    rows = [
        ["Host", "IP address", "Room", "Colour", "Notes"],
        ["tern", "10.45.1.15", "Ness", "red", ""],
        ["whimbrel", "", "Ness", "", f'"said{separator} twice"'],
        ["", "", "Ness", "", ""],
    ]
    found = parse("\n".join(separator.join(row) for row in rows))
    assert [(e.name, e.address, e.site, e.note) for e in found.entries] == [
        ("tern", "10.45.1.15", "Ness", ""),
        ("whimbrel", "", "Ness", f"said{separator} twice"),
    ]
    assert [(j.line, j.reason) for j in found.junk] == [(4, "neither a name nor an address")]


@pytest.mark.parametrize(
    ("line", "reason"),
    [
        ("gannet fulmar skua", "3 words"),
        ("10.44.1.1 10.44.1.2", "two addresses"),
        ("gannet fulmar", "two names"),
        ("10.44.1.999", "neither a host name"),
        ("-----", "neither a host name"),
        ("gannet:99999", "not a port"),
        ("a b c d e f", "6 words"),
        ("ro$ot@gannet", "not a user name"),
        ("höst", "neither a host name"),
    ],
)
def test_junk_is_told_with_its_number_and_the_rest_is_kept(line: str, reason: str) -> None:
    found = parse(f"knot\n{line}\ndunlin\n")
    assert targets(f"knot\n{line}\ndunlin\n") == ["knot", "dunlin"]
    assert [(j.line, j.text) for j in found.junk] == [(2, line)]
    assert reason in found.junk[0].reason


def test_a_host_that_stands_twice_is_kept_once() -> None:
    found = parse("gannet 10.44.1.11\nGANNET\n10.44.1.11\n10.44.1.11:2222\n")
    assert [e.line for e in found.entries] == [1, 4]
    assert [j.reason for j in found.junk] == ["is already in line 1 already"] * 2


def test_ten_thousand_lines_are_read_and_more_are_said_to_be_left() -> None:
    found = parse("\n".join(f"host-{n}" for n in range(MAX_LINES + 5)))
    assert len(found.entries) == MAX_LINES
    assert "not read" in found.junk[0].reason


@given(st.text(max_size=400))
def test_any_text_is_survived_and_every_line_accounted_for(text: str) -> None:
    found = parse(text)
    lines = text.replace("\r\n", "\n").replace("\r", "\n").split("\n")
    assert (
        len({item.line for item in (*found.entries, *found.junk)})
        == len(found.entries) + len(found.junk)
        <= len(lines)
    )
