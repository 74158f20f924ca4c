"""Plans: list, check, place, size, compare, carry over, many at once, in and out of files."""

from __future__ import annotations

import base64
import sys
from pathlib import Path
from typing import Annotated, Any
from urllib.parse import quote

import typer

from nimble_stone.cli.client import Client
from nimble_stone.cli.say import (
    FINE,
    FOUND,
    Json,
    answer,
    findings,
    say,
    sentence,
    table,
    text_of,
    verdict,
)
from nimble_stone.core.errors import InputError
from nimble_stone.core.units import count_text, size_text, time_text

app = typer.Typer(
    help="Plans: check, place, size, compare, import, export, many at once.", no_args_is_help=True
)
Facts = Annotated[
    Path | None,
    typer.Option("--facts", help="Without a server: a file made by `estate facts --json`."),
]
PackageFile = Annotated[
    list[Path] | None,
    typer.Option(
        "--package",
        help="With --facts: the package's file; repeat for roles with another product.",
    ),
]
Include = Annotated[
    list[Path] | None,
    typer.Option(
        "--include",
        help=(
            "With --facts: further files of shared values; those next to the plan are found"
            " automatically."
        ),
    ),
]


@app.command("list")
def plan_list(as_json: Json = False) -> None:
    """All plans."""
    found = Client().call("GET", "/api/plans")
    rows = [
        [
            p["id"],
            p["title"],
            p["kit"],
            p["bay"],
            str(p["nodes"]),
            p["run"]["state"] if p["run"] else "no run",
        ]
        for p in found
    ]
    answer(
        found,
        as_json,
        *(
            table([["plan", "title", "kit", "bay", "nodes", "state"], *rows])
            if rows
            else ["No plans."]
        ),
    )


@app.command("new")
def plan_new(
    name: str,
    kit: Annotated[str, typer.Option(help="Id of the kit.")],
    bay: Annotated[str, typer.Option(help="Bay whose hosts it may use.")],
    package: Annotated[
        list[str] | None,
        typer.Option(
            help="“Product version”, or ROLE=“Product version”; else the newest that is stable and"
            " trusted."
        ),
    ] = None,
    as_json: Json = False,
) -> None:
    """Create a plan with defaults from the kit, the bay and the pools."""
    chosen = {}
    for text in package or ():
        role, _, title = text.rpartition("=")
        chosen[role] = title
    found = Client().call(
        "POST", "/api/plans", {"name": name, "kit": kit, "bay": bay, "packages": chosen}
    )
    answer(found, as_json, sentence(found["sentence"]), *findings(found))


@app.command("licence")
def plan_licence(
    plan: str,
    by: Annotated[
        str, typer.Option(help="Who accepts; recorded with the time. Without it the text is shown.")
    ] = "",
    as_json: Json = False,
) -> None:
    """Show the licence of a plan's packages, or accept it in a person's name."""
    client = Client()
    found = client.call("GET", f"/api/plans/{plan}")
    if not by:
        answer(
            {"text": found["licence_text"], "by": found["licence_by"]},
            as_json,
            found["licence_text"] or "The packages of this plan have no licence text.",
        )
        return
    found = client.call(
        "POST", f"/api/plans/{plan}/licence", {"version": found["version"], "by": by}
    )
    answer(found, as_json, f"Licence accepted by {by}.")


@app.command("check")
def plan_check(
    plan: str,
    offline: Annotated[
        bool, typer.Option("--offline", help="Use the last facts; connect to nothing.")
    ] = False,
    facts: Facts = None,
    package: PackageFile = None,
    include: Include = None,
    as_json: Json = False,
) -> None:
    """Check a plan of the server, or a plan file without saving it."""
    if facts is not None:
        given = _without_server(plan, facts, package or [], include)
        answer(
            given["check"],
            as_json,
            *findings(given),
            f"{len(given['check']['nodes'])} nodes, checked against {facts}",
        )
        raise typer.Exit(verdict(given))
    if as_json:
        found = _asked(plan, live=not offline and not Path(plan).is_file())["check"]
        answer(found, True)
        raise typer.Exit(verdict(found))
    client = Client()
    if Path(plan).is_file():
        found = client.call("POST", "/api/plans/check", {"text": text_of(Path(plan))})
    else:
        found = (
            client.call("GET", f"/api/plans/{plan}")
            if offline
            else client.patient(f"/api/plans/{plan}/check")
        )
    answer(found, as_json, sentence(found["sentence"]), *findings(found))
    raise typer.Exit(verdict(found))


