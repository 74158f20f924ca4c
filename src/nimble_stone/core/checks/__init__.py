"""Checks: one small function per rule, (situation) → findings. `check` runs them all."""

from nimble_stone.core.checks.run import RULES, check
from nimble_stone.core.checks.situation import Claim, Situation

__all__ = ["RULES", "Claim", "Situation", "check"]
