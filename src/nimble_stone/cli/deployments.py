"""Commands about what is deployed, from reading it to retiring it."""

from __future__ import annotations

import time
from typing import Annotated, Any

import typer

from nimble_stone.cli.client import Client
from nimble_stone.cli.say import FOUND, Json, answer, instant, moment, table
from nimble_stone.core.errors import InputError
from nimble_stone.core.units import count_text, size_text, time_text

app = typer.Typer(
    help="Deployments: list, history, built, drift, repair, take, accept, keys, adopt, former,"
    " retire.",
    no_args_is_help=True,
)


ENDED = ("done", "unproved", "undone", "held")
STUCK = ("retry", "undo", "skip")
"""What a run asks of a person when it cannot go on by itself."""


def _ended(client: Client, run: str) -> str:
    """The state of a run once it needs no waiting any more."""
    while True:
        found = client.call("GET", f"/api/runs/{run}")
        if found["state"] in ENDED or found["sentence"]["action"]["kind"] in STUCK:
            return str(found["state"])
        time.sleep(0.3)


def _age(view: dict[str, Any]) -> str:
    since = max(0.0, view["now"] - view["read_at"])
    return f"{time_text(since)} ago" if view["read_at"] else ""


def _state(view: dict[str, Any]) -> str:
    if view["trouble"]:
        return f"not read: {view['trouble']}"
    open_ = [one for one in view["drift"] if one["open"]]
    if open_:
        return f"{count_text(len(open_), 'difference')}"
    return "as built" if view["read_at"] else "not read yet"


@app.command("list")
def deployment_list(as_json: Json = False) -> None:
    """What is deployed, and whether it is as it was built."""
    client = Client()
    found = client.call("GET", "/api/deployments")
    rows = [
        [
            one["plan"],
            count_text(one["nodes"], "node"),
            _state(one),
            _age(one),
        ]
        for one in found
    ]
    answer(found, as_json, *(table(rows) or ["Nothing is deployed."]))


def _lines(view: dict[str, Any]) -> list[str]:
    lines = [f"{view['plan']}: {count_text(view['nodes'], 'node')}, {_state(view)}."]
    for one in view["drift"]:
        # a rule about a host names it
        what = one["label"] if one["host"] else f"{one['name']}: {one['label']}"
        lines.append(f"  {what}: {one['now']}; built: {one['was']} ({one['check']})")
        if not one["open"]:
            lines.append(f"    accepted: {one['reason']}")
        elif one["puts_back"]:
            lines.append(f"    put back: deployment repair {view['plan']} {one['node']}")
        elif one["host"]:
            lines.append(f"    what to do: estate rules {one['host']}")
        if one["open"] and one["takes_in"]:
            which = "" if one["check"] == "hardware" else f" --check {one['check']}"
            take = f"deployment take {view['plan']} {one['node']}{which}"
            lines.append(f"    take into the plan: {take}")
    if view["unasked"]:
        lines.append(f"  {count_text(view['unasked'], 'check')} could not be asked.")
    return lines


@app.command("show")
def deployment_show(plan: str, as_json: Json = False) -> None:
    """One deployment as it was last read. Exit code 1 when it differs."""
    _told(Client().call("GET", f"/api/deployments/{plan}"), as_json)


@app.command("history")
def deployment_history(
    plan: str,
    limit: Annotated[int, typer.Option(help="How many entries, the newest first.")] = 40,
    as_json: Json = False,
) -> None:
    """What happened to a deployment: runs, acceptance checks, changes of the plan, drift."""
    found = Client().call("GET", f"/api/deployments/{plan}/history?limit={limit}")
    rows = [
        [
            moment(one["at"]),
            one["kind"],
            one["node"],
            " ".join(filter(None, (one["words"], f"({one['detail']})" if one["detail"] else ""))),
        ]
        for one in found
    ]
    answer(found, as_json, *table([["UTC", "", "node", ""], *rows]))


SHOWN = ("name", "host", "datastore", "address", "size", "vcpu", "memory", "package", "run")


