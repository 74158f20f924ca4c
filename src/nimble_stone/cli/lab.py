"""The lab from the command line: serving it, and turning its knobs."""

from __future__ import annotations

import asyncio
import json
import logging
import os
import signal
from pathlib import Path
from typing import Annotated

import typer

from nimble_stone.cli.say import text_of
from nimble_stone.core.errors import InputError, Unreachable

app = typer.Typer(help="The lab: simulated hosts with fault settings.", no_args_is_help=True)
Folder = Annotated[
    Path | None,
    typer.Option(
        help="The lab's folder; else the folder “lab” in NIMBLE_STONE_DATA, else .demo/lab."
    ),
]


def _folder(given: Path | None) -> Path:
    """The lab's folder."""
    data = os.environ.get("NIMBLE_STONE_DATA")
    return given or (Path(data) / "lab" if data else Path(".demo/lab"))


@app.command()
def serve(
    folder: Folder = None,
    octet: int = 44,
    speed: float = 1.0,
    more_hosts: int = 0,
    port: int = 0,
    answers: Annotated[
        Path | None, typer.Option(help="A file of answers that all VMs give: see the docs of kits.")
    ] = None,
) -> None:
    """Start the lab."""
    from nimble_stone.core import yaml_text
    from nimble_stone.lab.guests.answers import Answers
    from nimble_stone.lab.scenario import demo
    from nimble_stone.lab.serve import Lab

    written = (
        yaml_text.read(text_of(answers), Answers, f"answers file {answers}") if answers else None
    )
    place = _folder(folder)
    logging.getLogger("asyncssh").setLevel(logging.ERROR)

    async def run() -> None:
        (place / "control.json").unlink(missing_ok=True)
        lab = Lab(demo.plan(more_hosts, octet), place, speed, written)
        await lab.open(port)
        ended = asyncio.Event()
        for number in (signal.SIGINT, signal.SIGTERM):
            asyncio.get_running_loop().add_signal_handler(number, ended.set)
        await ended.wait()
        await lab.close()

    asyncio.run(run())


def _control(folder: Path, method: str, path: str, body: dict[str, object] | None = None) -> object:
    import httpx

    try:
        port = json.loads((folder / "control.json").read_text())["port"]
        answer = httpx.request(
            method, f"http://127.0.0.1:{port}{path}", json=body, timeout=30, trust_env=False
        )
    except (OSError, httpx.HTTPError) as error:
        raise Unreachable(
            f"the lab in {folder} does not answer", hint="Start it with `make demo`."
        ) from error
    if answer.status_code >= 400:
        raise InputError(str(answer.json().get("reason")))
    return answer.json()


@app.command()
def show(folder: Folder = None) -> None:
    """Fault settings, VMs and what was made, as JSON."""
    typer.echo(json.dumps(_control(_folder(folder), "GET", "/lab"), indent=2))


@app.command("set")
def turn(host: str, knobs: list[str], folder: Folder = None) -> None:
    """Change fault settings of a host: slow_s=2 rate=1e6 unreachable=true login_refused=true
    full=true cut_after=1000000 new_host_key=true emulation=true garbage=true crash=true
    flood_mib=200 hang=true clock_s=9 narrow=1400 walled=true; of a machine: slow_s unreachable
    login_refused starting new_certificate garbage boots_from_disk deaf hangs reports_twice
    slow_link=2e6 power=On reports_as=SERIAL habits=WORD,WORD (`lab habits` lists them). HOST “all”
    takes speed=5 occupied=10.44.20.12 guest:NAME=never-boots|never-ready|other-key|ok.
    """
    body: dict[str, object] = {}
    for item in knobs:
        key, mark, value = item.partition("=")
        if not mark:
            raise InputError(f"“{item}” is not of the form setting=value")
        if key in ("occupied", "habits"):
            body[key] = [part for part in value.split(",") if part]
        elif key.startswith("guest:"):
            troubles = body.setdefault("guests", {})
            assert isinstance(troubles, dict)
            troubles[key.removeprefix("guest:")] = "" if value == "ok" else value
        elif key in ("reports_as", "power"):
            body[key] = value
        else:
            body[key] = (
                {"true": True, "false": False}.get(value)
                if value in ("true", "false")
                else float(value)
            )
    for key in {"cut_after", "flood_mib", "narrow"} & set(body):
        body[key] = int(float(str(body[key])))
    typer.echo(
        json.dumps(
            _control(
                _folder(folder), "POST", "/lab" if host == "all" else f"/lab/hosts/{host}", body
            )
        )
    )


@app.command("habits")
def habit_list() -> None:
    """The habits of management controllers that a machine of the lab can take on."""
    from nimble_stone.lab.controllers.habits import HABITS

    for word, meaning in HABITS.items():
        typer.echo(f"{word:18} {meaning}")
