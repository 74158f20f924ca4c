"""The kits this server knows: those that ship with it."""

from __future__ import annotations

from importlib import resources
from pathlib import Path

from nimble_stone.core import yaml_text
from nimble_stone.core.kit.model import Kit


def read_kit(text: str, name: str) -> Kit:
    """A kit file. Raises FormatError or Faults, each fault with its line."""
    return yaml_text.read(text, Kit, f"kit file {name}")


def load_kits(own: Path | None = None) -> dict[str, Kit]:
    """Kit by id: those that ship, then those in the folder `own`, which may replace them. Raises FormatError or Faults for a kit that is wrong."""
    found = {}
    for entry in sorted(resources.files("nimble_stone.kits").iterdir(), key=lambda entry: entry.name):
        if entry.name.endswith(".yaml"):
            kit = yaml_text.read(entry.read_text(encoding="utf-8"), Kit, f"kit file {entry.name}")
            found[kit.id] = kit
    for path in sorted(own.glob("*.yaml")) if own is not None and own.is_dir() else ():
        kit = read_kit(path.read_text(encoding="utf-8"), str(path))
        found[kit.id] = kit
    return found