@app.command("place")
def plan_place(
    plan: str,
    facts: Facts = None,
    package: PackageFile = None,
    include: Include = None,
    why: Annotated[str, typer.Option(help="A node: every host compared as its placement.")] = "",
    balance: Annotated[
        bool, typer.Option("--balance", help="Which moves would rebalance it.")
    ] = False,
    as_json: Json = False,
) -> None:
    """Placement: the host of each node, how balanced it is, and why a node has no host. Exit code 1
    when one has none.
    """
    given = _without_server(plan, facts, package or [], include) if facts else None
    if why != "":
        places = _places(plan, why, given)
        rows = [
            ["host", "full with it", "", "why not"],
            *(
                [p["host"], f"{p['load']:.0%}", "here" if p["here"] else "", p["reason"]]
                for p in places
            ),
        ]
        answer(places, as_json, *table(rows))
        raise typer.Exit(FINE if places else FOUND)
    if balance:
        found = given["balance"]() if given else Client().call("GET", f"/api/plans/{plan}/balance")
        answer(
            found,
            as_json,
            *(f"{m['name']}: {m['host']} → {m['to']}" for m in found["moves"]),
            (
                f"The fullest host goes from {found['before']:.0%} to {found['after']:.0%}."
                if found["moves"]
                else f"Already balanced; the fullest host is {found['before']:.0%} full."
            ),
        )
        return
    found = (given if given else _asked(plan))["place"]
    spread = found["spread"]
    rows = [
        ["node", "host", "datastore"],
        *(
            [name, one["host"] or "none", one["datastore"]]
            for name, one in found["assignments"].items()
        ),
    ]
    answer(
        found,
        as_json,
        *table(rows),
        f"The fullest host is {spread['worst_load']:.0%} full; best possible"
        f" {spread['bound']:.0%}.",
        *(f"{name}: {reason}" for name, reason in found["reasons"].items()),
    )
    raise typer.Exit(FOUND if found["reasons"] else FINE)


def _places(plan: str, node: str, given: dict[str, Any] | None) -> list[dict[str, Any]]:
    if given:
        return list(given["why"](node))
    view = Client().call("GET", f"/api/plans/{plan}")
    ident = next((one["id"] for one in view["nodes"] if node in (one["id"], one["name"])), node)
    return list(Client().call("GET", f"/api/plans/{plan}/why?node={ident}"))


@app.command("forecast")
def plan_forecast(
    plan: str,
    facts: Facts = None,
    package: PackageFile = None,
    include: Include = None,
    as_json: Json = False,
) -> None:
    """Duration of the rollout: expected time (p50), p90, and the critical path."""
    found = (_without_server(plan, facts, package or [], include) if facts else _asked(plan))[
        "check"
    ]["forecast"]
    answer(
        found,
        as_json,
        f"Expected: {time_text(found['expected_seconds'])}. 90% of simulated runs: at most"
        f" {time_text(found['p90_seconds'])}.",
        "Critical path: " + " → ".join(found["critical_path"]),
    )


