"""A run that waits takes over a corrected kit: what may be otherwise, and what may not."""

from __future__ import annotations

import pytest

from nimble_stone.core import sequence
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.runs.correction import corrected
from tests.core.scene import KIT, estate, sheet


def kit(**parts: object) -> Kit:
    data = KIT.model_dump(mode="json", by_alias=True)
    return Kit.model_validate(data | parts)


def test_what_setup_steps_ask_may_be_otherwise() -> None:
    found = sheet()
    steps = {step.key: step for step in sequence.build(found, estate())}
    forming = KIT.model_dump(mode="json", by_alias=True)["forming"]
    other = [{**one, "label": f"{one['label']}, again"} for one in forming]
    new = corrected(found, steps, kit(forming=other), changes=False, pace=1.0)
    assert (new.parts, new.refused) == (("forming",), ())
    assert list(new.steps) == list(steps)
    for key, step in new.steps.items():
        if step.kind == "call":
            assert step.label.endswith(", again")
            assert set(step.after) <= set(steps)
        else:
            assert step == steps[key]


@pytest.mark.parametrize(
    ("parts", "words"),
    [
        ({"environment": {}}, "environment differs"),
        ({"names": "{plan}_{n}"}, "names differs"),
        ({"forming": []}, "is in the kit no more"),
    ],
)
def test_what_is_built_may_not(parts: dict[str, object], words: str) -> None:
    found = sheet()
    steps = {step.key: step for step in sequence.build(found, estate())}
    refused = corrected(found, steps, kit(**parts, leaving=[]), changes=False, pace=1.0).refused
    assert words in refused[0]


def test_a_change_has_a_part_of_the_setup_only() -> None:
    found = sheet()
    whole = {step.key: step for step in sequence.build(found, estate())}
    some = {key: step for key, step in whole.items() if step.kind != "call" or "join" in key}
    same = corrected(found, some, kit(summary="Other."), changes=True, pace=1.0)
    assert same.refused == ()
    assert set(same.steps) == set(some)
    first = corrected(found, some, kit(summary="Other."), changes=False, pace=1.0)
    assert "is new in the kit" in first.refused[0]


def test_the_same_kit_brings_nothing() -> None:
    found = sheet()
    steps = {step.key: step for step in sequence.build(found, estate())}
    assert corrected(found, steps, kit(), changes=False, pace=1.0).parts == ()
