"""Host preparation as a run: remedies and preparations on hosts, each observed, done, observed
again, and rolled back where that can be. A family of actions a module; a further kind: a class in
its family's KINDS.
"""

from nimble_stone.engine.preparation.job import KINDS, Preparation
from nimble_stone.engine.preparation.sequence import (
    action_of,
    before_of,
    busy,
    row_of,
    steps_in,
    steps_of,
)

__all__ = [
    "KINDS",
    "Preparation",
    "action_of",
    "before_of",
    "busy",
    "row_of",
    "steps_in",
    "steps_of",
]
