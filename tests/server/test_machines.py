"""Bare machines by Redfish, scans, and accounts with few rights: on stand-ins, over real TLS and
SSH.
"""

from __future__ import annotations

import json
import ssl
import time
from collections.abc import Iterator
from typing import Any

import pytest
import redfish

from nimble_stone.cli.client import Client
from nimble_stone.core.errors import StoneError
from nimble_stone.lab.scenario import demo
from tests.support.processes import LabProcess, ServerProcess, lab_and_server, wait_for

Place = tuple[LabProcess, ServerProcess, Client]
MACHINES = "[kelda-metal]\n" + "".join(
    f"{one.name} https://{one.address}\n" for one in demo.plan().machines
)


@pytest.fixture(scope="module")
def place(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Place]:
    with lab_and_server(tmp_path_factory.mktemp("machines")) as found:
        yield found


def look(
    client: Client, text: str, credential: str = demo.BMC_CREDENTIAL, user: str = "root"
) -> dict[str, dict[str, Any]]:
    listing = client.call("POST", "/api/estate/list", {"text": text})
    assert listing["junk"] == []
    return {
        one["entry"]["name"] or one["address"]: one
        for one in client.call(
            "POST",
            "/api/estate/look",
            {"entries": listing["entries"], "credential": credential, "user": user},
        )
    }


def machines(client: Client) -> dict[str, dict[str, Any]]:
    return {one["machine"]["name"]: one for one in client.call("GET", "/api/estate/machines")}


# self-made certificates, as controllers have them
@pytest.mark.filterwarnings("ignore::urllib3.exceptions.InsecureRequestWarning")
def test_the_dmtfs_own_library_is_content_with_the_stand_in(place: Place) -> None:
    lab, _, _ = place
    real, port = lab.plan.real("10.44.3.104", 443)
    client = redfish.redfish_client(
        base_url=f"https://{real}:{port}",
        username="admin",
        password=demo.BMC_PASSWORD,
        default_prefix="/redfish/v1",
        timeout=20,
        max_retry=1,
    )
    client.login(auth="session")
    try:
        systems = client.get("/redfish/v1/Systems").dict
        assert systems["Members@odata.count"] == 1
        path = systems["Members"][0]["@odata.id"]
        system = client.get(path).dict
        assert (system["PowerState"], system["MemorySummary"]["TotalSystemMemoryGiB"]) == (
            "Off",
            384,
        )
        drives = client.get(
            client.get(system["Storage"]["@odata.id"]).dict["Members"][0]["@odata.id"]
        ).dict["Drives"]
        assert len(drives) == 10
        assert client.get(drives[0]["@odata.id"]).dict["CapacityBytes"] > 1 << 40
        manager = client.get(
            client.get("/redfish/v1/Managers").dict["Members"][0]["@odata.id"]
        ).dict
        slot = client.get(
            client.get(manager["VirtualMedia"]["@odata.id"]).dict["Members"][0]["@odata.id"]
        ).dict
        assert slot["MediaTypes"] == ["CD", "DVD"]
        assert (
            client.post(
                slot["Actions"]["#VirtualMedia.InsertMedia"]["target"],
                body={"Image": "http://10.44.0.9/x.iso"},
            ).status
            == 204
        )
        assert client.get(slot["@odata.id"]).dict["Inserted"] is True
        assert (
            client.post(slot["Actions"]["#VirtualMedia.EjectMedia"]["target"], body={}).status
            == 204
        )
        assert (
            client.patch(
                path,
                body={
                    "Boot": {"BootSourceOverrideTarget": "Cd", "BootSourceOverrideEnabled": "Once"}
                },
            ).status
            == 204
        )
        assert client.get(path).dict["Boot"]["BootSourceOverrideTarget"] == "Cd"
        target = system["Actions"]["#ComputerSystem.Reset"]["target"]
        assert client.post(target, body={"ResetType": "On"}).status == 204
        wait_for(lambda: client.get(path).dict["PowerState"] == "On", 20, "power")
        assert client.post(target, body={"ResetType": "Sideways"}).status == 400
        assert client.post(target, body={"ResetType": "ForceOff"}).status == 204
        wait_for(lambda: client.get(path).dict["PowerState"] == "Off", 20, "no power")
        assert len(client.get("/redfish/v1/UpdateService/FirmwareInventory").dict["Members"]) == 3
        assert client.get("/redfish/v1/nothing").status == 404
    finally:
        client.logout()
    with pytest.raises(redfish.rest.v1.InvalidCredentialsError):
        redfish.redfish_client(
            base_url=f"https://{real}:{port}",
            username="admin",
            password="wrong",
            timeout=20,
            max_retry=1,
        ).login(auth="session")


