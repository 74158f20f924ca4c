"""Nodes put onto bare machines by an unattended installer: its ISO with answer files, what it
tells, what goes wrong, and the hosts that come of it. The stand-ins fetch and parse all of it.
"""

from __future__ import annotations

import subprocess
from collections import Counter
from collections.abc import Iterator
from importlib.resources import files
from typing import Any

import pytest
from ruamel.yaml import YAML

from nimble_stone.cli.client import Client
from nimble_stone.lab.scenario import keelson
from tests.engine.test_built_hosts import rolled_out
from tests.engine.test_kill import killed_on_the_way, step_events
from tests.engine.test_on_machines import blockers
from tests.support.machines import Place, inspect, machine_scene
from tests.support.processes import ended, wait_for

PASSWORD = "Mud & <flats> \"1893\": 'x' # \\ %"
MACHINES = ("chert", "gneiss", "slate")
INSTALL = "install/host-1"
PLAN = """nimble-stone: plan/1
name: NAME
kit: keelson
package: KEELSON 2.1.0
bay: kelda-metal
values: {pool: kelda-survey}
roles: {host: {count: COUNT}}
nodes: {NODES}
"""


@pytest.fixture(scope="module")
def place(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Place]:
    folder = tmp_path_factory.mktemp("installing")
    with machine_scene(folder) as found:
        file = folder / "keelson-2.1.0.iso"
        file.write_bytes(keelson.iso(mib=1))
        found[2].upload(file, lambda *_: None)
        inspect(found[2], *MACHINES)
        yield found


def planned(client: Client, name: str, *machines: str, kit: str = "keelson") -> dict[str, Any]:
    nodes = ", ".join(f"host-{n}: {{host: {one}}}" for n, one in enumerate(machines, 1))
    text = (
        PLAN.replace("kit: keelson", f"kit: {kit}")
        .replace("NAME", name)
        .replace("COUNT", str(len(machines)))
    )
    plan = client.call("POST", "/api/plans", {"text": text.replace("NODES", nodes)})
    body = {"version": plan["version"], "column": "root_password", "value": PASSWORD}
    return dict(client.call("POST", f"/api/plans/{name}/secret", body))


def undone(client: Client, run: str, name: str) -> str:
    client.call("POST", f"/api/runs/{run}/undo", {})
    gone = ended(client, run, states=("undone",))
    client.call("DELETE", f"/api/plans/{name}")
    return " ".join(step["undo_message"] for step in gone["steps"])


def test_an_installer_puts_hosts_onto_machines(place: Place) -> None:
    """One machine has one virtual drive, one has two: the answers come in a copy of the ISO, or on
    a second medium.
    """
    lab, _, client = place
    lab.turn("gneiss", habits=["second-slot"])
    client.call("POST", "/api/estate/machines/read", {"hosts": ["gneiss"]})
    plan = planned(client, "shoal", "chert", "gneiss")
    assert blockers(plan) == []
    run = rolled_out(client, "shoal")
    for name in ("chert", "gneiss"):
        seen = lab.show()["machines"][name]
        boots = [line for line in seen["log"] if line.startswith("boots from")]
        assert boots[-2:] == ["boots from Cd", "boots from Hdd"]
        assert (seen["power"], seen["image"], seen["second"]) == ("On", "", "")
    hosts = {h["name"]: h for h in client.call("GET", "/api/estate")["hosts"]}
    facts = client.call("GET", "/api/estate/hosts/shoal-1")["facts"]
    assert [store["name"] for store in facts["datastores"]] == ["local"]
    assert hosts["shoal-1"]["origin"]["machine"] == "chert"
    # what an installer was told is forgotten when it is done
    assert run not in str(client.call("GET", "/api/keyring"))
    told = undone(client, run, "shoal")
    assert "chert: its drives keep what was installed; wipe them on the machine's page" in told
    lab.turn("gneiss", habits=[])


def until_install(client: Client, run: str, *states: str) -> dict[str, Any]:
    """The step of the installation, once it is in one of these states."""

    def found() -> dict[str, Any]:
        steps = client.call("GET", f"/api/runs/{run}")["steps"]
        step = next(dict(step) for step in steps if step["key"] == INSTALL)
        return step if step["state"] in states else {}

    return dict(wait_for(found, 180, f"the installation to be {' or '.join(states)}"))


def test_what_goes_wrong_is_told_and_tried_again(place: Place) -> None:
    """Each time the machine boots the installer once more, from a medium of its own."""
    lab, _, client = place
    planned(client, "reef", "slate")
    run = ""
    for knobs, words in (
        ({"reports_as": "HM00000000"}, "another machine reported, with serial number HM00000000"),
        ({"reports_as": "", "installer": "fails"}, "the installer failed: drive HM"),
        ({"installer": "silent"}, "switched itself off, and the installer did not report"),
        ({"installer": "", "hangs": True}, ""),
    ):
        lab.turn("slate", **knobs)
        if run:
            client.call("POST", f"/api/runs/{run}/retry", {"steps": [INSTALL]})
        else:
            run = str(client.call("POST", "/api/plans/reef/run")["run"])
        if not words:
            # it hangs: a person ends the wait
            until_install(client, run, "working", "waiting")
            client.call("POST", f"/api/runs/{run}/end-wait", {"steps": [INSTALL]})
        assert words in until_install(client, run, "failed")["message"]
    lab.turn("slate", hangs=False, reports_twice=True)
    client.call("POST", f"/api/runs/{run}/retry", {"steps": [INSTALL]})
    assert ended(client, run)["state"] == "done"
    log = lab.show()["machines"]["slate"]["log"]
    # a second word is refused, and changes nothing
    assert [line[-3:] for line in log if line.startswith("the end")][-2:] == ["204", "409"]
    assert log.count("boots from Hdd") == 1
    lab.turn("slate", reports_twice=False)
    undone(client, run, "reef")


