"""An edit that changes one line says the same as one that writes the file anew, and leaves every
other character alone.
"""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nimble_stone.core import yaml_text

KEYS = st.sampled_from(
    [
        "pool",
        "ntp",
        "address",
        "net.copying.pool",
        "archive",
        "archive-1",
        "size",
        "values",
        "roles",
    ]
)
WORDS = st.one_of(
    st.sampled_from(
        [
            "kelda-survey",
            "10.44.20.5",
            "small",
            "yes",
            "no",
            "null",
            "1e3",
            "0x10",
            "1.5",
            "012",
            "a b",
            "it's",
            "#x",
            "",
            "true",
            "2026-11-23",
            "~",
            "10.44.20.05",
        ]
    ),
    st.from_regex(r"[a-z][a-z0-9.-]{0,12}", fullmatch=True),
)
LEAVES = st.dictionaries(KEYS, WORDS, min_size=1, max_size=4)


@settings(max_examples=300, deadline=None)
@given(
    LEAVES,
    st.dictionaries(KEYS, LEAVES, max_size=3),
    st.dictionaries(KEYS, LEAVES, max_size=3),
    WORDS,
    st.data(),
)
def test_one_line_says_the_same_as_the_whole_file_anew(
    values: dict[str, str], nodes: dict[str, Any], roles: dict[str, Any], word: str, data: Any
) -> None:
    text = yaml_text.edit_all(
        "# kept\nname: p   # and this\n",
        [(("values", key), value) for key, value in values.items()]
        + [
            ((block, *path), value)
            for block, held in (("nodes", nodes), ("roles", roles))
            for own, leaves in held.items()
            for path, value in (((own, key), value) for key, value in leaves.items())
        ],
    )
    places = (
        [("values", key) for key in values]
        + [("nodes", own, key) for own, leaves in nodes.items() for key in leaves]
        + [("roles", own, key) for own, leaves in roles.items() for key in leaves]
    )
    path = data.draw(st.sampled_from(places))
    yaml_text._edited.clear()
    whole = yaml_text.plain(yaml_text.load(text, "x"))
    at = whole
    for part in path[:-1]:
        at = at[part]
    at[path[-1]] = word
    new = yaml_text.edit(text, path, word)
    # read it as anybody would
    yaml_text._edited.clear()
    assert yaml_text.plain(yaml_text.load(new, "x")) == whole
    assert "# kept" in new
    assert "# and this" in new
    if yaml_text._in_place(text, path, word) is not None:
        assert sum(a != b for a, b in zip(text.split("\n"), new.split("\n"), strict=True)) <= 1


@pytest.mark.parametrize(
    "text",
    [
        "values: {pool: a}\n",
        "values:\n  pool: a # why\n",
        "values:\n  note: |\n    pool: a\n  pool: b\n",
        "values:\n  pool: 'a'\n",
        "values:\n  - pool: a\n",
        "values:\n  pool: &x a\n",
        "values:\n  pool: >\n    a\n",
        "values:\n  other: x\n",
        "values:\n  pool: a\n    b\n",
        "values:\n  pool: a\n\n    b\n",
        "values:\n  pool: yes\n",
        "values:\n  pool: 12\n",
        "values:\n",
        "values: a\n",
        "values:\n  pool:\n    deeper: a\n",
    ],
)
def test_where_lines_alone_do_not_tell_the_file_is_written_anew(text: str) -> None:
    assert yaml_text._in_place(text, ("values", "pool"), "west") is None


def test_what_somebody_wrote_his_own_way_stays_his_own_way() -> None:
    text = (
        "name:    p\nvalues:\n    pool: kelda-survey\n    ntp:   10.44.0.5\n\nnodes:\n    lead-1:"
        " {size: small}\n"
    )
    assert yaml_text.edit(text, ("values", "pool"), "west") == text.replace("kelda-survey", "west")
