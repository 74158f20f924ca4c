"""Commands on the keyring. Values are read from standard input and never shown."""

from __future__ import annotations

import sys
from typing import Annotated, Any
from urllib.parse import quote

import typer

from nimble_stone.cli.client import Client
from nimble_stone.cli.say import Json, answer, say, table

app = typer.Typer(help="The keyring: set, list, grant, revoke, remove.", no_args_is_help=True)
Plan = Annotated[str, typer.Argument(help="Name of the plan.")]


def _lines(found: list[dict[str, Any]]) -> list[str]:
    rows = [
        [
            e["name"],
            e["kind"],
            e["owner"],
            "granted to " + ", ".join(e["plans"]) if e["plans"] else "-",
        ]
        for e in found
    ]
    return table(rows) or ["The keyring has no entries. Add one: nimble-stone secret set NAME"]


@app.command("set")
def secret_set(
    name: str,
    key: Annotated[bool, typer.Option("--key", help="The value is a private key.")] = False,
) -> None:
    """Save a secret; it is read from standard input, never from the command line."""
    value = (
        typer.prompt("Value", hide_input=True)
        if sys.stdin.isatty()
        else sys.stdin.read().rstrip("\n")
    )
    body = {"kind": "key" if key else "password", "value": value}
    say(Client().call("PUT", f"/api/secrets/{quote(name)}", body)["reference"])


@app.command("list")
def secret_list(as_json: Json = False) -> None:
    """Entries of the keyring, their owners, and the plans they are granted to."""
    found = Client().call("GET", "/api/keyring")
    answer(found, as_json, *_lines(found))


@app.command("grant")
def secret_grant(name: str, plan: Plan, as_json: Json = False) -> None:
    """Let a plan open an entry of another owner."""
    found = Client().call("POST", "/api/keyring/grants", {"entry": name, "plan": plan})
    answer(found, as_json, f"Plan {plan} may open keyring entry {name}.")


@app.command("revoke")
def secret_revoke(name: str, plan: Plan, as_json: Json = False) -> None:
    """Revoke a grant; runs of the plan can no longer open the entry."""
    found = Client().call("DELETE", "/api/keyring/grants", params={"entry": name, "plan": plan})
    answer(found, as_json, f"Plan {plan} may no longer open keyring entry {name}.")


@app.command("remove")
def secret_remove(name: str, as_json: Json = False) -> None:
    """Delete an entry. It cannot be restored."""
    found = Client().call("DELETE", f"/api/secrets/{quote(name)}")
    answer(found, as_json, f"Keyring entry {name} deleted.")
