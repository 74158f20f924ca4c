"""backup and restore: a data folder as one file."""

from __future__ import annotations

import os
import sys
import time
from pathlib import Path
from typing import Annotated

import typer

from nimble_stone.cli.client import data_folder
from nimble_stone.cli.disks import Progress
from nimble_stone.cli.say import Json, answer
from nimble_stone.core.errors import InputError
from nimble_stone.core.units import size_text

Data = Annotated[
    Path | None,
    typer.Option(help="Data folder; else NIMBLE_STONE_DATA or ~/.local/share/nimble-stone."),
]
VARIABLE = "NIMBLE_STONE_PASSPHRASE"


def add_commands(app: typer.Typer) -> None:
    """backup and restore on the main command."""
    app.command("backup")(backup)
    app.command("restore")(restore)


def _passphrase(twice: bool) -> str:
    known = os.environ.get(VARIABLE)
    if known is not None:
        return known
    if not sys.stdin.isatty():
        raise InputError(
            "No passphrase for the keyring.",
            code="passphrase-missing",
            hint=f"Set {VARIABLE}, or leave the keyring out: --without-keyring.",
        )
    return str(
        typer.prompt("Passphrase for the keyring", hide_input=True, confirmation_prompt=twice)
    )


def backup(
    file: Path,
    data: Data = None,
    without_keyring: Annotated[
        bool,
        typer.Option("--without-keyring", help="Leave out the keyring's key; store it elsewhere."),
    ] = False,
    packages: Annotated[bool, typer.Option("--packages", help="Include packages.")] = False,
    as_json: Json = False,
) -> None:
    """Back the data folder up into one file, also while the server runs. The file is checked after
    writing.
    """
    from nimble_stone.engine import backup as work

    folder = data or data_folder()
    file = file.absolute()
    passphrase = None if without_keyring else _passphrase(twice=True)
    work.ensure_room(folder, file, packages)
    teller = Progress("writing")
    teller.total = max(1, work.room_for(folder, packages))
    made = work.write(
        folder, file, made_at=time.time(), passphrase=passphrase, packages=packages, seen=teller.at
    )
    teller.end()
    keyring = (
        "with its keyring"
        if made.keyring
        else "without the keyring: no secret can be opened from it alone"
    )
    answer(
        vars(made),
        as_json,
        f"{file}: {size_text(made.bytes)}, checked. {made.plans} plans, {made.runs} runs,"
        f" {made.kits} kits, {made.blobs} package files, {keyring}.",
    )


def restore(file: Path, data: Data = None, as_json: Json = False) -> None:
    """Restore a backup into an empty data folder. Runs that were under way are put on hold."""
    from nimble_stone.engine import backup as work

    folder = (data or data_folder()).absolute()
    teller = Progress("reading")
    teller.total = max(1, file.stat().st_size if file.exists() else 1)
    found = work.restore(
        file, folder, passphrase=lambda: _passphrase(twice=False), at=time.time(), seen=teller.at
    )
    teller.end()
    lines = [
        f"Restored into {folder}: {found.plans} plans, {found.runs} runs, {found.kits} kits,"
        f" {found.blobs} package files."
    ]
    if found.active_runs:
        lines.append(
            f"{found.active_runs} runs were running when the backup was made; they are on hold."
            " Compare them with the hosts before you resume."
        )
    if not found.keyring:
        lines.append(
            f"The backup holds no keyring. Put keyring.key into {folder} before you start the"
            " server."
        )
    lines.append("The access key is that of the backup; `nimble-stone key` makes a new one.")
    answer(vars(found), as_json, *lines)