@app.command("size")
def plan_size(
    plan: str,
    load: Annotated[
        list[str] | None,
        typer.Option("--load", help="LOAD=NUMBER; others come from the plan, then the kit."),
    ] = None,
    facts: Facts = None,
    package: PackageFile = None,
    include: Include = None,
    take: Annotated[
        bool, typer.Option("--apply", "--take", help="Apply the proposal to the plan.")
    ] = False,
    as_json: Json = False,
) -> None:
    """Sizes and node counts for a workload, and why nothing smaller is enough. Exit code 1 when no
    size is enough.
    """
    loads = {}
    for item in load or []:
        name, _, number = item.partition("=")
        try:
            loads[name] = float(number)
        except ValueError as error:
            raise InputError(
                f"--load {item}: “{number}” is not a number", hint="Give it as gauges=140."
            ) from error
    found = (
        _without_server(plan, facts, package or [], include)["size"](loads)
        if facts
        else Client().call("POST", f"/api/plans/{plan}/sizing", {"loads": loads})
    )
    if take and not facts:
        version = Client().call("GET", f"/api/plans/{plan}")["version"]
        Client().call("PATCH", f"/api/plans/{plan}", {"version": version, "edits": found["edits"]})
    answer(
        found,
        as_json,
        *(f"{one['label']}: {one['value']:g} {one['unit']}".rstrip() for one in found["loads"]),
        *(one["words"] for one in found["proposals"]),
        *(["Taken over."] if take and not facts else []),
    )
    raise typer.Exit(FINE if all(one["chosen"] for one in found["proposals"]) else FOUND)


@app.command("headroom")
def plan_headroom(
    plan: str,
    pairs: Annotated[bool, typer.Option("--pairs", help="Two hosts lost together.")] = False,
    facts: Facts = None,
    package: PackageFile = None,
    include: Include = None,
    as_json: Json = False,
) -> None:
    """Failure impact of each host, and which nodes fit elsewhere. Exit code 1 when
    something stops or is lost.
    """
    together = 2 if pairs else 1
    found = (
        _without_server(plan, facts, package or [], include)["headroom"](together)
        if facts
        else Client().call("GET", f"/api/plans/{plan}/headroom?together={together}")
    )
    rows = [["lost", "", "nodes", "elsewhere", "what it means"]]
    rows += [
        [
            " + ".join(one["hosts"]),
            one["weight"],
            str(len(one["nodes"])),
            str(len(one["fit"])),
            "; ".join(one["words"]),
        ]
        for one in found
    ]
    answer(found, as_json, *table(rows))
    raise typer.Exit(FOUND if any(one["weight"] == "broken" for one in found) else FINE)


@app.command("layout")
def plan_layout(
    plan: Annotated[str, typer.Argument(help="A plan; leave out with --bay.")] = "",
    bay: Annotated[
        str, typer.Option(help="Instead of a plan: the drives and free disks of a bay.")
    ] = "",
    kind: Annotated[str, typer.Option(help="SSD or HDD.")] = "",
    least_gib: float = 0.0,
    most: Annotated[int, typer.Option(help="Maximum disks per machine.")] = 0,
    facts: Facts = None,
    package: PackageFile = None,
    include: Include = None,
    as_json: Json = False,
) -> None:
    """Redundancy schemes for the plan's data disks, or a bay's, compared."""
    if not plan and not bay:
        raise InputError("name a plan, or a bay with --bay")
    if bay:
        found = Client().call(
            "GET", f"/api/estate/bays/{bay}/layout?kind={kind}&least_gib={least_gib}&most={most}"
        )
    else:
        found = (
            _without_server(plan, facts, package or [], include)["layout"]()
            if facts
            else Client().call("GET", f"/api/plans/{plan}/layout")
        )
    rows = [["scheme", "usable", "safe after a host", "raw", "wasted", "survives", ""]]
    for one in found:
        rows.append(
            [
                one["label"] + (" (chosen)" if one.get("chosen") else ""),
                *(
                    size_text(one[key])
                    for key in ("usable_bytes", "safe_bytes", "raw_bytes", "wasted_bytes")
                ),
                f"{one['survives_domains']} hosts",
                one["reason"],
            ]
        )
    answer(
        found,
        as_json,
        *(table(rows) if found else ["The plan lays no data disks on top of its package."]),
    )


