"""The estate from the command line: hosts and machines found, added, read, judged and prepared."""

from __future__ import annotations

import sys
import time
from pathlib import Path
from typing import Annotated, Any
from urllib.parse import quote

import typer

from nimble_stone.cli.client import Client
from nimble_stone.cli.say import FINE, FOUND, Json, answer, say, table, text_of
from nimble_stone.core.errors import InputError
from nimble_stone.core.units import count_text, size_text, time_text

app = typer.Typer(help="The estate: hosts, machines, networks, pools.", no_args_is_help=True)


@app.command("list")
def estate_list(as_json: Json = False) -> None:
    """All hosts with their last facts."""
    found = Client().call("GET", "/api/estate")
    rows = [
        [
            h["name"],
            h["site"],
            h["bay"],
            size_text(h["memory_bytes"]),
            f"{len(h['bedrock'])} VMs",
            ", ".join(h["networks"]),
            h["trouble"] or "fine",
        ]
        for h in found["hosts"]
    ]
    answer(found, as_json, *(table(rows) or ["No hosts. Add some: nimble-stone estate load FILE"]))
    if any(h["trouble"] for h in found["hosts"]):
        raise typer.Exit(FOUND)


@app.command("add")
def estate_add(
    hosts: Annotated[
        list[str],
        typer.Argument(help="A list file, “-” for standard input, or names and addresses."),
    ],
    credential: Annotated[str, typer.Option(help="Keyring entry with the password or key.")],
    user: str = "root",
    site: Annotated[str, typer.Option(help="For hosts without one in the list.")] = "main",
    bay: Annotated[str, typer.Option(help="For hosts without one in the list.")] = "new",
    pin: Annotated[
        bool,
        typer.Option(
            "--pin", help="Pin the fingerprints, after comparing them, and add the hosts."
        ),
    ] = False,
    as_json: Json = False,
) -> None:
    """Check logins of hosts and show their keys; with --pin, add those whose login works. Exit code
    1 when some are not added.
    """
    text = "\n".join(hosts)
    if hosts == ["-"]:
        text = sys.stdin.read()
    elif len(hosts) == 1 and Path(hosts[0]).is_file():
        text = text_of(Path(hosts[0]))
    client = Client()
    listing = client.call("POST", "/api/estate/list", {"text": text})
    looks: list[dict[str, Any]] = []
    for start in range(0, len(listing["entries"]), 200):
        looks += client.call(
            "POST",
            "/api/estate/look",
            {
                "entries": listing["entries"][start : start + 200],
                "user": user,
                "credential": credential,
            },
        )
        if sys.stderr.isatty():
            sys.stderr.write(f"\r{len(looks)} of {len(listing['entries'])} looked at  ")
    fine = [found for found in looks if found["outcome"] == "fine"]
    requests: dict[str, list[dict[str, Any]]] = {"host": [], "machine": []}
    for found in fine if pin else []:
        entry = found["entry"]
        machine = entry["kind"] == "machine"
        name = entry["name"] or (
            found["address"] if machine else found["hostname"].split(".")[0] or found["address"]
        )
        login = entry["user"] or ("admin" if machine and user == "root" else user)
        requests[entry["kind"]].append(
            {
                "fingerprint": found["fingerprint"],
                entry["kind"]: {
                    "name": name,
                    "address": found["address"],
                    "port": entry["port"],
                    "user": login,
                    "credential": entry["credential"] or credential,
                    "site": entry["site"] or site,
                    "bay": entry["bay"] or bay,
                    "note": entry["note"],
                    "tags": entry["tags"],
                    "rack": entry["rack"],
                },
            }
        )
    for kind, path in (("host", "/api/estate/hosts"), ("machine", "/api/estate/machines")):
        if requests[kind]:
            client.call("POST", path, requests[kind])
    rows = [
        [
            found["entry"]["name"] or found["address"],
            found["outcome"],
            found["fingerprint"] or "-",
            found["words"],
        ]
        for found in looks
    ]
    answer(
        {"looks": looks, "junk": listing["junk"], "added": len(fine) if pin else 0},
        as_json,
        *table(rows),
        *(f"line {j['line']}: {j['reason']}: {j['text']}" for j in listing["junk"]),
        (
            f"{count_text(len(fine), 'host')} added"
            if pin
            else (
                f"{count_text(len(fine), 'host')} can be added: compare the fingerprints, then give"
                " the command again with --pin"
            )
        ),
    )
    if len(fine) < len(looks) or listing["junk"] or not pin:
        raise typer.Exit(FOUND)


