"""What the demonstration begins with, made through the server's own interface."""

from __future__ import annotations

import asyncio
import json
import time
import urllib.error
import urllib.request
from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer

from nimble_stone.cli.client import Client
from nimble_stone.core.errors import StoneError, Unreachable

if TYPE_CHECKING:
    from nimble_stone.lab.scenario.demo import LabPlan


def fill(client: Client, data: Path, lab_plan: LabPlan, mib: int) -> None:
    """Fill an empty demonstration: estate, packages of about `mib` MiB, and a plan that is ready to
    run.
    """
    from nimble_stone.lab import name_server
    from nimble_stone.lab.scenario import appliance, keelson, products, shoal
    from nimble_stone.lab.scenario import demo as scene

    await_lab(data / "lab" / "control.json")
    client.call("PUT", f"/api/secrets/{scene.CREDENTIAL}", {"value": scene.PASSWORD})
    client.call("PUT", "/api/secrets/names/holm", {"value": name_server.SECRET})
    client.call("POST", "/api/estate", scene.estate_file(lab_plan).model_dump(mode="json"))
    client.call("POST", "/api/estate/read", {})
    know_machines(client, lab_plan)
    if not client.call("GET", "/api/packages"):
        by = appliance.publisher()
        client.call("POST", "/api/trust", {"pem": by.authority.decode()})
        file = data / "gauge-collector-4.2.0.ova"
        file.write_bytes(appliance.ova(mib=mib, by=by))
        found = client.upload(file, lambda *_: None)
        client.call(
            "PATCH",
            f"/api/packages/{found['sha256']}",
            {"channel": "stable", "note": "In use since the spring tides of March."},
        )
        newer = data / "gauge-collector-4.3.0.ova"
        newer.write_bytes(appliance.ova(version="4.3.0", mib=mib, seed=45, edition=5, by=by))
        later = client.upload(newer, lambda *_: None)
        client.call(
            "PATCH", f"/api/packages/{later['sha256']}", {"channel": "candidate", "note": ""}
        )
    have = {package["product"] for package in client.call("GET", "/api/packages")}
    for product in products.ALL.values():
        if product.title not in have:
            file = data / f"{product.id}-{product.version}.ova"
            file.write_bytes(products.ova(product, mib=max(1, mib // 6)))
            client.upload(file, lambda *_: None)
    if keelson.TITLE not in have:
        file = data / f"keelson-{keelson.VERSION}.iso"
        file.write_bytes(keelson.iso(mib=max(1, mib // 6)))
        client.upload(file, lambda *_: None)
    if shoal.NAME not in have:
        file = data / shoal.FILE
        file.write_bytes(shoal.image(mib=max(8, mib // 3)))
        client.upload(file, lambda *_: None)
    _plan(client, scene.PLAN)


def _plan(client: Client, text: str) -> str:
    """Keep a plan with its password and licence, unless it is there; its name."""
    name = next(line.split(": ")[1] for line in text.splitlines() if line.startswith("name: "))
    if name in {plan["id"] for plan in client.call("GET", "/api/plans")}:
        return name
    plan = client.call("POST", "/api/plans", {"text": text})
    plan = client.call(
        "POST",
        f"/api/plans/{name}/secret",
        {"version": plan["version"], "column": "admin_password", "value": "Tide-tables 1893"},
    )
    if plan["licence_text"]:
        client.call(
            "POST", f"/api/plans/{name}/licence", {"version": plan["version"], "by": "mira"}
        )
    return name


def _monitored(client: Client, name: str) -> None:
    """A plan whose nodes are watched gets the password for that, and the certificate confirmed."""
    from nimble_stone.lab.scenario import watch

    plan = client.call("GET", f"/api/plans/{name}")
    body = {"version": plan["version"], "column": "watch_password", "value": watch.PASSWORD}
    client.call("POST", f"/api/plans/{name}/secret", body)
    confirm_systems(client, name)


def confirm_systems(client: Client, plan: str) -> dict[str, Any]:
    """Confirm the certificates that the systems of a plan present: these are the lab's own. The
    plan as it is then.
    """
    found = client.call("POST", f"/api/plans/{plan}/check", {})
    edits = [
        one["remedy"]["edit"]
        for one in found["findings"]
        if one["code"] == "system-unconfirmed" and one["remedy"]
    ]
    if not edits:
        return dict(found)
    client.call("PATCH", f"/api/plans/{plan}", {"version": found["version"], "edits": edits})
    return dict(client.call("POST", f"/api/plans/{plan}/check", {}))


def bring_to_life(client: Client, lab_plan: LabPlan) -> None:
    """One cluster that is deployed and was checked twice, where somebody has changed a VM by hand
    since, and to which a node is to be added; and one run that waits for a person. Each only once:
    a demonstration that is started again stays as it was.
    """
    import asyncssh

    from nimble_stone.lab.scenario import demo as scene

    try:
        _plan(client, scene.METAL)
        harbour = _plan(client, scene.HARBOUR)
        if not client.call("GET", f"/api/runs?plan={harbour}"):
            _monitored(client, harbour)
        if run := _begun(client, harbour):
            _await_state(client, run, ("done", "unproved", "trouble"))
            client.call("POST", f"/api/runs/{run}/prove", {})
            _changed_since(client, lab_plan, harbour)
        northern = _plan(client, scene.NORTHERN)
        if run := _begun(client, northern):
            client.call("POST", f"/api/runs/{run}/hold", {})
    except (StoneError, asyncssh.Error, OSError) as error:
        typer.echo(f"The demonstration is not complete: {error}", err=True)


def _changed_since(client: Client, lab_plan: LabPlan, plan: str) -> None:
    """Somebody switches a VM's autostart off on its host; the plan gets one node more."""
    from nimble_stone.lab.scenario import by_hand

    found = client.call("GET", f"/api/plans/{plan}")
    node = next(one for one in found["nodes"] if one["id"] == "archive-2")
    asyncio.run(by_hand.autostart_off(lab_plan, node["host"], node["name"]))
    client.call("POST", f"/api/deployments/{plan}/read", {})
    edit = {"path": ["roles", "archive", "count"], "value": 3}
    client.call("PATCH", f"/api/plans/{plan}", {"version": found["version"], "edits": [edit]})


def _begun(client: Client, plan: str) -> str:
    """Start a plan's first run; '' when it has one already, or cannot be run."""
    if client.call("GET", f"/api/runs?plan={plan}"):
        return ""
    return str(client.call("POST", f"/api/plans/{plan}/run")["run"])


def _await_state(client: Client, run: str, states: tuple[str, ...]) -> None:
    while client.call("GET", f"/api/runs/{run}")["state"] not in states:
        time.sleep(1.0)


def await_answer(url: str, what: str) -> None:
    """Wait until an address answers. Raises Unreachable after a minute."""
    end = time.monotonic() + 60
    while time.monotonic() < end:
        try:
            urllib.request.urlopen(url, timeout=5).close()
            return
        except (OSError, urllib.error.URLError):
            time.sleep(0.1)
    raise Unreachable(f"{what} did not start", hint="See what it printed above.")


def await_lab(path: Path) -> None:
    """Wait until the lab answers where its file says. Raises Unreachable after a minute."""
    end = time.monotonic() + 60
    while time.monotonic() < end:
        try:
            port = json.loads(path.read_text())["port"]
            urllib.request.urlopen(f"http://127.0.0.1:{port}/lab", timeout=5).close()
            return
        except (OSError, ValueError, urllib.error.URLError):
            time.sleep(0.1)
    raise Unreachable("the lab did not start", hint="See what it printed above.")


def know_machines(client: Client, lab_plan: LabPlan) -> None:
    """Let the demonstration know its bare machines: looked at, their certificates pinned, added;
    those it knows are read.
    """
    from nimble_stone.lab.scenario import demo as scene

    client.call("PUT", f"/api/secrets/{scene.BMC_CREDENTIAL}", {"value": scene.BMC_PASSWORD})
    known = {one["machine"]["name"] for one in client.call("GET", "/api/estate/machines")}
    wanted = [one for one in scene.machines_of(lab_plan) if one.name not in known]
    entries = [
        {"name": one.name, "address": one.address, "port": one.port, "kind": "machine"}
        for one in wanted
    ]
    seen = (
        client.call(
            "POST", "/api/estate/look", {"entries": entries, "credential": scene.BMC_CREDENTIAL}
        )
        if entries
        else []
    )
    prints = {one["entry"]["name"]: one["fingerprint"] for one in seen}
    if wanted:
        client.call(
            "POST",
            "/api/estate/machines",
            [
                {"machine": one.model_dump(mode="json"), "fingerprint": prints[one.name]}
                for one in wanted
            ],
        )
    if known:
        client.call("POST", "/api/estate/machines/read", {})