@app.command("built")
def deployment_built(
    plan: str,
    on: Annotated[str, typer.Option(help="A day (2026-11-20) or an instant; none: now.")] = "",
    since: Annotated[str, typer.Option(help="Tell what changed since then.")] = "",
    as_json: Json = False,
) -> None:
    """The deployment as it was built on a day, and what changed between two days. Times are
    in UTC; a day is meant with its evening. Exit code 1 when something changed.
    """
    query = f"at={instant(on)}&" if on else ""
    query += f"since={instant(since)}" if since else ""
    found = Client().call("GET", f"/api/deployments/{plan}/built?{query}")
    rows = [[one["values"].get(column, "") for column in SHOWN] for one in found["nodes"]]
    head = [found["labels"].get(column, column) for column in SHOWN]
    lines = table([head, *rows]) if rows else [f"Nothing of {plan} was deployed then."]
    lines += [f"  {_became(one)}" for one in found["changed"]]
    if since and not found["changed"]:
        lines.append(f"Nothing changed since {moment(found['since'])}.")
    answer(found, as_json, *lines)
    if found["changed"]:
        raise typer.Exit(FOUND)


def _became(one: dict[str, Any]) -> str:
    if one["what"] != "changed":
        return f"{one['name']}: {one['what']}"
    return f"{one['name']}: {one['label']}: {one['was'] or 'nothing'} → {one['now'] or 'nothing'}"


@app.command("drift")
def deployment_drift(plan: str, as_json: Json = False) -> None:
    """Read a deployment now and tell what differs from what was built. Nothing is changed. Exit
    code 1 when it differs.
    """
    _told(Client().long(f"/api/deployments/{plan}/read", {}), as_json)


def _told(view: dict[str, Any], as_json: bool) -> None:
    answer(view, as_json, *_lines(view))
    if any(one["open"] for one in view["drift"]):
        raise typer.Exit(FOUND)


@app.command("repair")
def deployment_repair(
    plan: str,
    nodes: Annotated[list[str], typer.Argument(help="Nodes such as archive-1.")],
    wait: Annotated[bool, typer.Option("--wait", help="Wait until it has ended.")] = False,
    as_json: Json = False,
) -> None:
    """Define and start the VMs of nodes again, as they were built; disks are not touched."""
    client = Client()
    found = client.patient(f"/api/plans/{plan}/run", {"repair": nodes})
    if not found["run"]:
        blockers = [f for f in found["plan"]["findings"] if f["severity"] == "blocker"]
        answer(found, as_json, "Not started.", *(f["message"] for f in blockers))
        raise typer.Exit(FOUND)
    state = _ended(client, found["run"]) if wait else "running"
    answer({"run": found["run"], "state": state}, as_json, f"run {found['run']}: {state}")
    if state not in ("running", "done"):
        raise typer.Exit(FOUND)


@app.command("take")
def deployment_take(
    plan: str,
    node: Annotated[str, typer.Argument(help="A node such as archive-1.")],
    check: Annotated[str, typer.Option(help="The check's id, as `drift` names it.")] = "hardware",
    as_json: Json = False,
) -> None:
    """Take a difference into the plan: the node is planned as it was found. The next run records it
    as built; nothing is changed on its host.
    """
    client = Client()
    found = client.call("POST", f"/api/deployments/{plan}/take", {"node": node, "check": check})
    answer(found, as_json, f"{plan} is at version {found['version']}. See: plan changes {plan}")


@app.command("accept")
def deployment_accept(
    plan: str,
    check: Annotated[str, typer.Argument(help="The check's id, as `drift` names it.")],
    node: Annotated[str, typer.Option(help="Node; none: the cluster.")] = "",
    reason: Annotated[str, typer.Option(help="Why; shown with the difference.")] = "",
    days: Annotated[float, typer.Option(help="For how many days; 0: no longer.")] = 30.0,
    as_json: Json = False,
) -> None:
    """Accept a difference for some days."""
    body = {"node": node, "check": check, "reason": reason, "days": days}
    view = Client().call("POST", f"/api/deployments/{plan}/accept", body)
    answer(view, as_json, *_lines(view))


