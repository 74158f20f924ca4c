"""Every pair of states, through the store: what the tables have is written, all else is refused."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from itertools import product
from pathlib import Path

import pytest

from nimble_stone.core.errors import NotFound
from nimble_stone.core.runs import states
from nimble_stone.core.runs.states import RUN_MOVES, STEP_MOVES, IllegalMove, RunState, StepState
from nimble_stone.store import runs
from nimble_stone.store.connect import connect, migrate

DOCS = Path(__file__).parents[2] / "docs"


@pytest.fixture(scope="module")
def db(tmp_path_factory: pytest.TempPathFactory) -> Iterator[sqlite3.Connection]:
    found = connect(tmp_path_factory.mktemp("states") / "n.db")
    migrate(found)
    runs.add_run(found, runs.RunRow("r", "p", "", RunState.RUNNING, {}, 1.0, None), ["one"])
    yield found
    found.close()


@pytest.mark.parametrize(("before", "after"), list(product(RunState, RunState)))
def test_a_run_moves_only_as_the_table_says(
    db: sqlite3.Connection, before: RunState, after: RunState
) -> None:
    db.execute("UPDATE run SET state = ?, ended_at = NULL", (before,))
    entries = runs.last_event(db, "r")
    if after in RUN_MOVES[before]:
        runs.move_run(db, "r", 2.0, "moved", after)
        assert runs.get_run(db, "r").state is after
        assert runs.last_event(db, "r") > entries
    else:
        with pytest.raises(IllegalMove, match=f"“{before}” and cannot become “{after}”"):
            runs.move_run(db, "r", 2.0, "moved", after)
        assert runs.get_run(db, "r").state is before
        assert runs.last_event(db, "r") == entries


@pytest.mark.parametrize("kind", ["moved", "undoing"])
@pytest.mark.parametrize(("before", "after"), list(product(StepState, StepState)))
def test_a_step_moves_only_as_the_table_says(
    db: sqlite3.Connection, before: StepState, after: StepState, kind: str
) -> None:
    db.execute("UPDATE run_step SET state = ?", (before,))
    entries = runs.last_event(db, "r")
    if after in STEP_MOVES[before]:
        runs.move_step(db, "r", "one", 2.0, kind, state=after)
        assert runs.steps(db, "r")[0].state is after
    else:
        with pytest.raises(IllegalMove):
            runs.move_step(db, "r", "one", 2.0, kind, state=after)
        assert runs.steps(db, "r")[0].state is before
        assert runs.last_event(db, "r") == entries


def test_what_is_done_never_works_again_and_what_was_undone_never_runs() -> None:
    """Two moves that were taken once."""
    assert StepState.WORKING not in STEP_MOVES[StepState.DONE]
    assert RunState.RUNNING not in RUN_MOVES[RunState.UNDONE]
    assert not RUN_MOVES[RunState.UNDONE]
    assert not STEP_MOVES[StepState.UNDONE]


def test_what_does_not_exist_does_not_move(db: sqlite3.Connection) -> None:
    with pytest.raises(NotFound):
        runs.move_run(db, "nobody", 1.0, "moved", RunState.HELD)
    with pytest.raises(NotFound):
        runs.move_step(db, "r", "nothing", 1.0, "moved", state=StepState.DONE)


def test_every_state_can_be_reached_and_left_as_its_group_says() -> None:
    reached = {RunState.RUNNING, *(state for moves in RUN_MOVES.values() for state in moves)}
    assert reached == set(RunState)
    assert set(RUN_MOVES) == set(RunState)
    assert set(STEP_MOVES) == set(StepState)
    assert set(RunState) == states.ACTIVE | states.ENDED
    assert all(RunState.UNDOING in RUN_MOVES[state] for state in RunState if state != "undone")


def test_the_picture_in_the_docs_is_drawn_from_the_tables() -> None:
    assert states.picture() in (DOCS / "architecture.md").read_text()