@app.command("rules")
def estate_rules(
    hosts: Annotated[list[str] | None, typer.Argument(help="Only these hosts.")] = None,
    reference: Annotated[
        bool, typer.Option("--reference", help="Print the reference of all rules, as Markdown.")
    ] = False,
    as_json: Json = False,
) -> None:
    """Host readiness: failed rules, blockers first. Exit code 1 for
    blockers or cautions.
    """
    if reference:
        from nimble_stone.core.estate_rules import reference as written

        sys.stdout.write(written())
        return
    found = Client().call("GET", "/api/estate/rules")
    weight = {"blocker": 0, "caution": 1, "note": 2}
    broken = sorted(
        (v for v in found["violations"] if not hosts or v["host"] in hosts),
        key=lambda v: (weight[v["severity"]], v["host"]),
    )
    answer(
        {"rules": found["rules"], "violations": broken},
        as_json,
        *(
            table(
                [
                    [
                        v["severity"],
                        v["host"],
                        v["rule"],
                        v["message"] + (f" → {v['remedy']}" if v["remedy"] else ""),
                    ]
                    for v in broken
                ]
            )
            or ["All rules pass."]
        ),
    )
    raise typer.Exit(FOUND if any(v["severity"] != "note" for v in broken) else FINE)


@app.command("retire", hidden=True)  # its name before
@app.command("remove")
def estate_retire(host: str) -> None:
    """Remove a host from the estate; refused while a plan or one of our VMs needs it. The host
    itself is not changed.
    """
    Client().call("DELETE", f"/api/estate/hosts/{host}")
    say(f"{host} removed from the estate")


@app.command("empty")
def estate_empty(
    host: str,
    apply: Annotated[bool, typer.Option("--apply", help="Let the plans leave it out.")] = False,
    end: Annotated[bool, typer.Option("--end", help="Let the plans use it again.")] = False,
    as_json: Json = False,
) -> None:
    """Empty a host, for maintenance: where the nodes on it would go, plan by plan. With --apply the
    plans leave the host out; each plan's next run moves its nodes. Exit code 1 when a node has
    nowhere to go.
    """
    client, place = Client(), f"/api/estate/hosts/{quote(host)}/emptying"
    found = client.call("DELETE" if end else "GET", place)
    if apply and not end:
        seen = {one["plan"]: one["version"] for one in found["plans"] if not one["excluded"]}
        found = client.call("POST", place, {"versions": seen})
    nodes = [(plan, node) for plan in found["plans"] for node in plan["nodes"]]
    rows = [
        ["node", "plan", "goes to", ""],
        *(
            [node["name"], plan["plan"], node["to"] or "nowhere", _leaves(node)]
            for plan, node in nodes
        ),
    ]
    left_out = [plan["plan"] for plan in found["plans"] if plan["excluded"]]
    troubles = [f"{plan['plan']}: {plan['problem']}" for plan in found["plans"] if plan["problem"]]
    others = found["others"]
    answer(
        found,
        as_json,
        *(table(rows) if nodes else [f"No plan has a node on {host}."]),
        *([f"Leave it out: {', '.join(left_out)}."] if left_out else []),
        *([f"Not created here, they stay: {', '.join(others)}."] if others else []),
        *troubles,
    )
    if troubles or any(not node["to"] for _, node in nodes):
        raise typer.Exit(FOUND)


def _leaves(node: dict[str, Any]) -> str:
    if not node["to"]:
        return str(node["reason"])
    return "by the plan's next run" if node["deployed"] else "only its plan changes"


@app.command("pools")
def estate_pools(as_json: Json = False) -> None:
    """All pools: how much is free, and which plans use the rest."""
    found = Client().call("GET", "/api/pools")
    rows = [["pool", "holds", "of", "from", "to", "free", "held by"]]
    for pool in found:
        holders = sorted({member["by"] for member in pool["members"] if member["state"] == "held"})
        more = f" and {len(holders) - 4} more" if len(holders) > 4 else ""
        rows.append(
            [
                pool["name"],
                {"ipv4": "IPv4", "ipv6": "IPv6", "mac": "MAC", "number": "numbers"}[pool["kind"]],
                pool["network"] or "-",
                pool["first"],
                pool["last"],
                f"{pool['free']} of {pool['size']}",
                (", ".join(holders[:4]) + more) or "-",
            ]
        )
    answer(
        found,
        as_json,
        *(table(rows) if found else ["No pools. Add some: nimble-stone estate load FILE"]),
    )


