"""What all parts of a kit have in common."""

from __future__ import annotations

from pydantic import ConfigDict

from nimble_stone.core.models import Fixed


class Part(Fixed):
    """A part of a kit: its fields are written by their names, or by former ones."""

    model_config = ConfigDict(populate_by_name=True)