@app.command("diff")
def plan_diff(
    first: str,
    second: Annotated[
        str, typer.Argument(help="A plan or a file; default: the deployed plan.")
    ] = "",
    facts: Facts = None,
    package: PackageFile = None,
    include: Include = None,
    as_json: Json = False,
) -> None:
    """Differences from FIRST to SECOND; with FIRST alone: from what its run built to the plan. Exit
    code 1 when they differ.
    """
    if facts is not None:
        from nimble_stone.cli import offline

        found = {
            "differences": offline.difference(
                Path(first), Path(second), facts, package or [], include or []
            )
        }
    elif second:
        found = Client().call("GET", f"/api/plans/{second}/difference?plan={first}")
    else:
        found = Client().call("GET", f"/api/plans/{first}/difference")
    lines = [one["text"] for one in found["differences"]]
    answer(found, as_json, *(lines or ["No difference."]))
    raise typer.Exit(FOUND if lines else FINE)


def _drives_of(node: dict[str, Any]) -> str:
    """The drives of a node on a bare machine: the system's, then the others; '' for a VM."""
    cells: dict[str, Any] = node["cells"]
    columns = ["system.drive", *sorted(key for key in cells if key.endswith(".drives"))]
    found = [cells[key]["value"] for key in columns if key in cells]
    return " + ".join(value for value in found if value)


def _drives_text(one: dict[str, Any]) -> str:
    """What becomes of the drives of a bare machine whose node goes."""
    parts = [
        f"{what} {', '.join(one[key])}"
        for what, key in (("wiped:", "wiped"), ("not wiped:", "left"))
        if one[key]
    ]
    return f"  Drives of {one['host']} ({one['name']}), {'; '.join(parts)}"


def _place(one: dict[str, Any]) -> str:
    return f"{one['name']} ({one['role']}) on {one['host'] or 'no host'}"


@app.command("changes")
def plan_changes(
    plan: str,
    again: Annotated[
        list[str] | None,
        typer.Option("--again", help="Deployed node to make again, such as lead-1."),
    ] = None,
    stage: Annotated[str, typer.Option(help="The stage of the setup to run again alone.")] = "",
    lost: Annotated[
        list[str] | None,
        typer.Option(help="Host that is lost for good: its nodes are made again elsewhere."),
    ] = None,
    as_json: Json = False,
) -> None:
    """What `run start` would change of what is deployed: nodes to add and remove, values that
    differ, and the steps. Exit code 1 when there is something to do, or something is in the way.
    """
    query = "&".join(f"again={quote(one)}" for one in again or [])
    query += f"&stage={quote(stage)}" if stage else ""
    query += "".join(f"&lost={quote(one)}" for one in lost or [])
    found = Client().call("GET", f"/api/plans/{plan}/changes?{query}")
    if not found["stands"]:
        answer(found, as_json, f"Nothing of {plan} is deployed. Roll it out: run start {plan}")
        return
    lines = [f"{count_text(found['nodes'], 'node')} of {plan} deployed."]
    added, removed = ({one["node"] for one in found[what]} for what in ("adds", "removes"))
    upgraded = {one["node"] for one in found["upgrades"]}
    lines += [
        f"  {'Make again' if one['node'] in removed else 'Add'} {_place(one)}"
        for one in found["adds"]
        if one["node"] not in upgraded
    ]
    bare = {one["node"] for one in found["removes"] if one["on_machine"]}
    lines += [_upgrade_text(one, one["node"] in bare) for one in found["upgrades"]]
    lines += [f"  Remove {_place(one)}" for one in found["removes"] if one["node"] not in added]
    lines += [_drives_text(one) for one in found["removes"] if one["on_machine"]]
    lines += [
        f"  Grow {one['disk']} of {one['name']}: {size_text(one['was_bytes'])} →"
        f" {size_text(one['now_bytes'])}"
        for one in found["grows"]
        if one["was_bytes"]
    ]
    lines += [
        f"  Add {one['disk']} to {one['name']}: {size_text(one['now_bytes'])}, while it runs"
        for one in found["grows"]
        if not one["was_bytes"]
    ]
    lines += [
        f"  Resize {one['name']} on {one['host']}, with a restart:"
        f" {one['was_vcpu']} → {one['now_vcpu']} vCPU, {size_text(one['was_memory'])} →"
        f" {size_text(one['now_memory'])}"
        for one in found["resizes"]
    ]
    lines += [
        f"  Move {one['name']}, with a restart: {one['was_host']} ({one['was_store']}) →"
        f" {one['now_host']} ({one['now_store']})"
        for one in found["moves"]
    ]
    lines += [_settings_text(one, one["node"] in bare) for one in found["alters"]]
    lines += [
        f"  Differs, and stays as built: {one['label']} of {one['name']}: built"
        f" {one['was'] or 'nothing'}, planned {one['now'] or 'nothing'}"
        for one in found["differs"]
    ]
    if found["steps"]:
        lines.append(f"{len(found['steps'])} steps, about {time_text(found['forecast_s'])}:")
        lines += [f"  {step['node'] or step['host']:14} {step['label']}" for step in found["steps"]]
    else:
        lines.append("No node is to be added, removed or changed.")
    if found["stages"] and not stage:
        names = ", ".join(one["id"] for one in found["stages"])
        lines.append(f"Stages that can be run again (run start --stage): {names}")
    blockers = [one for one in found["findings"] if one["severity"] == "blocker"]
    lines += [f"In the way: {one['message']}" for one in blockers]
    answer(found, as_json, *lines)
    if found["steps"] or blockers:
        raise typer.Exit(FOUND)


