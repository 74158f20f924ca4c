"""What all commands share: how they answer, and how they read a file."""

from __future__ import annotations

import json
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


def table(rows: list[list[str]]) -> list[str]:
    """Rows as aligned text."""
    widths = [max(len(row[i]) for row in rows) for i in range(len(rows[0]))] if rows else []
    return ["  ".join(cell.ljust(width) for cell, width in zip(row, widths, strict=True)).rstrip() for row in rows]


def text_of(file: Path) -> str:
    """A file's text. Raises InputError."""
    try:
        return file.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(f"{file} cannot be read: {error}") from error
