"""A node that answers some acceptance checks and falls silent for others is asked those again."""

from __future__ import annotations

import asyncio
from typing import Any, cast

import pytest

from nimble_stone.core.acceptance import Answer, expectations
from nimble_stone.engine import acceptance
from nimble_stone.engine.frozen import FrozenRun
from nimble_stone.ports.ports import Ports
from tests.core.scene import sheet

LOST = Answer(None, "asked", unknown="does not answer within 4 s")
HOST = {kind: Answer(None, "asked", "no such VM") for kind in acceptance.HOST_SIDE}
WELL = {
    item.kind: Answer(item.wanted, "asked")
    for item in expectations(sheet())
    if item.node == "archive-1"
} | {"series": Answer(None, "asked", "nothing")}
"""Everything is as it should be, but for what is measured."""


def rounds(monkeypatch: pytest.MonkeyPatch, *answers: dict[str, Any]) -> dict[str, int]:
    """Let archive-1 answer so, round after round, and all others well; how often each was asked."""
    asked: dict[str, int] = {}

    async def ask(_: Ports, run: FrozenRun, node: Any) -> dict[str, Answer]:
        number = asked[node.id] = asked.get(node.id, 0) + 1
        wanted = {one.kind for one in run.sheet.kit.acceptance}
        if node.id != "archive-1":
            return {kind: Answer(None, "asked", "something") for kind in wanted}
        return {**HOST, **dict.fromkeys(wanted, LOST), **answers[number - 1]}

    async def nothing(*_: Any) -> dict[str, Answer]:
        return {}

    monkeypatch.setattr(acceptance, "_ask", ask)
    monkeypatch.setattr(acceptance, "_ask_cluster", nothing)
    return asked


def of_the_node() -> dict[str, str]:
    """Check of archive-1 → what was found."""
    run = FrozenRun("r1", sheet(), {}, {})
    verdicts = asyncio.run(acceptance.prove(cast(Ports, None), run))
    return {one.proof: one.found for one in verdicts if one.node == "archive-1"}


def test_what_was_lost_for_a_moment_is_asked_once_more(monkeypatch: pytest.MonkeyPatch) -> None:
    there = {"gateway": Answer(None, "asked", "no answer to 3 pings")}
    asked = rounds(monkeypatch, {**WELL, "gateway": LOST}, there)
    found = of_the_node()
    assert asked == {"lead-1": 1, "archive-1": 2, "archive-2": 1}
    assert found["gateway"] == "no answer to 3 pings"
    # what it said the first time was not asked again
    assert "not known" not in str(found)


def test_what_is_lost_again_is_not_known(monkeypatch: pytest.MonkeyPatch) -> None:
    rounds(monkeypatch, {**WELL, "gateway": LOST}, {})
    assert of_the_node()["gateway"] == "not known: does not answer within 4 s"


def test_who_is_gone_is_not_waited_for_twice(monkeypatch: pytest.MonkeyPatch) -> None:
    """That its host is asked about it is no answer of the node, nor is a port that is closed."""
    asked = rounds(monkeypatch, HOST | {"port": WELL["port"]})
    found = of_the_node()
    assert asked["archive-1"] == 1
    assert found["gateway"].startswith("not known")


def test_a_host_that_was_lost_for_a_moment_is_asked_once_more(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    """Its node answers: the host runs. A whole rollout stood as not accepted for one such moment,
    on a machine with much to do.
    """
    silent = dict.fromkeys(acceptance.HOST_SIDE, LOST)
    asked = rounds(monkeypatch, {**WELL, **silent}, HOST)
    found = of_the_node()
    assert asked == {"lead-1": 1, "archive-1": 2, "archive-2": 1}
    assert found["running"] == "no such VM"
    assert "not known" not in str(found)
