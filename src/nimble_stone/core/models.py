"""What the core's models have in common."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, Self

from pydantic import BaseModel, ConfigDict, Field, ValidationInfo

Ident = Annotated[str, Field(pattern=r"^[a-z][a-z0-9_-]{0,39}$")]
"""An id in a file that people write."""


FROZEN = {"frozen": True}
"""Context in which what a run began with is read back: it was checked by the rules of its day."""


def is_frozen(info: ValidationInfo) -> bool:
    """Whether a validator reads what a run began with: it refuses nothing by a newer rule."""
    return bool(info.context and info.context.get("frozen"))


class Fixed(BaseModel):
    """A value that never changes and knows no member beyond its own."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    def model_copy(self, *, update: Mapping[str, Any] | None = None, deep: bool = False) -> Self:
        """A copy with other members. What was worked out of the old ones (cached properties) does
        not come along.
        """
        found = super().model_copy(update=update, deep=deep)
        for name in found.__dict__.keys() - type(self).model_fields.keys():
            del found.__dict__[name]
        return found