UPGRADES = {
    "system": "replaces its system disk, keeps further disks",
    "again": "deletes it with its disks and makes it again",
    "drive": "writes its system drive again, keeps its data drives",
    "": "stays: the kit does not say how",
}


WAYS = {
    "call": "it is told",
    "restart": "with a restart",
    "again": "deletes it with its disks and makes it again",
}


REMADE = "removes it and makes it again"
"""What “again” is for a node on a bare machine: its drives are told one by one."""


def _settings_text(one: dict[str, Any], bare: bool) -> str:
    values = ", ".join(
        f"{each['label']} (secret)"
        if each["secret"]
        else f"{each['label']} {each['was'] or 'nothing'} → {each['now'] or 'nothing'}"
        for each in one["values"]
    )
    interrupts = f"; {one['interrupts']}" if one["interrupts"] else ""
    way = REMADE if bare else WAYS[one["way"]]
    return f"  {one['label']} of {one['name']}: {values}, {way}{interrupts}"


def _upgrade_text(one: dict[str, Any], bare: bool) -> str:
    way = REMADE if bare and one["way"] == "again" else UPGRADES[one["way"]]
    return f"  Upgrade {one['name']}: {one['was']} → {one['now']}, {way}"


@app.command("renew")
def plan_renew(plan: str, column: str, as_json: Json = False) -> None:
    """Renew a secret or a certificate of a plan, such as admin_password or certificate.web: a new
    one is made and kept. Deployed nodes get it with the next run, as their kit says.
    """
    client = Client()
    version = client.call("GET", f"/api/plans/{plan}")["version"]
    body = {"version": version, "column": column}
    found = client.call("POST", f"/api/plans/{plan}/renewal", body)
    answer(found, as_json, sentence(found["sentence"]), f"See: plan changes {plan}")


@app.command("show")
def plan_show(plan: str, as_json: Json = False) -> None:
    """The sheet and the sequence of steps."""
    client = Client()
    found = client.call("GET", f"/api/plans/{plan}") | {
        "steps": client.call("GET", f"/api/plans/{plan}/steps")
    }
    bare = any(_drives_of(n) for n in found["nodes"])
    place = "datastore or drives" if bare else "datastore"
    rows = [["node", "host", "address", place, "vCPU", "memory", "disk thin", "full"]]
    for n in found["nodes"]:
        rows.append(
            [
                n["name"],
                n["host"],
                n["cells"]["address"]["value"],
                n["cells"]["datastore"]["value"] or _drives_of(n),
                str(n["vcpu"]),
                size_text(n["memory_bytes"]),
                size_text(n["thin_bytes"]),
                size_text(n["full_bytes"]),
            ]
        )
    waves: dict[int, list[str]] = {}
    for step in found["steps"]:
        waves.setdefault(step["wave"], []).append(step["key"])
    answer(
        found,
        as_json,
        sentence(found["sentence"]),
        found["sentence"]["below"],
        "",
        *table(rows),
        "",
        *(f"wave {wave}: {', '.join(keys)}" for wave, keys in sorted(waves.items())),
    )


