"""Findings: what checks notice."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, ConfigDict

from nimble_stone.core.separation import Separation

Severity = Literal["blocker", "caution", "note"]
ORDER: dict[str, int] = {"blocker": 0, "caution": 1, "note": 2}


class Edit(BaseModel):
    """One change to a plan file: the path of a value and its new value (None removes it)."""

    model_config = ConfigDict(frozen=True)
    path: tuple[str, ...]
    value: str | int | float | bool | tuple[str, ...] | tuple[Separation, ...] | None = None


class Remedy(BaseModel):
    """What may be done about it: words, and the edit that does it where there is one."""

    model_config = ConfigDict(frozen=True)
    label: str
    edit: Edit | None = None


class Finding(BaseModel):
    """One thing a check noticed: where, what, why it matters, and what to do."""

    model_config = ConfigDict(frozen=True)
    severity: Severity
    code: str
    message: str
    node: str = ""
    column: str = ""
    host: str = ""
    consequence: str = ""
    remedy: Remedy | None = None


def ordered(findings: list[Finding]) -> list[Finding]:
    """Blockers first, then cautions, then notes; otherwise in the order they were found."""
    return sorted(findings, key=lambda finding: ORDER[finding.severity])
