"""`package inspect`: looking into a package. It works without a server, and loads nothing that this
does not need.
"""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

import typer

from nimble_stone.cli.say import Json, answer, table
from nimble_stone.core.errors import NotFound
from nimble_stone.core.units import size_text

app = typer.Typer(add_completion=False, pretty_exceptions_enable=False)


@app.command()
def package_inspect(
    package: str,
    lang: Annotated[str, typer.Option(help="Language of the texts, for example de.")] = "",
    trust: Annotated[
        list[Path] | None, typer.Option(help="PEM file of publishers to trust; repeatable.")
    ] = None,
    as_json: Json = False,
) -> None:
    """Contents of a package. PACKAGE: a file (works without a server), the first digits of a
    SHA-256, or “Product version”.
    """
    if Path(package).is_file():
        from nimble_stone.cli import tools

        raise typer.Exit(tools.inspect_file(Path(package), lang, trust or [], as_json))
    if "/" in package or package.endswith(
        (".ova", ".ovf", ".vmdk", ".qcow2", ".iso", ".img", ".raw")
    ):
        raise NotFound(f"there is no file {package}")
    from nimble_stone.cli.client import Client

    found = Client().call("GET", f"/api/packages/{package}")
    answer(
        found,
        as_json,
        f"{found['product']} {found['version']} by {found['vendor'] or 'an unnamed publisher'}",
        *package_lines(found),
    )


def package_lines(p: dict[str, Any]) -> list[str]:
    """A package of the server, as lines."""
    lines = [
        f"a node's disks: {size_text(p['thin_bytes'])} thin, {size_text(p['full_bytes'])} fully"
        " reserved"
    ]
    lines += (
        [
            "sizes:",
            *(
                "  " + line
                for line in table(
                    [
                        [
                            s["id"] or s["label"],
                            f"{s['vcpu']} vCPU",
                            size_text(s["memory_bytes"]),
                            s["description"],
                            s["carries"],
                        ]
                        for s in p["sizes"]
                    ]
                )
            ),
        ]
        if p["sizes"]
        else []
    )
    lines += ["networks: " + ", ".join(n["name"] for n in p["networks"])] if p["networks"] else []
    lines += (
        [
            "questions:",
            *(
                "  " + line
                for line in table(
                    [[q["key"], q["rule"], q["label"]] for q in p["questions"] if q["asked"]]
                )
            ),
        ]
        if p["questions"]
        else []
    )
    lines += [
        f"VM: {d['device']} {d['outcome']}: {d['was'] or '-'} → {d['becomes'] or 'nothing'}"
        for d in p["differences"]
        if d["weight"] == "caution"
    ]
    lines += [f"{f['severity']}: {f['message']}" for f in p["findings"] if f["severity"] != "note"]
    whole = {
        "absent": "no manifest",
        "verified": "all listed digests match",
        "failed": "the manifest does not match",
    }[p["manifest"]]
    return [
        *lines,
        (
            f"licence: {len(p['licence_text'].split())} words to accept"
            if p["licence_text"]
            else "licence: none"
        ),
        (
            f"integrity: {whole};"
            f" signature {p['signature']}{' by ' + p['signer']['subject'] if p['signer'] else ''}"
        ),
    ]