@app.command("every")
def deployment_every(
    minutes: Annotated[
        int | None, typer.Argument(help="Minutes between two readings; 0: off.")
    ] = None,
    as_json: Json = False,
) -> None:
    """How often deployments are read; with a number, set it."""
    client = Client()
    if minutes is None:
        found = client.call("GET", "/api/deployments/every")
    else:
        found = client.call("PUT", "/api/deployments/every", {"minutes": minutes})
    every = found["minutes"]
    answer(found, as_json, f"every {every} min" if every else "off")


@app.command("retire")
def deployment_retire(
    plan: str,
    confirm: Annotated[str, typer.Option(help="The plan's name: all its VMs are deleted.")] = "",
    keep_data: Annotated[bool, typer.Option(help="Keep data disks that the plan added.")] = False,
    stop: Annotated[bool, typer.Option("--stop", help="Roll no further run back.")] = False,
    as_json: Json = False,
) -> None:
    """Take a whole deployment away: VMs first, then disks, media and names. Without --confirm: what
    would go.
    """
    client = Client()
    if stop:
        found = client.call("DELETE", f"/api/deployments/{plan}/retiring")
        left = count_text(len(found["left"]), "run")
        answer(found, as_json, f"{plan} is no longer being retired: {left} not rolled back")
        return
    found = client.call("GET", f"/api/deployments/{plan}/retiring")
    if not confirm:
        lines = [_goes(one) for one in found["nodes"]]
        answer(found, as_json, *(lines or [f"nothing of {plan} is deployed"]))
        if lines:
            raise InputError(
                f"Retiring deletes every VM of {plan} with its disks.",
                code="confirm",
                hint=f"Add --confirm {plan}",
            )
        return
    began = len(found["left"])
    body = {"confirm": confirm, "keep_data": keep_data}
    found = client.call("POST", f"/api/deployments/{plan}/retiring", body)
    while found["left"] and not found["waits"]:
        time.sleep(0.5)
        found = client.call("GET", f"/api/deployments/{plan}/retiring")
    if found["waits"]:
        answer(found, as_json, f"run {found['waits']} waits: see `run show {found['waits']}`")
        raise typer.Exit(FOUND)
    answer(found, as_json, f"{plan} is retired: {count_text(began, 'run')} rolled back")


def _goes(one: dict[str, Any]) -> str:
    """A node that would go."""
    disks = count_text(one["disks"] + one["data_disks"], "disk")
    free = ", ".join(one["addresses"])
    if one["machine"]:
        return f"  {one['name']}: machine {one['where']} is switched off; {free} comes free"
    return f"  {one['name']} on {one['where']}: VM and {disks}; {free} comes free"


@app.command("adopt")
def deployment_adopt(
    plan: str,
    vm: Annotated[
        list[str] | None,
        typer.Option(help="NODE=HOST/VM, such as archive-1=gannet/store1; NODE= for none."),
    ] = None,
    confirm: Annotated[str, typer.Option(help="The plan's name: its VMs are marked.")] = "",
    as_json: Json = False,
) -> None:
    """Adopt VMs that were made without this tool as nodes of a plan. Without --confirm: which VM
    would be which node, and what the plan would have made otherwise; nothing is changed.
    """
    client = Client()
    chosen = dict(_pair(text) for text in vm or [])
    found = client.patient(f"/api/deployments/{plan}/adoptable", {"vms": chosen})
    if not confirm:
        lines = [line for one in found["nodes"] for line in _becomes(one)]
        lines += [f"  {host} was not read: {why}" for host, why in found["unread"].items()]
        answer(found, as_json, *(lines or [f"Every node of {plan} is deployed."]))
        return
    if confirm != plan:
        raise InputError(
            f"Adopting marks the VMs as nodes of {plan}.",
            code="confirm",
            hint=f"Add --confirm {plan}",
        )
    vms = {one["node"]: one["vm"] for one in found["nodes"] if one["vm"]}
    begun = client.patient(f"/api/deployments/{plan}/adopt", {"vms": vms})
    if not begun["run"]:
        blockers = [one for one in begun["findings"] if one["severity"] == "blocker"]
        answer(begun, as_json, "Not started.", *(one["message"] for one in blockers))
        raise typer.Exit(FOUND)
    state = _ended(client, begun["run"])
    told = f"{count_text(len(vms), 'VM')} adopted" if state == "done" else state
    answer({"run": begun["run"], "state": state}, as_json, f"run {begun['run']}: {told}")
    if state != "done":
        raise typer.Exit(FOUND)