def test_machines_are_looked_at_pinned_added_read_and_judged(place: Place) -> None:
    _, server, client = place
    found = look(client, MACHINES)
    assert {name: one["outcome"] for name, one in found.items()} == dict.fromkeys(found, "fine")
    assert "expired" in found["granite"]["words"]
    assert "localhost" in found["granite"]["words"]
    assert "memory" in found["flint"]["words"]
    assert all(
        one["fingerprint"].startswith("SHA256 ") and len(one["fingerprint"]) == 7 + 95
        for one in found.values()
    )
    # looking keeps nothing
    assert machines(client) == {}
    requests = [
        {
            "fingerprint": one["fingerprint"],
            "machine": {
                "name": name,
                "address": one["address"],
                "credential": demo.BMC_CREDENTIAL,
                "site": "Kelda",
                "bay": "kelda-metal",
            },
        }
        for name, one in found.items()
    ]
    with pytest.raises(StoneError, match="not confirmed"):
        client.call(
            "POST", "/api/estate/machines", [requests[0], requests[1] | {"fingerprint": "SHA1 x"}]
        )
    assert machines(client) == {}
    client.call("POST", "/api/estate/machines", requests)
    known = machines(client)
    gneiss, flint, slate = (known[name]["facts"] for name in ("gneiss", "flint", "slate"))
    assert (
        gneiss["memory_bytes"],
        len(gneiss["drives"]),
        len(gneiss["nics"]),
        gneiss["power"],
        gneiss["health"],
    ) == (384 << 30, 10, 4, "Off", "OK")
    assert sum(p["threads"] for p in gneiss["processors"]) == 64
    assert {f["name"]: f["version"] for f in gneiss["firmware"]} == {
        "BIOS": "2.4.1",
        "Controller": "1.18.3",
        "Adapter": "22.31.6",
    }
    assert gneiss["media"][0]["kinds"] == ["CD", "DVD"]
    assert "Pxe" in gneiss["boot_options"]
    assert gneiss["missing"] == []
    assert set(flint["missing"]) == {"drives", "virtual media", "memory", "health"}
    assert not flint["trouble"]
    # the slow one without sessions, by Basic auth
    assert len(slate["drives"]) == 10
    broken = {
        (v["host"], v["rule"])
        for v in client.call("GET", "/api/estate/rules")["violations"]
        if v["machine"]
    }
    assert broken == {
        ("basalt", "bmc-health"),
        ("chert", "bmc-firmware"),
        ("granite", "bmc-certificate"),
        ("flint", "bmc-media"),
    }
    assert look(client, "gneiss https://10.44.3.104")["gneiss"]["outcome"] == "known"
    lines = server.cli("estate", "machines").stdout
    assert "gneiss" in lines
    assert "384 GiB" in lines


def test_power_asks_for_the_name_and_is_done_when_it_is_seen(place: Place) -> None:
    lab, server, client = place
    with pytest.raises(StoneError, match="type “gneiss”"):
        client.call(
            "POST", "/api/estate/machines/gneiss/power", {"kind": "On", "confirmed": "gneis"}
        )
    assert lab.show()["machines"]["gneiss"]["power"] == "Off"
    client.call("POST", "/api/estate/machines/gneiss/power", {"kind": "On", "confirmed": "gneiss"})
    assert machines(client)["gneiss"]["facts"]["power"] == "On"
    assert {
        (c["what"], c["was"], c["now"]) for c in machines(client)["gneiss"]["facts"]["changes"]
    } == {("power", "Off", "On")}
    with pytest.raises(StoneError, match="on already"):
        client.call(
            "POST", "/api/estate/machines/gneiss/power", {"kind": "On", "confirmed": "gneiss"}
        )
    assert (
        "Off" in server.cli("estate", "power", "gneiss", "ForceOff", "--confirm", "gneiss").stdout
    )
    assert lab.show()["machines"]["gneiss"]["log"][-1] == "reset ForceOff"


def test_a_controller_that_starts_anew_is_refused_or_is_another_one_keeps_its_last_facts(
    place: Place,
) -> None:
    lab, _, client = place
    for knob, code, words in (
        ("starting", "unreachable", "is restarting"),
        ("login_refused", "login-refused", "rejected the login"),
        ("unreachable", "unreachable", "no service listens"),
        ("garbage", "remote-failed", ""),
    ):
        lab.turn("chert", **{knob: True})
        others = time.monotonic()
        client.call("POST", "/api/estate/machines/read", {})
        assert time.monotonic() - others < 60
        facts = machines(client)["chert"]["facts"]
        assert (facts["trouble_code"], words in facts["trouble"], facts["memory_bytes"]) == (
            code,
            True,
            384 << 30,
        ), facts["trouble"]
        assert not machines(client)["gneiss"]["facts"]["trouble"]
        lab.turn("chert", **{knob: False})
    lab.turn("chert", new_certificate=True)
    client.call("POST", "/api/estate/machines/read", {"hosts": ["chert"]})
    assert machines(client)["chert"]["facts"]["trouble_code"] == "certificate-changed"
    assert look(client, "other https://10.44.3.102:443")["other"]["outcome"] == "known"
    # a person compared it
    client.call("DELETE", "/api/estate/machines/chert/pin")
    assert not machines(client)["chert"]["facts"]["trouble"]


