"""Looking inside bare machines: the medium fetched, the job read and the report sent by stand-ins,
as real ones do; and the bad days of it.
"""

from __future__ import annotations

import hashlib
import io
import json
import sqlite3
import subprocess
import tarfile
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import httpx
import pycdlib
import pytest

from nimble_stone.cli.client import Client
from nimble_stone.core.errors import StoneError
from nimble_stone.core.inspection import job
from nimble_stone.lab.scenario import medium
from tests.support.machines import add_machines
from tests.support.processes import (
    LabProcess,
    ServerProcess,
    lab_and_server,
    small_package,
    wait_for,
)

Place = tuple[LabProcess, ServerProcess, Client]


@pytest.fixture(scope="module")
def place(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Place]:
    folder = tmp_path_factory.mktemp("inspection")
    with lab_and_server(folder, reachable=True) as found:
        _, server, client = found
        medium.write(server.data / "inspection.iso")
        add_machines(client)
        yield found


def begin(client: Client, *names: str, **more: str) -> str:
    work = {"actions": [{"kind": "inspect", "host": name, **more} for name in names]}
    seen = client.call("POST", "/api/estate/groundwork/preview", work)
    return str(
        client.call("POST", "/api/estate/groundwork", {"run": seen["run"], "work": work})["id"]
    )


def run(client: Client, ident: str) -> dict[str, Any]:
    return dict(client.call("GET", f"/api/groundwork/{ident}"))


def ended(client: Client, ident: str, *states: str) -> dict[str, Any]:
    def there() -> dict[str, Any] | None:
        found = run(client, ident)
        return found if found["state"] in states else None

    found: dict[str, Any] = wait_for(there, 60, f"one of {states}")
    return found


def machine(client: Client, name: str) -> dict[str, Any]:
    views = client.call("GET", "/api/estate/machines")
    return next(dict(one["facts"]) for one in views if one["machine"]["name"] == name)


def inside_lab(lab: LabProcess, name: str) -> dict[str, Any]:
    return dict(lab.show()["machines"][name])


def test_a_machine_is_inspected_and_wiped_from_a_terminal(place: Place) -> None:
    lab, server, _ = place
    none = server.cli("estate", "inside", "slate", check=1).stdout
    assert "never inspected. Inspect it: nimble-stone estate inspect slate" in none
    refused = server.cli("estate", "wipe", "slate", "HM0D7", check=1).stdout
    assert "! it was never inspected" in refused
    shown = server.cli("estate", "inspect", "slate").stdout
    assert "Preview only. Add --yes to start." in shown
    assert (
        "is not among"
        in server.cli("estate", "inspect", "slate", "--restart", "gneiss", check=2).stderr
    )
    assert "slate" in server.cli("estate", "inspect", "slate", "--yes").stdout
    told = server.cli("estate", "inside", "slate").stdout
    assert "leaf-1.kelda.holm.example" in told
    inside = json.loads(server.cli("estate", "inside", "slate", "--json").stdout)
    held = [disk["serial"] for disk in inside["disks"] if disk["holds"]]
    assert held
    assert "old-archive" in told
    asked = server.cli("estate", "wipe", "slate", held[0], check=1).stdout
    assert "slate 1 drive" in asked
    ready = server.cli("estate", "wipe", "slate", held[0], "--confirm", "slate 1 drive").stdout
    assert "Preview only. Add --yes to start." in ready
    # one that is blank already, so that the others find the rest as it was
    blank = next(disk["serial"] for disk in inside["disks"] if not disk["holds"])
    lab_log = len(inside_lab(lab, "slate")["log"])
    server.cli("estate", "wipe", "slate", blank, "--confirm", "slate 1 drive", "--yes")
    assert "boots from Cd" in inside_lab(lab, "slate")["log"][lab_log:]
    after = json.loads(server.cli("estate", "inside", "slate", "--json").stdout)
    assert [disk["serial"] for disk in after["disks"] if disk["holds"]] == held