@app.command("drop-pool", hidden=True)  # its name before
@app.command("delete-pool")
def estate_drop_pool(name: str) -> None:
    """Delete a pool that no plan uses."""
    Client().call("DELETE", f"/api/pools/{quote(name)}")
    say(f"{name} deleted.")


@app.command("load")
def estate_load(file: Path, as_json: Json = False) -> None:
    """Add hosts, machines, networks and pools from a YAML file, or replace those with the same
    name.
    """
    from nimble_stone.core import yaml_text
    from nimble_stone.core.estate import EstateFile

    body = yaml_text.read(text_of(file), EstateFile, str(file))
    found = Client().call("POST", "/api/estate", body.model_dump(mode="json"))
    answer(
        found,
        as_json,
        f"{len(found['hosts'])} hosts, {len(found['networks'])} networks, {len(found['pools'])}"
        " pools",
    )


@app.command("read", hidden=True)  # its name before
@app.command("refresh")
def estate_read(
    hosts: Annotated[list[str] | None, typer.Argument(help="Hosts; default: all.")] = None,
    as_json: Json = False,
) -> None:
    """Refresh the facts of hosts (default: all)."""
    found = Client().long("/api/estate/read", {"hosts": hosts or []})
    trouble = [h for h in found["hosts"] if h["trouble"]]
    answer(
        found,
        as_json,
        f"{len(found['hosts']) - len(trouble)} hosts read",
        *(f"{h['name']}: {h['trouble']}" for h in trouble),
    )
    if trouble:
        raise typer.Exit(FOUND)


@app.command("machines")
def estate_machines(
    read: Annotated[bool, typer.Option("--read", help="Refresh the hosts first.")] = False,
    as_json: Json = False,
) -> None:
    """Bare machines with the last facts from their controllers."""
    found = (
        Client().long("/api/estate/machines/read", {})
        if read
        else Client().call("GET", "/api/estate/machines")
    )
    rows = [
        [
            m["machine"]["name"],
            m["machine"]["bay"],
            m["facts"]["model"] or "-",
            size_text(m["facts"]["memory_bytes"]) if m["facts"]["memory_bytes"] else "-",
            f"{len(m['facts']['drives'])} drives",
            m["facts"]["power"] or "-",
            m["facts"]["health"] or "-",
            m["facts"]["trouble"] or "fine",
        ]
        for m in found
    ]
    answer(
        found, as_json, *(table(rows) or ["No machines. Add some: nimble-stone estate add FILE"])
    )
    if any(m["facts"]["trouble"] for m in found):
        raise typer.Exit(FOUND)


@app.command("power")
def estate_power(
    machine: str,
    kind: Annotated[
        str,
        typer.Argument(
            help="On, ForceOff, GracefulShutdown, ForceRestart, GracefulRestart or PowerCycle."
        ),
    ],
    confirm: Annotated[str, typer.Option(help="The machine's name, to confirm.")] = "",
    as_json: Json = False,
) -> None:
    """Switch a machine's power, and wait until its controller reports the new state."""
    found = Client().call(
        "POST", f"/api/estate/machines/{machine}/power", {"kind": kind, "confirmed": confirm}
    )
    one = next(m for m in found if m["machine"]["name"] == machine)
    answer(one, as_json, f"{machine}: power {one['facts']['power']}")


@app.command("scan")
def estate_scan(
    ranges: Annotated[list[str], typer.Argument(help="10.44.1.0/24, 10.44.1.11-30, or addresses.")],
    port: Annotated[list[int] | None, typer.Option(help="Ports; default: 22 and 443.")] = None,
    as_json: Json = False,
) -> None:
    """Scan a range for hosts and management controllers; nothing is saved. Exit code 1 when nothing
    was found.
    """
    client = Client()
    scan = client.call(
        "POST", "/api/estate/scans", {"range": " ".join(ranges), "ports": port or []}
    )
    try:
        while scan["state"] == "running":
            if sys.stderr.isatty():
                sys.stderr.write(
                    f"\r{scan['asked']} of {scan['total']}, {scan['rate']:.0f} a second,"
                    f" {time_text(scan['left_s'])} left  "
                )
            time.sleep(0.3)
            scan = client.call("GET", f"/api/estate/scans/{scan['id']}")
    except KeyboardInterrupt:
        scan = client.call("DELETE", f"/api/estate/scans/{scan['id']}")
    answer(
        scan,
        as_json,
        *(
            table(
                [
                    [s["address"], str(s["port"]), s["kind"], s["known"] or "new", s["words"]]
                    for s in scan["seen"]
                ]
            )
            or ["No host answers in this range."]
        ),
    )
    raise typer.Exit(FINE if scan["seen"] else FOUND)


