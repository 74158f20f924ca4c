"""What a change of a deployment of 1,000 nodes comes to: difference and sequence, against packing
the steps of that change as JSON.
"""

from __future__ import annotations

import json
import statistics
import time
from collections.abc import Callable
from dataclasses import asdict

from nimble_stone.core import sequence
from nimble_stone.core.change_sequence import of_change
from nimble_stone.core.deployment import Part, built, changes
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.plan.sheet import Sheet, resolve
from nimble_stone.core.step import Step
from tests.core import scene

ROUNDS = 7
HOSTS = 310


def _kit() -> Kit:
    """Archive nodes need no host of their own, so that 1,000 of them have room."""
    roles = tuple(
        role.model_copy(
            update={"apart": False, "count": role.count.model_copy(update={"most": 2000})}
        )
        if role.id == "archive"
        else role
        for role in scene.KIT.roles
    )
    return scene.KIT.model_copy(update={"roles": roles})


def _sheet(kit: Kit, archives: int, **more: object) -> Sheet:
    plan = scene.plan(roles__archive__count=archives, **more)
    return resolve(plan, kit, scene.PACKAGE, scene.estate(HOSTS))


def _median(work: Callable[[], object]) -> float:
    found = []
    for _ in range(ROUNDS):
        began = time.perf_counter()
        work()
        found.append(time.perf_counter() - began)
    return statistics.median(found)


def main() -> None:
    """Print both for a grown plan, and for one in which every node gets another time server."""
    kit = _kit()
    before = _sheet(kit, 969)
    stands = built([Part("r1", before.nodes, frozenset(node.id for node in before.nodes))])
    for label, after in (
        ("30 nodes more", _sheet(kit, 999)),
        ("a setting on each", _sheet(kit, 969, values__ntp="10.44.0.6")),
    ):
        whole = sequence.build(after, scene.estate(HOSTS))
        steps = of_change(after, changes(after, stands), whole)

        def ours(after: Sheet = after, whole: list[Step] = whole) -> None:
            of_change(after, changes(after, stands), whole)

        own = _median(ours)

        def public(steps: list[Step] = steps) -> None:
            json.dumps([asdict(one) for one in steps])

        packing = _median(public)
        print(
            f"change of {len(after.nodes)} nodes, {label}: {own * 1000:.0f} ms for"
            f" {len(steps)} steps; packing them as JSON {packing * 1000:.0f} ms"
            f" (ratio {own / packing:.2f})"
        )