def test_machines_are_looked_into_and_left_as_they_were(place: Place) -> None:
    lab, _, client = place
    names = ("gneiss", "basalt", "chert")
    found = ended(client, begin(client, *names), "done", "trouble")
    assert found["state"] == "done", found
    assert "All 12 steps on 3 machines done" in found["sentence"]
    for name in names:
        facts, left = machine(client, name), inside_lab(lab, name)
        assert (left["power"], left["image"], left["boot"]["enabled"]) == ("Off", "", "Disabled")
        assert left["log"].count("boots from Cd") == 1
        assert facts["power"] == "Off"
        inside = facts["inside"]
        assert inside["serial"] == facts["serial"]
        assert [nic["name"] for nic in inside["nics"]] == ["ens1f0", "ens2f0", "ens3f0", "ens4f0"]
        assert {nic["mac"] for nic in inside["nics"]} == {nic["mac"] for nic in facts["nics"]}
        assert inside["nics"][0]["neighbour"]["name"] == "leaf-1.kelda.holm.example"
        assert inside["nics"][3]["link"] is False
        assert {disk["serial"] for disk in inside["disks"]} == {
            drive["serial"] for drive in facts["drives"]
        }
    # what was seen inside stays when the controller is read again
    client.call("POST", "/api/estate/machines/read", {"hosts": ["gneiss"]})
    assert machine(client, "gneiss")["inside"]["nics"]


def test_controllers_with_habits_are_looked_through(place: Place) -> None:
    lab, _, client = place
    lab.turn("slate", habits=["media-at-system", "etags", "tasks", "busy", "short-sessions"])
    try:
        found = ended(client, begin(client, "slate"), "done", "trouble")
        assert found["state"] == "done", found
        assert machine(client, "slate")["inside"]["disks"]
    finally:
        lab.turn("slate", habits=[])


def test_what_speaks_against_it_is_told_before(place: Place) -> None:
    lab, _, client = place
    work = {"actions": [{"kind": "inspect", "host": name} for name in ("flint", "fulmar")]}
    seen = client.call("POST", "/api/estate/groundwork/preview", work)
    said = {step["host"]: step["refusals"] for step in seen["steps"]}
    assert said == {
        "flint": ["its controller has no virtual media; let it boot from the network"],
        "fulmar": ["the estate has no machine fulmar"],
    }
    with pytest.raises(StoneError, match="no virtual media"):
        begin(client, "flint")
    client.call(
        "POST", "/api/estate/machines/granite/power", {"kind": "On", "confirmed": "granite"}
    )
    with pytest.raises(StoneError, match="it is on and would be restarted"):
        begin(client, "granite")
    found = ended(client, begin(client, "granite", confirmed="granite"), "done", "trouble")
    assert found["state"] == "done", found
    # on before, on afterwards, from its own disks
    wait_for(lambda: inside_lab(lab, "granite")["power"] == "On", 20, "power as it was")
    assert inside_lab(lab, "granite")["log"][-1] == "boots from None"
    client.call(
        "POST", "/api/estate/machines/granite/power", {"kind": "ForceOff", "confirmed": "granite"}
    )


def refusals(lab: LabProcess) -> int:
    return int(inside_lab(lab, "gneiss")["log"].count("report answered with 403"))


def test_a_report_of_another_machine_is_refused_and_told(place: Place) -> None:
    lab, _, client = place
    before = machine(client, "gneiss")["inside"]["read_at"]
    lab.turn("gneiss", reports_as="HM00000000")
    try:
        ident = begin(client, "gneiss")
        found = ended(client, ident, "trouble", "done")
        assert found["state"] == "trouble"
        step = next(one for one in found["steps"] if one["state"] == "failed")
        assert "serial number HM00000000" in step["message"]
        assert machine(client, "gneiss")["inside"]["read_at"] == before
        with pytest.raises(StoneError, match="worked on machines"):
            client.call("GET", f"/api/groundwork/{ident}/work")
        # asked again it boots from a new medium, and is refused again
        client.call("POST", f"/api/groundwork/{ident}/retry", {})
        wait_for(
            lambda: inside_lab(lab, "gneiss")["log"].count("report answered with 403") == 2,
            30,
            "again",
        )
        ended(client, ident, "trouble")
        client.call("POST", f"/api/groundwork/{ident}/undo", {})
        ended(client, ident, "undone")
        left = inside_lab(lab, "gneiss")
        assert (left["power"], left["image"], left["boot"]["enabled"]) == ("Off", "", "Disabled")
        # the cause mended in the middle, it goes on
        ident = begin(client, "gneiss")
        ended(client, ident, "trouble")
        lab.turn("gneiss", reports_as="")
        client.call("POST", f"/api/groundwork/{ident}/retry", {})
        ended(client, ident, "done")
    finally:
        lab.turn("gneiss", reports_as="")