@app.command("facts")
def estate_facts(
    hosts: Annotated[list[str] | None, typer.Argument(help="Only these hosts.")] = None,
    as_json: Json = False,
) -> None:
    """All facts of hosts. With --json a file to check plans against elsewhere: nimble-stone plan
    check PLAN --facts FILE.
    """
    found = Client().call("GET", "/api/estate/facts")
    if hosts:
        found["hosts"] = [h for h in found["hosts"] if h["name"] in hosts]
        found["facts"] = {name: facts for name, facts in found["facts"].items() if name in hosts}
    lines = []
    for name, f in sorted(found["facts"].items()):
        lines += [
            f"{name}: read {time_text(time.time() - f['read_at'])} ago"
            + (f", {f['trouble']}" if f["trouble"] else ""),
            (
                f"  {f['cpu_model']}, {f['sockets']} sockets, {f['cores']} cores, {f['threads']}"
                f" threads; {size_text(f['memory_bytes'])}; {f['hypervisor']}; kernel {f['kernel']}"
            ),
            *(
                f"  {i['name']}: {i['kind']}, {'link' if i['link'] else 'no link'}, MTU {i['mtu']}"
                f" {' '.join(i['addresses'])}".rstrip()
                for i in f["interfaces"]
                if i["kind"] != "loopback"
            ),
            *(
                f"  {d['path']}: {size_text(d['size_bytes'])},"
                f" {d['use']}{': ' + d['why'] if d['why'] else ''}"
                for d in f["disks"]
            ),
            *(f"  changed: {c['what']}: {c['was']} → {c['now']}" for c in f["changes"]),
        ]
    answer(found, as_json, *(lines or ["No host was refreshed yet."]))


@app.command("change")
def estate_change(
    name: str,
    site: Annotated[str | None, typer.Option(help="Place where it stands.")] = None,
    bay: Annotated[str | None, typer.Option(help="Bay it belongs to.")] = None,
    rack: Annotated[str | None, typer.Option(help="Rack it is built in; “” clears it.")] = None,
    note: Annotated[str | None, typer.Option(help="Note for the team.")] = None,
    tag: Annotated[list[str] | None, typer.Option(help="Replaces its tags.")] = None,
    as_json: Json = False,
) -> None:
    """Change where a host or machine belongs, its note or its tags. The host is not touched."""
    client = Client()
    given = {"site": site, "bay": bay, "rack": rack, "note": note, "tags": tag or None}
    body = {key: value for key, value in given.items() if value is not None}
    if not body:
        raise typer.BadParameter("say what to change: --site, --bay, --rack, --note or --tag")
    machines = {one["machine"]["name"] for one in client.call("GET", "/api/estate/machines")}
    kind = "machines" if name in machines else "hosts"
    client.call("PATCH", f"/api/estate/{kind}/{name}", body)
    told = ", ".join(f"{key} {value or 'cleared'}" for key, value in body.items())
    answer({"name": name, **body}, as_json, f"{name}: {told}")


@app.command("rule")
def estate_rule(
    bay: str,
    rule: str,
    reason: Annotated[str, typer.Option(help="Reason; shown with the rule.")],
    off: Annotated[bool, typer.Option("--off", help="Do not check the rule in this bay.")] = False,
    limit: Annotated[float | None, typer.Option(help="Limit for this bay.")] = None,
    as_json: Json = False,
) -> None:
    """Switch a rule off for a bay, or set its limit; with neither, the rule's default applies."""
    found = Client().call(
        "PUT",
        "/api/estate/rules",
        {"bay": bay, "rule": rule, "off": off, "limit": limit, "reason": reason},
    )
    answer(
        found["settings"],
        as_json,
        *(
            f"{s['bay']}: {s['rule']}: {'off' if s['off'] else s['limit']} ({s['reason']})"
            for s in found["settings"]
        ),
    )


@app.command("key")
def estate_key(name: str, as_json: Json = False) -> None:
    """Create an SSH key in the keyring, or show the public half of an existing one."""
    found = Client().call("POST", "/api/estate/keys", {"name": name})
    answer(found, as_json, found["public"])