def _pair(text: str) -> tuple[str, str]:
    """NODE=HOST/VM. Raises InputError."""
    node, equals, vm = text.partition("=")
    if not equals:
        raise InputError(f"“{text}” is not NODE=HOST/VM", hint="Such as archive-1=gannet/store1")
    return node.strip(), vm.strip()


THEN = {
    "plan": "the plan takes it over",
    "run": "the next run changes the VM",
    "stays": "stays",
}


def _becomes(one: dict[str, Any]) -> list[str]:
    """A node, the VM that it would be, and what the plan would have made otherwise."""
    if not one["vm"]:
        return [f"  {one['name'] or one['node']}: no VM; a later run creates it"]
    lines = [f"  {one['name'] or one['node']}: {one['vm']}"]
    lines += [f"    cannot be adopted: {why}" for why in one["troubles"]]
    differs = [row for row in one["rows"] if not row["same"]]
    return lines + [
        f"    {row['label']}: {row['found'] or 'none'}; planned: {row['planned'] or 'none'}"
        f" ({THEN[row['then']]})"
        for row in differs
    ]


@app.command("keys")
def deployment_keys(
    plan: str,
    node: str,
    confirm: Annotated[
        bool,
        typer.Option(
            "--confirm", help="Pin what the node shows now, after comparing it on its console."
        ),
    ] = False,
    as_json: Json = False,
) -> None:
    """SSH host key and certificates by which a node is known, and what it shows now. Exit code 1
    when they differ.
    """
    client, place = Client(), f"/api/deployments/{plan}/nodes/{node}/keys"
    found = client.call("GET", place)
    other = [one for one in found["keys"] if one["shown"] and one["shown"] != one["pinned"]]
    if confirm and other:
        keys = [{"port": one["port"], "fingerprint": one["shown"]} for one in other]
        found, other = client.call("POST", place, {"keys": keys}), []
    lines = []
    for one in found["keys"]:
        lines.append(f"  {one['kind']}, port {one['port']}: {one['pinned']}")
        if one["trouble"]:
            lines.append(f"    cannot be asked: {one['trouble']}")
        elif one["shown"] != one["pinned"]:
            lines.append(f"    shows now: {one['shown']}")
    if other:
        lines.append(
            "Compare the fingerprint on the node's console, then:"
            f" deployment keys {plan} {node} --confirm"
        )
    answer(found, as_json, *(lines or [f"Nothing is pinned for {found['name']}."]))
    if other:
        raise typer.Exit(FOUND)


@app.command("former")
def deployment_former(
    plan: str,
    confirm: Annotated[str, typer.Option(help="The plan's name: they are removed.")] = "",
    as_json: Json = False,
) -> None:
    """Former system disks, which upgrades keep for their rollback, and what they take. With
    --confirm they are removed.
    """
    client = Client()
    place = f"/api/deployments/{plan}/former"
    if confirm:
        found = client.patient(place, {"confirm": confirm})
    else:
        found = client.call("GET", place)
    size = size_text(sum(one["physical_bytes"] for one in found["disks"]))
    lines = [
        f"  {one['name']} on {one['host']}: {one['datastore']}/{one['volume']},"
        f" {size_text(one['physical_bytes'])}; the rollback of run {one['needed_by']} needs it"
        for one in found["disks"]
    ]
    total = f"{count_text(len(lines), 'volume')}, {size}"
    if confirm:
        lines.append(f"{total} removed")
    elif lines:
        lines.append(f"{total}. Remove them: deployment former {plan} --confirm {plan}")
    answer(found, as_json, *(lines or ["No former system disks."]))