def test_a_scan_finds_hosts_and_controllers_by_what_they_say(place: Place) -> None:
    _, server, client = place
    scan = client.call("POST", "/api/estate/scans", {"range": "10.44.1.10-20, 10.44.3.100-107"})
    assert (scan["total"], scan["state"]) == (38, "running")
    with pytest.raises(StoneError, match="is running"):
        client.call("POST", "/api/estate/scans", {"range": "10.44.1.1"})

    def done() -> bool:
        nonlocal scan
        scan = client.call("GET", f"/api/estate/scans/{scan['id']}")
        return bool(scan["state"] == "done")

    wait_for(done, 60, "the scan")
    assert scan["asked"] == 38
    kinds = {(one["address"], one["port"]): one["kind"] for one in scan["seen"]}
    assert {address for (address, port), kind in kinds.items() if kind == "ssh"} == {
        f"10.44.1.{n}" for n in range(11, 15)
    }
    assert {address for (address, port), kind in kinds.items() if kind == "redfish"} == {
        f"10.44.3.{n}" for n in range(101, 108)
    }
    assert {one["known"] for one in scan["seen"] if one["kind"] == "redfish"} == {
        one.name for one in demo.plan().machines
    }
    assert all(one["words"].startswith("SSH-2.0") for one in scan["seen"] if one["kind"] == "ssh")
    found = json.loads(server.cli("estate", "scan", "10.44.1.11-12", "--json").stdout)
    assert [one["address"] for one in found["seen"]] == ["10.44.1.11", "10.44.1.12"]


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("10.44.0.0/16", "4096"),
        ("8.8.8.0/28", "outside"),
        ("10.44.1.9-3", "ends before"),
        ("seabirds", "not a range"),
        ("", "no range"),
        ("10.44.1.300", "not a range"),
        ("10.0.0.0-10.255.255.255", "4096"),
    ],
)
def test_a_range_that_is_too_large_wrong_or_forbidden_is_refused(
    place: Place, text: str, words: str
) -> None:
    with pytest.raises(StoneError, match=words):
        place[2].call("POST", "/api/estate/scans", {"range": text})


def test_a_scan_can_be_stopped_and_hosts_added_meanwhile(place: Place) -> None:
    _, _, client = place
    scan = client.call("POST", "/api/estate/scans", {"range": "10.44.32.0/20"})
    found = look(client, "fulmar 10.44.1.12", demo.CREDENTIAL)["fulmar"]
    client.call(
        "POST",
        "/api/estate/hosts",
        [
            {
                "fingerprint": found["fingerprint"],
                "host": {
                    "name": "fulmar",
                    "address": "10.44.1.12",
                    "credential": demo.CREDENTIAL,
                    "site": "Kelda",
                    "bay": "kelda-main",
                },
            }
        ],
    )
    stopped = client.call("DELETE", f"/api/estate/scans/{scan['id']}")
    assert stopped["state"] == "stopped"
    assert stopped["asked"] < stopped["total"]
    assert client.call("GET", f"/api/estate/scans/{scan['id']}")["asked"] <= stopped["asked"] + 128


def test_an_account_with_few_rights_is_told_exactly_what_it_lacks(place: Place) -> None:
    _, _, client = place
    found = {
        user: look(client, "skua 10.44.1.13", demo.CREDENTIAL, user)["skua"]
        for user in ("root", "deploy", "guest")
    }
    assert {user: one["outcome"] for user, one in found.items()} == {
        "root": "fine",
        "deploy": "fine",
        "guest": "limited",
    }
    assert found["root"]["words"] == ""
    for words in ("no name records", "no datastores in folders", "cannot be formatted"):
        assert words in found["deploy"]["words"]
    assert "may not use the hypervisor" in found["guest"]["words"]
    client.call(
        "POST",
        "/api/estate/hosts",
        [
            {
                "fingerprint": found["deploy"]["fingerprint"],
                "host": {
                    "name": "skua",
                    "address": "10.44.1.13",
                    "user": "deploy",
                    "credential": demo.CREDENTIAL,
                    "site": "Kelda",
                    "bay": "kelda-main",
                },
            }
        ],
    )
    facts = client.call("GET", "/api/estate/facts")["facts"]["skua"]
    assert not facts["trouble"]
    assert facts["password_login"] is None
    assert any("sshd -T" in text for text in facts["unread"])
    run = client.call(
        "POST",
        "/api/estate/groundwork/preview",
        {
            "actions": [
                {
                    "kind": "names",
                    "host": "skua",
                    "records": [{"address": "10.44.9.9", "names": ["x"]}],
                }
            ]
        },
    )
    [step] = run["steps"]
    assert step["refusals"] == ["deploy may not run as root: tee -a /etc/hosts and 1 more"]
    assert step["rules"][0] == "deploy ALL=(root) NOPASSWD: /usr/bin/tee ^-a /etc/hosts$"
    record = {"address": "10.44.9.9", "names": ["x"]}
    work = {"actions": [{"kind": "names", "host": "skua", "records": [record]}]}
    with pytest.raises(StoneError, match="deploy may not run as root"):
        client.call("POST", "/api/estate/groundwork", {"run": run["run"], "work": work})


