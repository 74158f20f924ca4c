"""Looking into bare machines from the command line."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated, Any

import typer

from nimble_stone.cli.client import Client
from nimble_stone.cli.estate import app as app
from nimble_stone.cli.estate import follow
from nimble_stone.cli.say import FINE, FOUND, Json, answer, table
from nimble_stone.core.errors import InputError, NotFound
from nimble_stone.core.units import size_text


class Ways(StrEnum):
    """What a machine may boot from."""

    MEDIA = "media"
    NETWORK = "network"


WORDS = {Ways.MEDIA: "virtual media", Ways.NETWORK: "the network"}


@app.command("inspect")
def estate_inspect(
    machines: Annotated[list[str], typer.Argument(help="Machines to be inspected.")],
    restart: Annotated[
        list[str] | None,
        typer.Option(help="A machine that is on and may be restarted; repeatable."),
    ] = None,
    yes: Annotated[
        bool, typer.Option("--yes", help="Boot them; without it, only show what would be done.")
    ] = False,
    as_json: Json = False,
) -> None:
    """Boot machines once from the inspection medium and read what they are inside: interfaces with
    their names and neighbours, disks with what they hold. They are left as they were found.
    """
    may = restart or []
    if strange := [name for name in may if name not in machines]:
        raise InputError(f"{strange[0]} is not among the machines to be inspected")
    work: dict[str, Any] = {
        "actions": [
            {"kind": "inspect", "host": name, "confirmed": name if name in may else ""}
            for name in machines
        ]
    }
    _carry_out(Client(), work, yes, as_json)


@app.command("wipe")
def estate_wipe(
    machine: str,
    serials: Annotated[list[str], typer.Argument(help="Serial numbers of the drives.")],
    confirm: Annotated[
        str, typer.Option(help="Machine and number of drives, to confirm: “gneiss 2 drives”.")
    ] = "",
    yes: Annotated[
        bool, typer.Option("--yes", help="Wipe them; without it, only show what would be done.")
    ] = False,
    as_json: Json = False,
) -> None:
    """Remove all signatures from drives of a machine that is off. Data cannot be restored. A drive
    is wiped only if it is as the last inspection saw it; otherwise none is.
    """
    client = Client()
    action = {
        "kind": "wipe-drives",
        "host": machine,
        "drives": _drives(client, machine, serials),
        "confirmed": confirm,
    }
    _carry_out(client, {"actions": [action]}, yes, as_json)


@app.command("write")
def estate_write(
    machine: str,
    serial: Annotated[str, typer.Argument(help="Serial number of the drive.")],
    package: Annotated[str, typer.Argument(help="“Product version”, or its SHA-256.")],
    confirm: Annotated[
        str, typer.Option(help="Machine and drive, to confirm: “gneiss 1 drive”.")
    ] = "",
    yes: Annotated[
        bool, typer.Option("--yes", help="Write it; without it, only show what would be done.")
    ] = False,
    as_json: Json = False,
) -> None:
    """Write the disk of a package to a drive of a machine that is off, and read it back. What the
    drive holds is lost. The machine is left off, with nothing in its virtual media.
    """
    client = Client()
    action = {
        "kind": "write-image",
        "host": machine,
        "drive": _drives(client, machine, [serial])[0],
        "package": _package(client, package),
        "confirmed": confirm,
    }
    _carry_out(client, {"actions": [action]}, yes, as_json)


def _drives(client: Client, machine: str, serials: list[str]) -> list[dict[str, Any]]:
    """The drives as the last inspection saw them; one that it did not see has 0 bytes, and is
    refused by the server in its own words.
    """
    inside = _inside(client, machine)
    known = {disk["serial"]: disk for disk in inside["disks"]} if inside else {}
    return [
        {
            "serial": serial,
            "size_bytes": known[serial]["size_bytes"] if serial in known else 0,
            "holds": known[serial]["holds"] if serial in known else [],
        }
        for serial in serials
    ]


def _package(client: Client, wanted: str) -> str:
    """The SHA-256 of a package. Raises NotFound."""
    for row in client.call("GET", "/api/packages"):
        if wanted == f"{row['product']} {row['version']}" or (
            len(wanted) >= 12 and row["sha256"].startswith(wanted)
        ):
            return str(row["sha256"])
    raise NotFound(
        f"there is no package “{wanted}”; `nimble-stone package list` shows those there are"
    )


def _carry_out(client: Client, work: dict[str, Any], yes: bool, as_json: bool) -> None:
    """Show what would be done, or do it and follow it to its end."""
    seen = client.call("POST", "/api/estate/groundwork/preview", work)
    lines: list[str] = []
    for step in seen["steps"]:
        lines += [f"{step['host']}: {step['label']}", *(f"  ! {text}" for text in step["refusals"])]
        lines += [f"  {command}" for command in step["commands"]]
    if not yes:
        answer(seen, as_json, *lines, "Preview only. Add --yes to start.")
        raise typer.Exit(FOUND if any(step["refusals"] for step in seen["steps"]) else FINE)
    view = client.call("POST", "/api/estate/groundwork", {"run": seen["run"], "work": work})
    follow(client, view, as_json)


def _inside(client: Client, machine: str) -> dict[str, Any] | None:
    """What the last inspection saw, None when there was none. Raises NotFound."""
    found = client.call("GET", "/api/estate/machines")
    one = next((m for m in found if m["machine"]["name"] == machine), None)
    if one is None:
        raise NotFound(f"the estate has no machine “{machine}”")
    inside: dict[str, Any] | None = one["facts"]["inside"]
    return inside


@app.command("inside")
def estate_inside(machine: str, as_json: Json = False) -> None:
    """What the last inspection of a machine saw."""
    inside = _inside(Client(), machine)
    if inside is None:
        answer(
            None,
            as_json,
            f"{machine} was never inspected. Inspect it: nimble-stone estate inspect {machine}",
        )
        raise typer.Exit(FOUND)
    answer(
        inside,
        as_json,
        f"{machine}: {inside['product']}, serial {inside['serial']}, {inside['firmware'].upper()},"
        f" {size_text(inside['memory_bytes'])}, {inside['threads']} threads, {inside['cpu']}",
        *table([_nic_row(nic) for nic in inside["nics"]]),
        *table([_disk_row(disk) for disk in inside["disks"]]),
    )


def _nic_row(nic: dict[str, Any]) -> list[str]:
    links = {True: "link", False: "no link", None: "link not reported"}
    beyond = nic["neighbour"] or {"name": "", "port": ""}
    speed = f"{nic['speed_mbit']} Mbit" if nic["speed_mbit"] else "-"
    return [nic["name"], nic["mac"], links[nic["link"]], speed, beyond["name"], beyond["port"]]


def _disk_row(disk: dict[str, Any]) -> list[str]:
    return [
        disk["device"],
        disk["serial"] or "-",
        disk["kind"],
        size_text(disk["size_bytes"]),
        _holds(disk) or "blank",
    ]


def _holds(disk: dict[str, Any]) -> str:
    """What a disk holds, in a few words."""
    return ", ".join(
        " ".join(part for part in (sign["device"], sign["kind"], sign["label"]) if part)
        for sign in disk["holds"]
    )


@app.command("boots-from")
def estate_boots_from(
    machine: str,
    way: Annotated[Ways, typer.Argument(help="media: virtual media; network: PXE and iPXE.")],
    as_json: Json = False,
) -> None:
    """How a machine gets what it boots. For `network` the server answers on one of its interfaces
    (serve --netboot-interface).
    """
    found = Client().call("PATCH", f"/api/estate/machines/{machine}", {"boots": way.value})
    one = next(one["machine"] for one in found if one["machine"]["name"] == machine)
    answer(one, as_json, f"{machine} boots from {WORDS[way]}.")
