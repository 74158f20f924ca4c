"""What sizes carry, and how many nodes a load needs."""

from __future__ import annotations

from pydantic import Field

from nimble_stone.core.kit.formula import Formula
from nimble_stone.core.kit.part import Part
from nimble_stone.core.models import Ident


class SizeAdvice(Part):
    """Capacity of a size, from the product's guide."""

    size: str
    carries: str
    roles: tuple[Ident, ...] = Field(default=(), description="Roles; empty: all.")


STORED_UNITS = {"GiB": 1 << 30, "TiB": 1 << 40}
"""Units of a load that is stored data, in bytes."""


class Load(Part):
    """A workload, as a number."""

    id: Ident
    label: str
    unit: str = ""
    usual: float = Field(ge=0)
    most: float = Field(default=1e9, gt=0)
    stored: bool = Field(
        default=False,
        description=(
            "The load is data on the data disks (`data_layout`), in GiB or TiB: the disks and the"
            " redundancy of the plan tell how much fits, no formula does."
        ),
    )


class RoleSizing(Part):
    """Capacity of a role's nodes. Formulas read the loads, “n” (number of nodes), “vcpu” and
    “memory_gib” of the size.
    """

    carries: dict[str, Formula] = Field(
        default={},
        description=("Load → formula for the capacity of n nodes, for sizes not in `by_size`."),
    )
    by_size: dict[str, dict[str, Formula]] = Field(
        default={}, description="Formulas for single sizes."
    )
    count: Formula = Field(
        default="",
        description="Formula for the number of nodes, if capacity does not decide it.",
    )


class Sizing(Part):
    """Sizes and node counts for a workload."""

    loads: tuple[Load, ...] = Field(min_length=1, max_length=12)
    roles: dict[Ident, RoleSizing]
