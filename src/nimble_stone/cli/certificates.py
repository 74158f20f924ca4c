"""Commands about certificates."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated
from urllib.parse import quote

import typer

from nimble_stone.cli.client import Client
from nimble_stone.cli.say import Json, answer, text_of

app = typer.Typer(
    help="Certificates: the built-in CA, and uploaded pairs.",
    no_args_is_help=True,
)


@app.command("authority")
def show_authority(as_json: Json = False) -> None:
    """The built-in CA's certificate (PEM) on standard output, for clients that trust nodes."""
    found = Client().call("GET", "/api/authority")
    answer(found, as_json, found["certificate"].rstrip())


@app.command("show")
def show(
    plan: str,
    column: Annotated[str, typer.Argument(help="Such as certificate.interface.")],
    node: str = "",
    as_json: Json = False,
) -> None:
    """A certificate's details in a plan, and the names it must have."""
    found = Client().call(
        "GET", f"/api/plans/{quote(plan)}/pair?column={quote(column)}&node={quote(node)}"
    )
    answer(
        found,
        as_json,
        found["words"] or "made here, one for each node",
        f"for {', '.join(found['names'])}",
    )


@app.command("bring", hidden=True)  # its name before
@app.command("upload")
def bring(
    plan: str,
    column: Annotated[str, typer.Argument(help="Such as certificate.interface.")],
    certificate: Annotated[
        Path, typer.Argument(help="PEM: the node's certificate first, then its issuers.")
    ],
    key: Annotated[Path, typer.Argument(help="Its private key, PEM, without passphrase.")],
    node: Annotated[str, typer.Option(help="For one node only.")] = "",
    as_json: Json = False,
) -> None:
    """Upload a certificate with its private key for a plan's nodes. They must match."""
    client = Client()
    version = client.call("GET", f"/api/plans/{quote(plan)}")["version"]
    client.call(
        "POST",
        f"/api/plans/{quote(plan)}/pair",
        {
            "version": version,
            "column": column,
            "node": node,
            "certificate": text_of(certificate),
            "key": text_of(key),
        },
    )
    found = client.call(
        "GET", f"/api/plans/{quote(plan)}/pair?column={quote(column)}&node={quote(node)}"
    )
    answer(found, as_json, f"kept: {found['words']}")