def test_a_report_that_comes_twice_counts_once(place: Place) -> None:
    lab, _, client = place
    lab.turn("chert", reports_twice=True)
    try:
        assert ended(client, begin(client, "chert"), "done", "trouble")["state"] == "done"
        answers = [line for line in inside_lab(lab, "chert")["log"] if "report answered" in line]
        assert answers[-2:] == ["report answered with 204", "report answered with 409"]
    finally:
        lab.turn("chert", reports_twice=False)


def was_read(server: ServerProcess, ident: str) -> bool:
    """Whether the medium of a run counts as read, as it is kept."""
    with closing(sqlite3.connect(server.data / "nimble-stone.db", timeout=30)) as db:
        row = db.execute("SELECT fetched_at FROM medium WHERE run = ?", (ident,)).fetchone()
    return bool(row[0])


@pytest.mark.parametrize("knob", ["boots_from_disk", "hangs"])
def test_a_machine_that_never_reports_is_waited_for_and_rolled_back(
    place: Place, knob: str
) -> None:
    lab, server, client = place
    lab.turn("basalt", **{knob: True})
    try:
        ident = begin(client, "basalt")

        def waits() -> bool:
            return any(
                step["label"] == "Report" and step["state"] == "waiting"
                for step in run(client, ident)["steps"]
            )

        wait_for(waits, 30, "the wait")
        if knob == "boots_from_disk":
            # a controller that asks how long the medium is does not boot from it
            address = inside_lab(lab, "basalt")["image"]
            for words, read in ((["-I"], False), (["-r", "0-99"], True)):
                subprocess.run(["curl", "-fsS", "-o", "/dev/null", *words, address], check=True)
                assert was_read(server, ident) is read
        client.call("POST", f"/api/groundwork/{ident}/undo", {})
        found = ended(client, ident, "undone")
        assert found["sentence"] == "Rolled back on 1 machine."
        left = inside_lab(lab, "basalt")
        assert (left["power"], left["image"], left["boot"]["enabled"]) == ("Off", "", "Disabled")
    finally:
        lab.turn("basalt", **{knob: False})


def test_a_server_that_is_killed_goes_on_with_it(place: Place) -> None:
    lab, server, client = place
    # each step takes a while, so that the kill meets it
    lab.turn("gneiss", slow_s=0.02)
    reached = set()
    for wanted in ("Insert inspection medium", "Boot from medium", "Report", "Eject medium"):
        ident = begin(client, "gneiss")

        def at_work(ident: str = ident, wanted: str = wanted) -> bool:
            found = run(client, ident)
            return found["state"] == "done" or any(
                step["label"] == wanted and step["state"] in ("working", "waiting")
                for step in found["steps"]
            )

        wait_for(at_work, 30, wanted)
        if run(client, ident)["state"] != "done":
            reached.add(wanted)
        server.kill()
        server.start()
        found = ended(client, ident, "done", "trouble")
        assert found["state"] == "done", found
        left = inside_lab(lab, "gneiss")
        assert (left["power"], left["image"], left["boot"]["enabled"]) == ("Off", "", "Disabled")
    lab.turn("gneiss", slow_s=0.0)
    assert len(reached) >= 3