@app.command("import")
def plan_import(
    file: Path,
    into: Annotated[
        str,
        typer.Option(help="A plan: FILE is a table (CSV, XLSX) whose cells replace the plan's."),
    ] = "",
    as_json: Json = False,
) -> None:
    """Create a plan from a file, or a new version of the plan with that name; or fill a plan from a
    table. Exit code 1 when cells did not fit.
    """
    client = Client()
    if into:
        landed = client.call("POST", f"/api/plans/{into}/sheet", table_body(file))
        if landed["edits"]:
            client.call(
                "PATCH",
                f"/api/plans/{into}",
                {
                    "version": client.call("GET", f"/api/plans/{into}")["version"],
                    "edits": landed["edits"],
                },
            )
        answer(
            landed,
            as_json,
            f"{len(landed['edits'])} cells changed, {landed['same']} were so already.",
            *(f"row {w['row']}, {w['column']}: “{w['text']}” {w['why']}" for w in landed["wrong"]),
        )
        raise typer.Exit(FOUND if landed["wrong"] else FINE)
    from nimble_stone.core import yaml_text
    from nimble_stone.core.plan.model import Plan

    text = text_of(file)
    name = yaml_text.read(text, Plan, str(file)).name
    if name in {p["id"] for p in client.call("GET", "/api/plans")}:
        found = client.call("PUT", f"/api/plans/{name}/file", {"text": text})
    else:
        found = client.call("POST", "/api/plans", {"text": text})
    answer(
        found, as_json, f"plan {name}, version {found['version']}: {sentence(found['sentence'])}"
    )


@app.command("export")
def plan_export(
    plan: str,
    xlsx: Annotated[Path | None, typer.Option(help="The sheet as a workbook.")] = None,
    csv: Annotated[Path | None, typer.Option(help="The sheet as CSV.")] = None,
) -> None:
    """The plan file on standard output, or its sheet as a spreadsheet."""
    client = Client()
    for path, kind in ((xlsx, "xlsx"), (csv, "csv")):
        if path is not None:
            path.write_bytes(client.data(f"/api/plans/{plan}/sheet.{kind}"))
            say(f"{path}: {size_text(path.stat().st_size)}")
    if xlsx is None and csv is None:
        sys.stdout.write(client.text(f"/api/plans/{plan}/file"))


@app.command("copy")
def plan_copy(
    plan: str,
    name: str,
    bay: Annotated[str, typer.Option(help="The bay to copy to.")],
    mapping: Annotated[
        list[str] | None, typer.Option("--map", help="OLD=NEW: every value OLD becomes NEW.")
    ] = None,
    as_json: Json = False,
) -> None:
    """Copy a plan to another bay. Values that still refer to the old bay are listed; exit code 1
    then.
    """
    found = Client().call(
        "POST",
        f"/api/plans/{plan}/copy",
        {
            "name": name,
            "bay": bay,
            "mapping": dict(item.split("=", 1) for item in mapping or [] if "=" in item),
        },
    )
    answer(
        found,
        as_json,
        f"plan {name} is made.",
        *(f"{one['path']} still says {one['value']}" for one in found["left"]),
    )
    raise typer.Exit(FOUND if found["left"] else FINE)


