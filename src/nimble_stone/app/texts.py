"""Plans and shared values as texts, read beside the event loop."""

from __future__ import annotations

from functools import lru_cache

from nimble_stone.app.application import Application
from nimble_stone.app.aside import aside
from nimble_stone.core import yaml_text
from nimble_stone.core.plan.model import Plan, SharedValues
from nimble_stone.store import designs


@lru_cache(maxsize=256)
def _plan_text(text: str) -> Plan:
    return yaml_text.read(text, Plan, "the plan")


async def parse_plan(text: str) -> Plan:
    """A plan file, read beside the event loop. Raises FormatError or Faults."""
    return await aside(_plan_text, text)


async def shared_of(app: Application) -> dict[str, SharedValues]:
    """All shared values by name. Raises Faults for a text that was valid once and is not now."""
    return {
        row.name: await parse_values(row.text)
        for row in await app.store.read(designs.shared_values)
    }


@lru_cache(maxsize=256)
def _shared_text(text: str) -> SharedValues:
    return yaml_text.read(text, SharedValues, "the shared values")


async def parse_values(text: str) -> SharedValues:
    """Shared values, read beside the event loop. Raises FormatError or Faults."""
    return await aside(_shared_text, text)
