"""Text of an expression in a kit."""

from __future__ import annotations

from typing import Annotated

from pydantic import AfterValidator, Field

from nimble_stone.core.errors import FormatError
from nimble_stone.core.kit import expression


def _parses(text: str) -> str:
    try:
        if text:
            expression.parse(text)
    except FormatError as error:
        raise ValueError(str(error)) from error
    return text


Formula = Annotated[
    str,
    AfterValidator(_parses),
    Field(max_length=expression.MAX_LENGTH, description="An expression; '' is always true."),
]
"""Text of an expression, parsed when the kit is read."""
