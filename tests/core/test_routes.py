"""Gateway, DNS servers and routes of interfaces beyond the first; and on which of them nodes are
reached.
"""

from __future__ import annotations

from dataclasses import replace

import pytest

from nimble_stone.core.errors import FormatError
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.plan.cells import Cell
from nimble_stone.core.plan.columns import columns_of
from nimble_stone.core.plan.forms import routes
from nimble_stone.core.plan.packages import Packages
from nimble_stone.core.plan.sheet import reached, resolve
from tests.core import scene
from tests.core.test_resolution import KITS, PACKAGES
from tests.core.test_series import ESTATE


@pytest.mark.parametrize(
    "text", ["10.46.0.0/16 via 10.44.60.1", "10.46.0.0/16 via 10.44.60.1, fd00::/8 via fd44::1"]
)
def test_routes_are_read(text: str) -> None:
    assert routes(text) == ""


@pytest.mark.parametrize(
    "text", ["10.46.0.0/16", "10.46.0.1/16 via 10.44.60.1", "x via y", "10.0.0.0/8 via 300.1.1.1"]
)
def test_what_is_no_route_is_told_with_the_form(text: str) -> None:
    assert "10.46.0.0/16 via 10.44.60.1" in routes(text)


def own_routes(kit: Kit) -> Kit:
    """The kit, with routes on its further networks."""
    more = tuple(net.model_copy(update={"takes": ("routes",)}) for net in kit.networks)
    return kit.model_copy(update={"networks": more})


def test_columns_are_there_where_the_kit_or_the_plan_asks_for_them() -> None:
    kit, plan = KITS["ballast"], scene.plan()
    ids = {column.id for column in columns_of(kit, Packages(), ESTATE, plan)}
    assert not any(one.endswith(".routes") for one in ids)
    net = kit.networks[0].id
    wanted = {f"net.{net}.gateway", f"net.{net}.dns", f"net.{net}.routes"}
    assert wanted <= {one.id for one in columns_of(own_routes(kit), Packages(), ESTATE, plan)}
    said = plan.model_copy(update={"values": {f"net.{net}.routes": "10.46.0.0/16 via 10.44.60.1"}})
    ids = {column.id for column in columns_of(kit, Packages(), ESTATE, said)}
    assert wanted & ids == {f"net.{net}.routes"}


def test_nodes_are_reached_on_the_network_that_the_kit_names() -> None:
    kit = KITS["ballast"]
    net = kit.networks[0].id
    values = {"pool": "kelda-survey", f"net.{net}.pool": "kelda-storage"}
    plan = scene.plan().model_copy(update={"kit": "ballast", "values": values})
    node = resolve(plan, kit, PACKAGES["ballast"], ESTATE).nodes[0]
    node = replace(node, cells={**node.cells, f"net.{net}.address": Cell("10.44.60.9", "node")})
    assert reached(kit, node) == node.value("address") != ""
    assert reached(kit.model_copy(update={"managed_on": net}), node) == "10.44.60.9"
    with pytest.raises((FormatError, ValueError), match="managed_on names “attic”"):
        Kit.model_validate(kit.model_dump(by_alias=True) | {"managed_on": "attic"})