def test_hosts_that_flood_hang_or_speak_garbage_disturb_nobody(place: Place) -> None:
    lab, _, client = place
    client.call(
        "POST",
        "/api/estate",
        demo.estate_file(lab.plan).model_copy(update={"machines": ()}).model_dump(mode="json"),
    )
    client.call("POST", "/api/estate/read", {})
    assert not [
        h["name"]
        for h in client.call("GET", "/api/estate")["hosts"]
        if h["trouble"] and h["name"] != "skua"
    ]
    for knob, value, words in (
        ("flood_mib", 200, "more than 8 MiB"),
        ("garbage", True, "cannot be read"),
    ):
        lab.turn("petrel", **{knob: value})
        began = time.monotonic()
        client.call("POST", "/api/estate/read", {})
        assert time.monotonic() - began < 40
        hosts = {h["name"]: h for h in client.call("GET", "/api/estate")["hosts"]}
        assert words in hosts["petrel"]["trouble"], hosts["petrel"]["trouble"]
        # the last that is known
        assert hosts["petrel"]["memory_bytes"] == 256 << 30
        assert not hosts["gannet"]["trouble"]
        lab.turn("petrel", **{knob: type(value)(0)})
    client.call("POST", "/api/estate/read", {"hosts": ["petrel"]})
    assert not {h["name"]: h for h in client.call("GET", "/api/estate")["hosts"]}["petrel"][
        "trouble"
    ]


def test_a_host_is_renamed_and_a_rule_set_for_its_bay(place: Place) -> None:
    _, _, client = place
    client.call(
        "PATCH", "/api/estate/hosts/tern", {"name": "arctic-tern", "note": "lent by the harbour"}
    )
    hosts = {h["name"]: h for h in client.call("GET", "/api/estate")["hosts"]}
    assert "tern" not in hosts
    assert (hosts["arctic-tern"]["memory_bytes"], hosts["arctic-tern"]["note"]) == (
        192 << 30,
        "lent by the harbour",
    )
    with pytest.raises(StoneError, match="already"):
        client.call("PATCH", "/api/estate/hosts/knot", {"name": "arctic-tern"})
    swap = [v for v in client.call("GET", "/api/estate/rules")["violations"] if v["rule"] == "swap"]
    assert [v["host"] for v in swap] == ["arctic-tern"]
    settings = client.call(
        "PUT",
        "/api/estate/rules",
        {"bay": "ness-two", "rule": "swap", "off": True, "reason": "replaced in March"},
    )
    assert [s["reason"] for s in settings["settings"]] == ["replaced in March"]
    assert not [v for v in settings["violations"] if v["rule"] == "swap"]
    limited = client.call(
        "PUT",
        "/api/estate/rules",
        {"bay": "ness-two", "rule": "swap", "limit": 100, "reason": "small swap is fine"},
    )
    assert [v for v in limited["violations"] if v["rule"] == "swap"]
    with pytest.raises(StoneError, match="no limit"):
        client.call(
            "PUT",
            "/api/estate/rules",
            {"bay": "ness-two", "rule": "answers", "limit": 3, "reason": "x"},
        )
    assert not client.call(
        "PUT", "/api/estate/rules", {"bay": "ness-two", "rule": "swap", "reason": "as before"}
    )["settings"]


def test_tls_is_spoken_before_anything_is_said(place: Place) -> None:
    """The password goes only to the pinned certificate: a server with another one never sees a
    request.
    """
    lab, _, client = place
    real, port = lab.plan.real("10.44.3.101", 443)
    pem = ssl.get_server_certificate((real, port))
    assert "BEGIN CERTIFICATE" in pem
    before = machines(client)["basalt"]["fingerprint"] if "basalt" in machines(client) else ""
    lab.turn("basalt", new_certificate=True)
    client.call("POST", "/api/estate/machines/read", {"hosts": ["basalt"]})
    assert machines(client)["basalt"]["fingerprint"] == before
    assert "different certificate" in machines(client)["basalt"]["facts"]["trouble"]
    lab.turn("basalt", new_certificate=False)
