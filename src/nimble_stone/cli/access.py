"""Commands on who may come in: sessions and tokens."""

from __future__ import annotations

import time
from typing import Any

import typer

from nimble_stone.cli.client import Client
from nimble_stone.cli.say import Json, answer, table
from nimble_stone.core.units import time_text

app = typer.Typer(help="Access: sessions and tokens.", no_args_is_help=True)


def _lines(found: dict[str, Any]) -> list[str]:
    lines = [f"{found['sessions']} open sessions"]
    for token in found["tokens"]:
        used = (
            f"used {time_text(time.time() - token['used_at'])} ago"
            if token["used_at"]
            else "never used"
        )
        lines += table([[token["id"], token["name"], used]])
    return lines


@app.command("tokens")
def tokens(as_json: Json = False) -> None:
    """Open sessions and tokens."""
    found = Client().call("GET", "/api/access")
    answer(found, as_json, *_lines(found))


@app.command("token")
def token(name: str, as_json: Json = False) -> None:
    """Create a token for a script; it is shown once. Needs NIMBLE_STONE_KEY: a token cannot create
    tokens.
    """
    found = Client().call("POST", "/api/access/tokens", {"name": name})
    answer(found, as_json, found["token"])


@app.command("revoke")
def revoke(ident: str, as_json: Json = False) -> None:
    """Revoke a token by its id."""
    found = Client().call("DELETE", f"/api/access/tokens/{ident}")
    answer(found, as_json, f"Token {ident} revoked.")


@app.command("end-sessions")
def end_sessions(as_json: Json = False) -> None:
    """End all browser sessions; tokens stay."""
    found = Client().call("DELETE", "/api/access/sessions")
    answer(found, as_json, f"{found['ended']} sessions ended.")
