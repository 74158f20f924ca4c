"""Taking one change of a file back leaves what others changed elsewhere, and refuses where it was
changed again.
"""

from __future__ import annotations

from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from nimble_stone.core import yaml_text

PATHS = st.sampled_from(
    [
        ("title",),
        ("values", "pool"),
        ("values", "ntp"),
        ("roles", "archive", "count"),
        ("roles", "archive", "values", "size"),
        ("nodes", "archive-1", "host"),
        ("nodes", "archive-2", "host"),
    ]
)
EDITS = st.lists(
    st.tuples(PATHS, st.one_of(st.none(), st.sampled_from(["a", "b", "c"]))), max_size=4
)
BASE = "# kept\nname: p\nvalues:\n  pool: x   # why\nroles:\n  archive: {count: 2}\n"


def data(text: str) -> Any:
    return yaml_text.plain(yaml_text.load(text, "x"))


@settings(max_examples=300, deadline=None)
@given(EDITS, EDITS)
def test_mine_goes_theirs_stays(mine: list[Any], theirs: list[Any]) -> None:
    after = yaml_text.edit_all(BASE, mine)
    now = yaml_text.edit_all(after, theirs)
    text, again = yaml_text.taken_back(BASE, after, now)
    if again:
        assert text == now
        touched = {path for path, _ in mine}
        assert all(any(path[: len(one)] == one[: len(path)] for one in touched) for path in again)
    elif data(now) == data(after):
        assert data(text) == data(BASE)
    else:
        # What differs from the beginning now is what they changed, nowhere else.
        there = {path for path, _ in yaml_text.changes(after, now)}
        assert all(
            any(path[: len(one)] == one[: len(path)] for one in there)
            for path in yaml_text.changed_paths(BASE, text)
        )
        assert all(_at(data(text), path) == value for path, value in yaml_text.changes(after, now))
    assert "# kept" in text


def _at(whole: Any, path: tuple[str, ...]) -> Any:
    for part in path:
        whole = whole.get(part) if isinstance(whole, dict) else None
    return whole


def test_taking_back_the_newest_change_gives_the_very_text_before() -> None:
    after = yaml_text.edit(BASE, ("values", "pool"), "y")
    assert yaml_text.taken_back(BASE, after, after) == (BASE, [])


def test_a_value_changed_again_is_left_alone() -> None:
    after = yaml_text.edit(BASE, ("values", "pool"), "y")
    now = yaml_text.edit(after, ("values", "pool"), "z")
    assert yaml_text.taken_back(BASE, after, now) == (now, [("values", "pool")])