def test_an_installer_that_ends_by_switching_off_is_done_when_it_does(place: Place) -> None:
    """By its kit; one that said it failed before it switched off is not done by that, nor by a
    retry.
    """
    lab, server, client = place
    text = (files("nimble_stone.kits") / "keelson.yaml").read_text()
    text = text.replace("id: keelson", "id: quiet", 1).replace("expected: 45", "ends: off", 1)
    (server.data / "kits").mkdir(exist_ok=True)
    (server.data / "kits/quiet.yaml").write_text(text)
    planned(client, "mire", "slate", kit="quiet")
    # its controller is so slow that the machine is off again before it is seen on
    lab.turn("slate", installer="fails and ends", slow_s=0.2)
    run = str(client.call("POST", "/api/plans/mire/run")["run"])
    assert "the installer failed: drive HM" in until_install(client, run, "failed")["message"]
    lab.turn("slate", slow_s=0)
    wait_for(lambda: lab.show()["machines"]["slate"]["power"] == "Off", 30, "slate off")
    before = len(lab.show()["machines"]["slate"]["log"])
    lab.turn("slate", installer="silent")
    client.call("POST", f"/api/runs/{run}/retry", {"steps": [INSTALL]})
    assert ended(client, run)["state"] == "done"
    # it was installed by the second attempt, not believed after the first
    assert "boots from Cd" in lab.show()["machines"]["slate"]["log"][before:]
    lab.turn("slate", installer="")
    undone(client, run, "mire")


def test_a_medium_is_fetched_by_range_and_told_about_by_whoever_knows_its_address(
    place: Place,
) -> None:
    """By curl: what it gets is an ISO whose answer file a YAML reader takes; addresses that are not
    on offer, words that are too long and media by other names are refused.
    """
    lab, _, client = place
    planned(client, "skerry-1", "slate")
    lab.turn("slate", hangs=True)
    run = str(client.call("POST", "/api/plans/skerry-1/run")["run"])
    address = wait_for(lambda: lab.show()["machines"]["slate"]["image"], 60, "a medium")
    whole = curl("-f", address)
    part = curl("-f", "-r", "32768-34815", address)
    assert (whole[32769:32774], part) == (b"CD001", whole[32768:34816])
    place_of = whole.index(b"install:\n")
    file = whole[place_of : place_of + (64 << 10)]
    read = YAML(typ="safe", pure=True).load(file.decode())
    assert (read["install"]["password"], read["install"]["name"]) == (PASSWORD, "skerry-1-1")
    folder = address.rpartition("/")[0]
    assert read["report"]["done"] == f"{folder}/done"
    for words, status in (
        ((f"{folder}/inspection.iso",), "404"),
        ((f"{folder}/answers.iso",), "404"),
        (("-X", "POST", f"{folder[:-4]}0000/done"), "404"),
        (("-X", "POST", f"{folder}/else"), "422"),
        (("-d", "x" * 2000, f"{folder}/progress"), "413"),
        (("-d", "half \x07 way", f"{folder}/progress"), "204"),
    ):
        assert curl("-o", "/dev/null", "-w", "%{http_code}", *words).decode() == status, words
    # an installer that can only fetch
    assert curl("-o", "/dev/null", "-w", "%{http_code}", f"{folder}/done").decode() == "204"
    until_install(client, run, "done")
    lab.turn("slate", hangs=False)
    undone(client, run, "skerry-1")
    # who guesses is soon answered no more
    asked = [curl("-o", "/dev/null", "-w", "%{http_code}", address).decode() for _ in range(12)]
    assert (asked[0], asked[-1]) == ("404", "429")


def curl(*words: str) -> bytes:
    return subprocess.run(["curl", "-sS", *words], check=True, capture_output=True).stdout


@pytest.mark.timeout(800)
def test_killed_at_every_step_each_machine_is_installed_and_started_once(place: Place) -> None:
    lab, server, client = place
    planned(client, "tarn", *MACHINES)
    before = {name: len(lab.show()["machines"][name]["log"]) for name in MACHINES}
    run = str(client.call("POST", "/api/plans/tarn/run")["run"])
    met = killed_on_the_way(server, run, most=9, least=8, spread=5)
    done = ended(client, run)
    assert len(met) >= 5
    assert done["state"] == "done", [s for s in done["steps"] if s["state"] == "failed"]
    for name in MACHINES:
        log = lab.show()["machines"][name]["log"][before[name] :]
        assert (log.count("boots from Cd"), log.count("boots from Hdd")) == (1, 1), log
    finished = Counter(step for _, step, kind in step_events(server, run) if kind == "done")
    assert finished == Counter(step["key"] for step in done["steps"])
    undone(client, run, "tarn")
