"""What all commands share: how they answer, and how they read a file."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated, Any

import typer

from nimble_stone.core.errors import InputError

Json = Annotated[bool, typer.Option("--json", help="Answer as JSON on standard output.")]
FINE, FOUND = 0, 1


def say(text: str = "") -> None:
    """A line for people."""
    typer.echo(text)


def answer(data: Any, as_json: bool, *lines: str) -> None:
    """The answer as JSON, or as lines."""
    if as_json:
        typer.echo(json.dumps(data, indent=2))
    else:
        for line in lines:
            say(line)


def moment(at: float) -> str:
    """An instant, in UTC."""
    return f"{datetime.fromtimestamp(at, UTC):%Y-%m-%d %H:%M:%S}"


def instant(text: str) -> float:
    """Seconds of a day (its last instant) or a time in UTC, as ISO 8601 writes them. Raises
    InputError.
    """
    try:
        found = datetime.fromisoformat(text)
    except ValueError as error:
        raise InputError(
            f"“{text}” is neither a day nor a time", hint="Write 2026-11-20 or 2026-11-20T18:30."
        ) from error
    if found.tzinfo is None:
        found = found.replace(tzinfo=UTC)
    is_day = len(text) == len("2026-11-20")
    return found.timestamp() + (86400 - 0.001 if is_day else 0.0)


def table(rows: list[list[str]]) -> list[str]:
    """Rows as aligned text."""
    widths = [max(len(row[i]) for row in rows) for i in range(len(rows[0]))] if rows else []
    return [
        "  ".join(cell.ljust(width) for cell, width in zip(row, widths, strict=True)).rstrip()
        for row in rows
    ]


def text_of(file: Path) -> str:
    """A file's text. Raises InputError."""
    try:
        return file.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(f"{file} cannot be read: {error}") from error


def findings(found: dict[str, Any]) -> list[str]:
    """Findings as lines: what, its consequence, what to do."""
    lines = []
    for f in found["findings"]:
        where = " ".join(part for part in (f.get("node"), f.get("column")) if part)
        lines.append(f"{f['severity']:8} {f['code']:18} {where}: {f['message']}")
        if f["consequence"]:
            lines.append(f"{'':28}{f['consequence']}")
        if f["remedy"]:
            lines.append(f"{'':28}→ {f['remedy']['label']}")
    return lines


def verdict(found: dict[str, Any]) -> int:
    """Exit code of a check: 1 with blockers or cautions."""
    return (
        FOUND if any(f["severity"] in ("blocker", "caution") for f in found["findings"]) else FINE
    )


def sentence(s: dict[str, Any]) -> str:
    """The sentence at a page's head."""
    return f"{s['before']}{s['strong']}{s['after']}"