def wiping(client: Client, name: str, number: int) -> dict[str, Any]:
    """The action that wipes a drive, as it is now."""
    serial = f"{machine(client, name)['serial']}D{number}"
    disk = next(one for one in machine(client, name)["inside"]["disks"] if one["serial"] == serial)
    drive = {key: disk[key] for key in ("serial", "size_bytes", "holds")}
    return {
        "kind": "wipe-drives",
        "host": name,
        "drives": [drive],
        "confirmed": f"{name} 1 drive",
    }


def carried_out(client: Client, action: dict[str, Any]) -> str:
    work = {"actions": [action]}
    seen = client.call("POST", "/api/estate/groundwork/preview", work)
    return str(
        client.call("POST", "/api/estate/groundwork", {"run": seen["run"], "work": work})["id"]
    )


def test_a_drive_is_wiped_after_its_machine_was_typed_and_no_other(place: Place) -> None:
    _, _, client = place
    ended(client, begin(client, "slate"), "done")
    action = wiping(client, "slate", 7)
    assert action["drives"][0]["holds"][1]["label"] == "old-archive"
    for change, words in (
        ({"confirmed": "slate"}, "type “slate 1 drive”"),
        ({"drives": [action["drives"][0] | {"serial": "HM0"}]}, "saw no single disk with serial"),
        ({"drives": [action["drives"][0] | {"holds": []}]}, "holds .* now"),
        ({"drives": [action["drives"][0] | {"size_bytes": 7}]}, "holds .* now"),
    ):
        with pytest.raises(StoneError, match=words):
            carried_out(client, action | change)
    found = ended(client, carried_out(client, action), "done", "trouble")
    assert found["state"] == "done", found
    assert [step["label"] for step in found["steps"]][2] == "Wipe 1 drive and report"
    disks = machine(client, "slate")["inside"]["disks"]
    assert [disk["holds"] for disk in disks] == [[]] * 10
    # a second time there is nothing like what was confirmed
    with pytest.raises(StoneError, match="holds nothing now"):
        carried_out(client, action)


def test_a_machine_does_one_thing_at_a_time(place: Place) -> None:
    lab, _, client = place
    with pytest.raises(StoneError, match="one thing at a time"):
        client.call(
            "POST",
            "/api/estate/groundwork/preview",
            {"actions": [{"kind": "inspect", "host": "slate"}, wiping(client, "slate", 1)]},
        )
    lab.turn("slate", hangs=True)
    try:
        ident = begin(client, "slate")
        with pytest.raises(StoneError, match="it is on|is already changing"):
            carried_out(client, wiping(client, "slate", 1))
        client.call("POST", f"/api/groundwork/{ident}/undo", {})
        ended(client, ident, "undone")
    finally:
        lab.turn("slate", hangs=False)


def test_a_machine_that_was_switched_on_meanwhile_is_not_restarted(place: Place) -> None:
    lab, _, client = place
    # the controller is busy with somebody's power switch between the check and the boot
    lab.turn("chert", slow_s=0.12)
    try:
        ident = begin(client, "chert")
        lab.power("chert", "On")
        found = ended(client, ident, "trouble", "done")
        assert found["state"] == "trouble", found
        step = next(one for one in found["steps"] if one["state"] == "failed")
        assert "was switched on since" in step["message"]
        client.call("POST", f"/api/groundwork/{ident}/undo", {})
        ended(client, ident, "undone")
        left = inside_lab(lab, "chert")
        # it runs on, as whoever switched it on wants
        assert (left["power"], left["image"], left["boot"]["enabled"]) == ("On", "", "Disabled")
        assert left["log"].count("reset ForceRestart") == 0
    finally:
        lab.turn("chert", slow_s=0.0)
        lab.power("chert", "ForceOff")
        wait_for(lambda: inside_lab(lab, "chert")["power"] == "Off", 20, "off")
        client.call("POST", "/api/estate/machines/read", {"hosts": ["chert"]})