@app.command("many")
def plan_many(
    file: Path,
    kit: Annotated[str, typer.Option(help="Kit for rows without one.")] = "",
    package: str = "",
    bay: str = "",
    include: Annotated[
        list[str] | None, typer.Option(help="Shared values that all include.")
    ] = None,
    licence_by: Annotated[
        str, typer.Option(help="Accept the licences of all these plans in this name.")
    ] = "",
    passwords: Annotated[
        bool, typer.Option("--passwords", help="Generate the passwords that are missing.")
    ] = False,
    make: Annotated[
        bool,
        typer.Option(
            "--create", "--make", help="Create the plans; without it they are only calculated."
        ),
    ] = False,
    run: Annotated[
        bool, typer.Option("--run", help="With --create: also run all plans without blockers.")
    ] = False,
    as_json: Json = False,
) -> None:
    """Plans from a table, one row per cluster: name, bay, pool, count.ROLE, any column. Exit code 1
    when rows are not valid or have blockers.
    """
    if run and not make:
        raise InputError("--run needs --create", hint="Add --create, or leave --run out.")
    client = Client()
    found = client.call(
        "POST",
        "/api/plans/table",
        {
            **table_body(file),
            "kit": kit,
            "package": package,
            "bay": bay,
            "include": include or [],
            "licence_by": licence_by,
            "passwords": passwords,
            "make": make,
        },
    )
    found["runs"] = client.call("POST", "/api/plans/runs", {"plans": found["made"]}) if run else []
    rows = [["row", "plan", "nodes", "hosts", "memory", "first address", "blockers"]]
    for one in found["plans"]:
        rows.append(
            [
                str(one["row"]),
                one["name"],
                str(one["nodes"]),
                str(one["hosts"]),
                size_text(one["memory_bytes"]),
                one["first_address"],
                one["faults"][0] if one["faults"] else str(len(one["blockers"])),
            ]
        )
    answer(
        found,
        as_json,
        *table(rows),
        (
            f"{count_text(len(found['made']), 'plan')} made."
            if make
            else "Preview only. Add --create to create the plans."
        ),
        *(
            f"{one['plan']}: " + (f"run {one['run']} started" if one["run"] else _why_not_run(one))
            for one in found["runs"]
        ),
    )
    bad = any(one["faults"] or one["blockers"] for one in found["plans"])
    raise typer.Exit(FOUND if bad or not all(one["run"] for one in found["runs"]) else FINE)


def _why_not_run(begun: dict[str, Any]) -> str:
    trouble = begun["trouble"] or begun["blockers"][0]["message"]
    return f"not started. {trouble}"


@app.command("values")
def plan_values(
    file: Annotated[
        Path | None,
        typer.Argument(help="A file of shared values; without it, list them."),
    ] = None,
    keep: Annotated[
        bool,
        typer.Option(
            "--save", "--keep", help="Save; without it, only show which nodes would change."
        ),
    ] = False,
    as_json: Json = False,
) -> None:
    """List shared values; or show what a file would change in the plans that include it, and save
    it.
    """
    client = Client()
    if file is None:
        found = client.call("GET", "/api/values")
        answer(
            found,
            as_json,
            *table(
                [
                    ["values", "version", "plans"],
                    *([one["name"], str(one["version"]), ", ".join(one["plans"])] for one in found),
                ]
            ),
        )
        return
    from nimble_stone.core import yaml_text
    from nimble_stone.core.plan.model import SharedValues

    text = text_of(file)
    name = yaml_text.read(text, SharedValues, str(file)).name
    touched = client.call("POST", f"/api/values/{name}/touches", {"text": text})
    if keep:
        client.call("PUT", f"/api/values/{name}", {"text": text})
    answer(
        touched,
        as_json,
        *(f"{one['plan']}: {d['text']}" for one in touched for d in one["differences"]),
        "Saved." if keep else "Preview only. Add --save to save.",
    )


def table_body(file: Path) -> dict[str, str]:
    """A table's file as the server takes it. Raises InputError."""
    try:
        return {"file": base64.b64encode(file.read_bytes()).decode()}
    except OSError as error:
        raise InputError(f"{file} cannot be read: {error}") from error


def _asked(plan: str, *, live: bool = False) -> dict[str, Any]:
    body = {"text": text_of(Path(plan))} if Path(plan).is_file() else {"plan": plan}
    return dict(Client().call("POST", "/api/plans/answers", {**body, "live": live}))


def _without_server(
    plan: str, facts: Path, packages: list[Path], include: list[Path] | None
) -> dict[str, Any]:
    from nimble_stone.cli import offline

    return offline.check(Path(plan), facts, packages, include or [])