@app.command("prepare")
def estate_prepare(
    file: Annotated[
        Path | None, typer.Option(help="Actions as YAML or JSON: see docs/estate.md.")
    ] = None,
    remedy: Annotated[list[str] | None, typer.Option(help="Fix this rule.")] = None,
    again: Annotated[str, typer.Option(help="What this preparation run did.")] = "",
    host: Annotated[list[str] | None, typer.Option(help="Only on these hosts.")] = None,
    yes: Annotated[
        bool, typer.Option("--yes", help="Run the commands; without it, only show them.")
    ] = False,
    as_json: Json = False,
) -> None:
    """Prepare hosts: show the exact commands; with --yes run them. The run can be rolled back
    (estate rollback RUN).
    """
    client = Client()
    work: dict[str, Any] = {"actions": []}
    if file:
        from nimble_stone.core import yaml_text
        from nimble_stone.core.preparation import Preparation

        work = yaml_text.read(text_of(file), Preparation, str(file)).model_dump(mode="json")
    if again:
        work = client.call("GET", f"/api/groundwork/{again}/work")
        work["actions"] = [one for one in work["actions"] if not host or one["host"] in host]
    if remedy:
        found = client.call("GET", "/api/estate/rules")["violations"]
        broken = [v for v in found if v["rule"] in remedy and (not host or v["host"] in host)]
        work["actions"] += [v["action"] for v in broken if v["action"]]
        if broken and not work["actions"]:
            raise InputError(
                f"{broken[0]['host']}: {broken[0]['message']}. Mending this needs values that only"
                " you know.",
                hint=(
                    "Write them into a file and give it: nimble-stone estate prepare --file FILE"
                    " (docs/estate.md has examples)."
                ),
            )
    if not work["actions"]:
        raise InputError(
            "No actions given.",
            hint=(
                "Name a failed rule that has a fix (nimble-stone estate rules) or a run to repeat"
                " (nimble-stone estate preparations), or give a file."
            ),
        )
    seen = client.call("POST", "/api/estate/groundwork/preview", work)
    lines = []
    for step in seen["steps"]:
        lines += [
            f"{step['host']}: {step['label']}"
            + ("" if step["undoable"] else " (cannot be rolled back)"),
            *(f"  ! {text}" for text in step["refusals"]),
            *(f"  # /etc/sudoers.d/nimble-stone: {line}" for line in step["rules"]),
            *(f"  $ {line}" for command in step["commands"] for line in command.splitlines()),
        ]
    if not yes:
        answer(seen, as_json, *lines, "Preview only. Add --yes to run these commands.")
        raise typer.Exit(FOUND if any(step["refusals"] for step in seen["steps"]) else FINE)
    view = client.call("POST", "/api/estate/groundwork", {"run": seen["run"], "work": work})
    follow(client, view, as_json)


def follow(client: Client, view: dict[str, Any], as_json: bool) -> None:
    told: dict[str, str] = {}
    while True:
        for step in view["steps"]:
            if (
                told.get(step["key"]) != step["state"]
                and not as_json
                and step["state"] not in ("planned",)
            ):
                say(
                    f"{step['host']:14} {step['label']}: {step['state']} {step['message']}".rstrip()
                )
            told[step["key"]] = step["state"]
        if view["state"] in ("done", "unproved", "trouble", "undone", "held") or (
            view["state"] == "undoing" and any(s["undo_failed"] for s in view["steps"])
        ):
            break
        time.sleep(0.2)
        view = client.call("GET", f"/api/groundwork/{view['id']}")
    answer(view, as_json, f"{view['id']}: {view['sentence']}")
    raise typer.Exit(FINE if view["state"] in ("done", "undone") else FOUND)


@app.command("undo", hidden=True)  # its name before
@app.command("rollback")
def estate_undo(run: str, as_json: Json = False) -> None:
    """Roll back host preparation: only what that run made."""
    client = Client()
    follow(client, client.call("POST", f"/api/groundwork/{run}/undo", {}), as_json)


@app.command("groundwork", hidden=True)  # its name before
@app.command("preparations")
def estate_groundwork(as_json: Json = False) -> None:
    """All host preparation runs, newest first."""
    found = Client().call("GET", "/api/groundwork")
    answer(
        found,
        as_json,
        *(
            table([[r["id"], r["state"], r["hosts"], r["what"]] for r in found])
            or ["No preparation runs."]
        ),
    )