def test_it_is_rolled_back_when_the_image_is_gone(place: Place) -> None:
    lab, server, client = place
    lab.turn("basalt", hangs=True)
    image = server.data / "inspection.iso"
    try:
        ident = begin(client, "basalt")
        wait_for(lambda: inside_lab(lab, "basalt")["power"] == "On", 30, "power")
        image.rename(image.with_suffix(".away"))
        client.call("POST", f"/api/groundwork/{ident}/undo", {})
        ended(client, ident, "undone")
        left = inside_lab(lab, "basalt")
        assert (left["power"], left["image"], left["boot"]["enabled"]) == ("Off", "", "Disabled")
        with pytest.raises(StoneError, match="there is no inspection image at"):
            begin(client, "basalt")
    finally:
        image.with_suffix(".away").rename(image)
        lab.turn("basalt", hangs=False)


def away(lab: LabProcess) -> int:
    """How often gneiss's controller said that it is starting."""
    return int(inside_lab(lab, "gneiss")["answers"].get("503", 0))


def test_a_controller_that_restarts_in_the_middle_is_waited_for(place: Place) -> None:
    lab, _, client = place
    for wanted in ("Insert inspection medium", "Boot from medium", "Report", "Eject medium"):
        ident = begin(client, "gneiss")

        def at_work(ident: str = ident, wanted: str = wanted) -> bool:
            found = run(client, ident)
            return found["state"] in ("done", "unproved") or any(
                step["label"] == wanted and step["state"] in ("working", "waiting")
                for step in found["steps"]
            )

        wait_for(at_work, 30, wanted)
        before = away(lab)
        lab.turn("gneiss", starting=True)

        def felt(ident: str = ident, before: int = before) -> bool:
            """It was asked, or nothing is asked of it: its report is waited for."""
            found = run(client, ident)
            waits = any(
                step["label"] == "Report" and step["state"] in ("working", "waiting")
                for step in found["steps"]
            )
            over = found["state"] in ("done", "unproved")
            return waits or over or away(lab) > before

        wait_for(felt, 30, "questions")
        lab.turn("gneiss", starting=False)
        found = ended(client, ident, "done", "unproved", "trouble")
        # unproved: it was away when the machine was refreshed at the end, and the run says so
        assert {step["state"] for step in found["steps"]} == {"done"}, found
        assert found["state"] != "unproved" or "not everything could be refreshed" in str(found)


def test_the_medium_is_whole_for_curl_and_for_ranges(place: Place, tmp_path: Path) -> None:
    lab, server, client = place
    lab.turn("basalt", hangs=True)
    try:
        ident = begin(client, "basalt")
        address = wait_for(lambda: inside_lab(lab, "basalt")["image"], 30, "a medium")
        target = tmp_path / "medium.iso"
        subprocess.run(["curl", "-sSf", "-o", str(target), address], check=True, timeout=60)
        original = (server.data / "inspection.iso").read_bytes()
        fetched = target.read_bytes()
        assert len(fetched) == len(original)
        at = original.index(job.EMPTY)
        assert fetched[:at] == original[:at]
        assert fetched[at + job.SIZE :] == original[at + job.SIZE :]
        told = job.read(fetched[at : at + job.SIZE])
        assert (told.kind, told.machine) == ("inspect", "basalt")
        iso = pycdlib.PyCdlib()
        iso.open(str(target))
        out = io.BytesIO()
        iso.get_file_from_iso_fp(out, joliet_path=f"/{job.FILE}")
        iso.close()
        assert job.read(out.getvalue()) == told
        # in pieces, some of which cut through the job
        pieces = b""
        for start in range(0, len(fetched), 30_001):
            end = min(start + 30_000, len(fetched) - 1)
            answer = httpx.get(address, headers={"Range": f"bytes={start}-{end}"}, trust_env=False)
            assert answer.status_code == 206
            pieces += answer.content
        assert hashlib.sha256(pieces).digest() == hashlib.sha256(fetched).digest()
        assert httpx.head(address, trust_env=False).headers["content-length"] == str(len(fetched))
        _only_the_pinned_key_answers(told, tmp_path)
        client.call("POST", f"/api/groundwork/{ident}/undo", {})
        ended(client, ident, "undone")
        assert httpx.get(address, trust_env=False).status_code == 404
    finally:
        lab.turn("basalt", hangs=False)
    assert httpx.get(f"{server.url}/media/{'0' * 32}/inspection.iso").status_code == 404


