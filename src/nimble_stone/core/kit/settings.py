"""Settings of a kit: what a plan is asked, and which answers there may be."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from nimble_stone.core.kit.formula import Formula
from nimble_stone.core.kit.part import Part
from nimble_stone.core.models import Ident


class Rule(Part):
    """Rules for a typed value."""

    min_length: int = 0
    max_length: int = 4096
    classes: int = Field(
        default=0,
        ge=0,
        le=4,
        description="How many of lower case, upper case, digits and symbols must occur.",
    )
    pattern: str = ""
    choices: tuple[str, ...] = ()


class Question(Part):
    """A setting that the product needs and no other column has."""

    id: Ident
    label: str
    scope: Literal["plan", "role", "node"] = "plan"
    default: str = ""
    required: bool = True
    secret: bool = False
    rule: Rule = Rule()
    when: Formula = Field(
        default="",
        description=(
            "Condition; reads columns, “role”, “n”, “count”, “count.ROLE” and “carries.ROLE” (1"
            " if the node has or carries the role, else 0)."
        ),
    )
    property: str = Field(
        default="",
        description="The package's setting with the same meaning; its rules are added.",
    )
    kind: Literal["text", "number", "ssh-key"] = Field(
        default="text",
        description=(
            "“number”: unique over all plans, assigned from a pool; “ssh-key”: "
            "public keys as in authorized_keys, one per line."
        ),
    )