def _only_the_pinned_key_answers(told: job.Job, folder: Path) -> None:
    """curl, as the real inspection system calls it: with the pin, and with another."""
    report = folder / "report"
    report.write_text("this is no report\n")
    line = ["curl", "-sS", "-k", "-o", "/dev/null", "-w", "%{http_code}", "--data-binary"]
    wrong = f"sha256//{'A' * 43}="
    refused = subprocess.run(
        [*line, f"@{report}", "--pinnedpubkey", wrong, told.report],
        capture_output=True,
        timeout=30,
        check=False,
    )
    assert refused.returncode == 90
    answer = subprocess.run(
        [*line, f"@{report}", "--pinnedpubkey", told.pin, told.report],
        capture_output=True,
        timeout=30,
        check=False,
    )
    assert answer.stdout == b"400"
    large = folder / "large"
    large.write_bytes(b"x" * (1 << 20))
    bounded = subprocess.run(
        [*line, f"@{large}", "--pinnedpubkey", told.pin, told.report],
        capture_output=True,
        timeout=30,
        check=False,
    )
    assert bounded.stdout == b"413"


def writing(
    client: Client, name: str, number: int, package: str, typed: str = ""
) -> dict[str, Any]:
    """The action that writes a package's disk to a drive, as the last inspection saw that."""
    disk = machine(client, name)["inside"]["disks"][number]
    return {
        "kind": "write-image",
        "host": name,
        "drive": {key: disk[key] for key in ("serial", "size_bytes", "holds")},
        "package": package,
        "confirmed": typed or f"{name} 1 drive",
    }


def carry_out(client: Client, action: dict[str, Any]) -> str:
    work = {"actions": [action]}
    seen = client.call("POST", "/api/estate/groundwork/preview", work)
    body = {"run": seen["run"], "work": work}
    return str(client.call("POST", "/api/estate/groundwork", body)["id"])


@pytest.fixture(scope="module")
def package(place: Place, tmp_path_factory: pytest.TempPathFactory) -> str:
    """The Gauge Collector with 8 MiB of content; chert is inspected."""
    _, _, client = place
    path = small_package(tmp_path_factory.mktemp("package"), mib=8)
    client.upload(path, lambda *_: None)
    assert ended(client, begin(client, "chert"), "done", "trouble")["state"] == "done"
    return str(client.call("GET", "/api/packages")[0]["sha256"])


def test_an_image_is_written_to_a_drive_and_read_back(place: Place, package: str) -> None:
    lab, server, client = place
    serial = machine(client, "chert")["inside"]["disks"][0]["serial"]
    shown = server.cli("estate", "write", "chert", serial, "Gauge Collector 4.2.0", check=1).stdout
    assert "type “chert 1 drive” to confirm" in shown
    done = server.cli(
        *("estate", "write", "chert", serial, "Gauge Collector 4.2.0"),
        *("--confirm", "chert 1 drive", "--yes"),
    ).stdout
    assert "chert" in done
    left = inside_lab(lab, "chert")
    data = next((server.data / "packages" / "extents").glob(f"{package}.data"))
    assert left["written"] == {serial: hashlib.sha256(data.read_bytes()).hexdigest()}
    assert (left["power"], left["image"]) == ("Off", "")
    # what it holds now is known, and the package stays as long as the run
    assert machine(client, "chert")["inside"]["disks"][0]["holds"][0]["kind"] == "dos"
    with pytest.raises(StoneError, match="a run used this package"):
        client.call("DELETE", f"/api/packages/{package}")


def test_an_image_is_not_written_where_something_speaks_against_it(
    place: Place, package: str
) -> None:
    lab, _, client = place
    with pytest.raises(StoneError, match="type “chert 1 drive”"):
        carry_out(client, writing(client, "chert", 1, package, "chert"))
    with pytest.raises(StoneError, match="the package 0000"):
        carry_out(client, writing(client, "chert", 1, "0" * 64))
    small = writing(client, "chert", 1, package)
    small["drive"]["size_bytes"] = 4096
    with pytest.raises(StoneError, match="the drive 4 KiB"):
        carry_out(client, small)
    lab.power("chert", "On")
    client.call("POST", "/api/estate/machines/read", {"hosts": ["chert"]})
    with pytest.raises(StoneError, match="it is on; switch it off first"):
        carry_out(client, writing(client, "chert", 1, package))
    lab.power("chert", "ForceOff")
    wait_for(lambda: inside_lab(lab, "chert")["power"] == "Off", 30, "power off")
    client.call("POST", "/api/estate/machines/read", {"hosts": ["chert"]})


def test_the_server_is_killed_while_a_machine_fetches_its_image(place: Place, package: str) -> None:
    lab, server, client = place
    lab.turn("chert", slow_link=2e6)
    try:
        ident = carry_out(client, writing(client, "chert", 2, package))

        def fetching() -> bool:
            return int(inside_lab(lab, "chert")["fetched"]) > 1 << 20

        wait_for(fetching, 60, "a part of the image")
        server.kill()
        server.start()
        lab.turn("chert", slow_link=0)
        found = ended(server.client(), ident, "done", "trouble")
        assert found["state"] == "done", found
        serial = machine(client, "chert")["inside"]["disks"][2]["serial"]
        assert serial in inside_lab(lab, "chert")["written"]
        # the machine went through it once: it tried the fetch again by itself
        assert [step["attempt"] for step in found["steps"] if step["label"].startswith("Write")]
    finally:
        lab.turn("chert", slow_link=0)


def test_the_image_as_curl_fetches_it_is_the_disk(
    place: Place, package: str, tmp_path: Path
) -> None:
    """Put together by the map with dd, it is what qemu-img makes of the package's disk."""
    lab, _, client = place
    lab.turn("chert", hangs=True)
    try:
        ident = carry_out(client, writing(client, "chert", 3, package))
        address = wait_for(lambda: inside_lab(lab, "chert")["image"], 30, "a medium")
        medium_file = tmp_path / "medium.iso"
        subprocess.run(["curl", "-sSf", "-o", str(medium_file), address], check=True, timeout=60)
        held = medium_file.read_bytes()
        told = job.read(held[(at := held.index(job.MARK)) : at + job.SIZE])
        assert told.image is not None
        fetch = ["curl", "-sSf", "-k", "--pinnedpubkey", told.pin]
        runs = subprocess.run(
            [*fetch, f"{told.image.address}/map"], check=True, capture_output=True, text=True
        ).stdout
        data = tmp_path / "data"
        subprocess.run([*fetch, "-o", str(data), f"{told.image.address}/data"], check=True)
        assert hashlib.sha256(data.read_bytes()).hexdigest() == told.image.sha256
        # another key than the pinned one is not taken, another address than the job's neither
        wrong = [*fetch[:-1], "sha256//" + "A" * 43 + "=", f"{told.image.address}/data"]
        assert subprocess.run(wrong, capture_output=True, check=False).returncode == 90
        gone = told.image.address[:-4] + "0000"
        assert subprocess.run([*fetch, f"{gone}/data"], capture_output=True).returncode == 22
        raw = tmp_path / "written.raw"
        with raw.open("wb") as out, data.open("rb") as source:
            out.truncate(told.image.zero_bytes)
            for line in runs.splitlines():
                first, count = (int(word) for word in line.split())
                out.seek(first * 65536)
                out.write(source.read(count * 65536))
        with tarfile.open(small_package(tmp_path, mib=8)) as ova:
            disk = next(name for name in ova.getnames() if name.endswith(".vmdk"))
            ova.extract(disk, tmp_path, filter="data")
        subprocess.run(
            ["qemu-img", "compare", "-f", "raw", "-F", "vmdk", str(raw), str(tmp_path / disk)],
            check=True,
            capture_output=True,
        )
        client.call("POST", f"/api/groundwork/{ident}/undo", {})
        ended(client, ident, "undone")
    finally:
        lab.turn("chert", hangs=False)
