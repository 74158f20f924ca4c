"""All five products rolled out on the stand-ins by their kits alone, proved and taken back."""

from __future__ import annotations

import asyncio
import contextlib
import json
import re
import sqlite3
import subprocess
from collections.abc import Iterator
from importlib.resources import files
from pathlib import Path
from typing import Any

import asyncssh
import httpx
import pytest

from nimble_stone.cli.client import Client
from nimble_stone.core.errors import StoneError
from nimble_stone.lab.guests.label import labelled
from nimble_stone.lab.scenario import demo, products
from tests.engine.test_preparation import by_hand, do, undo
from tests.engine.test_runs import ours
from tests.support.processes import LabProcess, ServerProcess, ended, lab_and_server, wait_for

SECRET = "Tide-tables 1893 and on"
SECRETS = {"licence_key": "HOLM1-TIDES-7SHIP-0LOGS"}
KEY = asyncssh.generate_private_key("ssh-ed25519")
BEGINNINGS = {
    "tidebook": (
        "values: {pool: kelda-survey, net.copying.pool: kelda-storage, mac_pool: kelda-macs,"
        " group.pool: kelda-groups}\nroles: {reporting: {count: 1}, transfer: {count: 1, package:"
        " Tidebook Transfer 2.2.0}}\nnodes: {primary-1: {host: gannet, datastore: kelda-shared,"
        " disk.ledger.datastore: gannet-local}}\n"
    ),
    "skerry": (
        "values: {pool: kelda-survey, pool6: kelda-six, mac_pool: kelda-macs}\nroles: {worker:"
        " {count: 2, values: {addressing: dhcp}}}\n"
    ),
    "ballast": "values: {pool: kelda-survey, net.copying.pool: kelda-storage, disk.data: 32}\n",
    "breakwater": (
        "values: {network: management, net.inner.network: survey, net.crossing.pool: kelda-storage,"
        " letting: known, known_list: 10.44.20.0/24,"
        + f" keys: {json.dumps(KEY.export_public_key().decode().strip())}}}\n"
        + "nodes:\n"
        + "".join(f"  edge-{n}: {{address: 10.44.2.{20 + n}}}\n" for n in range(1, 5))
    ),
}


@pytest.fixture(scope="module")
def place(
    tmp_path_factory: pytest.TempPathFactory,
) -> Iterator[tuple[LabProcess, ServerProcess, Client]]:
    folder = tmp_path_factory.mktemp("products")
    with lab_and_server(folder) as (lab, server, client):
        client.call("POST", "/api/estate", demo.estate_file(lab.plan).model_dump(mode="json"))
        client.call("POST", "/api/estate/read", {})
        for product in products.ALL.values():
            file = folder / f"{product.id}.ova"
            file.write_bytes(products.ova(product, mib=1))
            client.upload(file, lambda *_: None)
        yield lab, server, client


def planned(client: Client, kit: str, product: products.Product | None = None) -> dict[str, Any]:
    product = product or products.PRODUCTS[kit]
    plan = client.call(
        "POST",
        "/api/plans",
        {
            "text": (
                f"nimble-stone: plan/1\nname: {kit}\nkit: {kit}\npackage: {product.title}"
                f" {product.version}\nbay: kelda-main\n{BEGINNINGS[kit]}"
            )
        },
    )
    for column in plan["columns"]:
        if column["kind"] == "secret":
            plan = client.call(
                "POST",
                f"/api/plans/{kit}/secret",
                {
                    "version": plan["version"],
                    "column": column["id"],
                    "value": SECRETS.get(column["id"], SECRET),
                },
            )
    return dict(plan)


@pytest.mark.parametrize("kit", list(BEGINNINGS))
def test_a_product_is_rolled_out_by_its_kit(
    place: tuple[LabProcess, ServerProcess, Client], kit: str
) -> None:
    lab, _, client = place
    plan = planned(client, kit)
    assert [f["message"] for f in plan["findings"] if f["severity"] == "blocker"] == []
    found = client.call("POST", f"/api/plans/{kit}/run")
    assert found["run"], [
        f["message"] for f in found["plan"]["findings"] if f["severity"] == "blocker"
    ]
    done = ended(client, found["run"])
    assert done["state"] == "done", [
        (s["key"], s["message"]) for s in done["steps"] if s["state"] == "failed"
    ] + [p for p in done["proofs"] if not p["passed"]]
    assert all(proof["passed"] for proof in done["proofs"])
    assert {p["proof"] for p in done["proofs"]} > {"networks", "members"}
    started = {s["key"]: s["started_at"] for s in done["steps"]}
    # two stages: the controllers agree before any worker is let in, through the virtual address
    if kit == "skerry":
        assert started["agree/controller-1"] < min(
            started["enrol/worker-1"], started["enrol/worker-2"]
        )
        assert "join/controller-1" not in started
        assert "token/controller-2" not in started
        assert [p["found"] for p in done["proofs"] if p["proof"] == "virtual"] == [
            "10.44.20.74:8080 open"
        ]
    # one on each host, three interfaces in three networks, told to watch by SSH
    if kit == "breakwater":
        assert sorted(node["host"] for node in done["nodes"]) == [
            "fulmar",
            "gannet",
            "petrel",
            "skua",
        ]
        assert {p["found"] for p in done["proofs"] if p["proof"] == "networks"} == {
            "management, survey, storage"
        }
        assert len([key for key in started if key.startswith("watch/")]) == 4
        key_opens(
            lab,
            next(
                node["cells"]["address"]["value"]
                for node in done["nodes"]
                if node["id"] == "edge-1"
            ),
        )
    cells = {
        node["id"]: {key: cell["value"] for key, cell in node["cells"].items()}
        for node in done["nodes"]
    }
    if kit == "skerry":
        # Workers were given their addresses by DHCP; what was learnt is in the sheet, was proved,
        # and the steps that needed it waited for it.
        assert [cells[f"worker-{n}"]["address"] for n in (1, 2)] in (
            ["10.44.20.80", "10.44.20.81"],
            ["10.44.20.81", "10.44.20.80"],
        )
        assert {key for key in started if key.startswith("learn/")} == {
            "learn/worker-1",
            "learn/worker-2",
        }
        assert cells["controller-1"]["address6"] == "fd44:5e1d:20::100"
        assert {p["found"] for p in done["proofs"] if p["proof"] == "mac"} == {
            f"52:54:00:44:00:0{n}" for n in range(1, 6)
        }
        assert {p["found"] for p in done["proofs"] if p["proof"] == "certificate"} == {
            "Interface certificate trusted"
        }
        assert [p["found"] for p in done["proofs"] if p["proof"] == "balanced"] == [
            "Interface: skerry-ctl1, skerry-ctl2, skerry-ctl3"
        ]
        assert len([p for p in done["proofs"] if p["proof"] == "address6"]) == 5
    if kit == "tidebook":
        # 1 is excluded; one number for the whole plan
        assert {own["group"] for own in cells.values()} == {"2"}
        macs = [
            own[column]
            for own in cells.values()
            for column in ("mac", "net.copying.mac")
            if own[column]
        ]
        said = client.call("GET", f"/api/runs/{found['run']}/transcript?step=define/primary-1")
        defined = next(one["command"] for one in said if "define" in one["command"])
        # the ledger's disk lies apart
        assert re.findall(r'<source pool="([^"]+)"', defined) == [
            "kelda-shared",
            "gannet-local",
            "kelda-shared",
        ]
        # each interface its own; reporting and transfer have one each
        assert len(macs) == len(set(macs)) == 6
        # The transfer node is made from a product of its own: carried apart, asked in its own
        # words, proved by its own version and hardware.
        assert {
            p["found"]
            for p in done["proofs"]
            if p["proof"] == "version" and p["node"] != "transfer-1"
        } == {"7.1.0"}
        assert [
            p["found"]
            for p in done["proofs"]
            if (p["proof"], p["node"]) == ("version", "transfer-1")
        ] == ["2.2.0"]
        assert [
            p["found"]
            for p in done["proofs"]
            if (p["proof"], p["node"]) == ("hardware", "transfer-1")
        ] == ["1 vCPU, 4 GiB, 1 disk"]
        assert {key.count("/") for key in started if key.startswith("carry/")} == {1, 2}
        assert cells["transfer-1"]["transfer.parcels"] == "4"
        assert "transfer.parcels" not in {key for key, value in cells["primary-1"].items() if value}
        part = next(
            one
            for one in client.call("GET", "/api/packages")
            if one["product"] == "Tidebook Transfer"
        )
        assert (part["plans"], part["kits"]) == (["tidebook"], ["Tidebook"])
        assert [
            v["nodes"] for v in client.call("GET", f"/api/packages/{part['sha256']}")["versions"]
        ] == [1]
        with pytest.raises(StoneError, match="is used by tidebook"):
            client.call("DELETE", f"/api/packages/{part['sha256']}")
    if kit == "ballast":
        assert len(done["nodes"]) == 4
        assert all(node["cells"]["disk.data.count"]["value"] == "2" for node in done["nodes"])
    client.call("POST", f"/api/runs/{found['run']}/undo", {})
    assert ended(client, found["run"], states=("undone",))["state"] == "undone"
    assert ours(lab) == []
    client.call("DELETE", f"/api/plans/{kit}")
    if kit == "tidebook":
        # its record speaks of it
        with pytest.raises(StoneError, match="a run used this package"):
            client.call("DELETE", f"/api/packages/{part['sha256']}")


def key_opens(lab: LabProcess, address: str) -> None:
    """The key that was put in opens the node, another does not."""

    async def log_in(key: asyncssh.SSHKey) -> str:
        real, port = lab.plan.real(address, 22)
        async with asyncssh.connect(
            real,
            port,
            username="admin",
            client_keys=[key],
            known_hosts=None,
            preferred_auth="publickey",
        ) as connection:
            return str((await connection.run("edge status")).stdout)

    assert asyncio.run(log_in(KEY)) == "watching\n"
    with pytest.raises(asyncssh.PermissionDenied):
        asyncio.run(log_in(asyncssh.generate_private_key("ssh-ed25519")))


OUTSIDE = """\
  - {id: hosts, label: Reached by hosts, kind: reach, of: cluster, ports: [8080], source: hosts}
  - id: clients
    label: Reached by clients
    kind: reach
    of: cluster
    ports: [8080]
    source: "{elsewhere}, "
  - {id: large, label: Large packets, kind: reach, of: cluster, size: 1400, source: ness-two}
"""
LOGBOOK = (
    ("id: tidebook", "id: logbook"),
    ("acceptance:\n", f"acceptance:\n{OUTSIDE}"),
    (
        "  - id: group\n",
        "  - {id: elsewhere, label: Elsewhere, default: ness-two}\n  - id: group\n",
    ),
    ("service: {port: 8080", 'access: {bearer: "{kept.token}"}\nservice: {port: 8080'),
    (
        "  - id: group\n",
        '  - {id: stations, label: Stations, default: "west, north,west, "}\n  - id: group\n',
    ),
    (
        "  - id: open\n",
        """  - id: register
    label: Registering
    role: standby
    asks: first
    call: {method: POST, path: /cgi-bin/entry, body: {key: "node {name}", value: "{address}"}}
    observe:
      path: /cgi-bin/entry
      query: {key: "node {name}"}
      status: [200, 404]
      confirm: {value: "{address}"}
    wait: {expected: 1, longest: 60}
  - id: stations
    label: Stations
    role: cluster
    over: stations
    call:
      method: POST
      path: /cgi-bin/entry
      login: bearer
      body: {key: "station {item}", value: "{item} of {count}"}
      confirm: {written: "yes"}
    observe:
      path: /cgi-bin/entry
      query: {key: "station {item}"}
      status: [200, 404]
      confirm: {value: "{item} of {count}"}
    wait: {expected: 1, longest: 60}
  - id: open
""",
    ),
    ("      - label: read\n", "      - label: READ\n"),
)


def entries_on(lab: LabProcess, address: str, value: str = "", **query: str) -> dict[str, Any]:
    """What a node has, asked without the product; with a value: written there."""
    real, port = lab.plan.real(address, 8080)
    url, login = f"http://{real}:{port}/cgi-bin/entry", ("admin", SECRET)
    if value:
        body = {**query, "value": value}
        return dict(httpx.post(url, json=body, auth=login, trust_env=False).json())
    return dict(httpx.get(url, params=query, auth=login, trust_env=False).json())


def test_a_kit_asks_the_first_node_for_others_and_goes_over_a_list(
    place: tuple[LabProcess, ServerProcess, Client],
) -> None:
    """With a token of the product, each entry once; then what was measured and done is told, and
    a workload that fails is removed all the same.
    """
    lab, server, client = place
    text = (files("nimble_stone.kits") / "tidebook.yaml").read_text()
    for old, new in LOGBOOK:
        assert text.count(old) == 1, old
        text = text.replace(old, new)
    (server.data / "kits").mkdir(exist_ok=True)
    (server.data / "kits/logbook.yaml").write_text(text)
    # a server looks into its folder every other second
    wait_for(
        lambda: "logbook" in {one["id"] for one in client.call("GET", "/api/kits/shelf")["kits"]},
        20,
        "the kit to be seen",
    )
    BEGINNINGS["logbook"] = BEGINNINGS["tidebook"]
    plan = planned(client, "logbook", products.PRODUCTS["tidebook"])
    assert [f["message"] for f in plan["findings"] if f["severity"] == "blocker"] == []
    done = ended(client, client.call("POST", "/api/plans/logbook/run")["run"])
    assert done["state"] == "done", [p for p in done["proofs"] if not p["passed"]]
    first = plan["nodes"][0]["cells"]["address"]["value"]
    entries = ["node logbook-sby", "station north", "station west"]
    assert entries_on(lab, first)["keys"] == entries
    assert entries_on(lab, first, key="station north")["value"] == "north of 4"
    by_kind = {proof["proof"]: proof for proof in done["proofs"]}
    assert by_kind["mesh-ports"]["found"] == "12 of 12 pairs"
    # from outside the cluster: each node's host, and one host of another bay
    assert by_kind["hosts"]["found"] == "4 of 4 pairs"
    assert by_kind["hosts"]["mesh"] is None
    assert by_kind["clients"]["found"] == by_kind["large"]["found"] == "4 of 4 pairs"
    assert re.search(r"from ness-two \([a-z]+\)", by_kind["clients"]["how"])
    assert len(by_kind["answer-time"]["chart"]["values"]) == 12
    assert by_kind["answer-time"]["chart"]["most"] == 400
    assert by_kind["written-and-read"]["found"].startswith("write ")
    assert "READ by 3 nodes" in by_kind["written-and-read"]["found"]
    assert "{once}" in by_kind["written-and-read"]["how"]
    # again, with a node that answers no more: it is told which, and what was written is gone
    last = done["nodes"][2]
    by_hand(lab, last["host"], f"virsh -q -c qemu:///system destroy {last['name']}")
    worse = client.call("POST", f"/api/runs/{done['id']}/prove", {})
    lost = {proof["proof"]: proof for proof in worse["proofs"] if not proof["node"]}
    assert (lost["mesh-ports"]["passed"], lost["written-and-read"]["passed"]) == (False, False)
    assert f"{last['name']}: " in lost["written-and-read"]["found"]
    # the others' pairs are known all the same
    assert lost["mesh"]["found"].startswith("6 of 12 pairs; lost: ")
    assert lost["mesh"]["found"].endswith(f"could not be asked: {last['name']}")
    assert lost["mesh"]["mesh"]["silent"] == [2]
    assert "not removed" not in lost["written-and-read"]["found"]
    lost_by_host = f"3 of 4 pairs; lost: {last['host']} → {last['name']}:8080"
    assert lost["hosts"]["found"] == lost_by_host
    assert lost["clients"]["found"] == f"3 of 4 pairs; lost: ness-two → {last['name']}:8080"
    # from a bay that cannot be asked nothing is known
    for host in client.call("GET", "/api/estate")["hosts"]:
        if host["bay"] == "ness-two":
            lab.turn(host["name"], unreachable=True)
    silent = client.call("POST", f"/api/runs/{done['id']}/prove", {})
    [told] = [proof for proof in silent["proofs"] if proof["proof"] == "clients"]
    assert (told["passed"], told["checked"]) == (False, False)
    assert "not known: " in told["found"]
    assert entries_on(lab, first)["keys"] == entries
    # what a server left that was killed in a workload's middle goes with the next round, and what
    # it wrote down of it when the run is rolled back
    written = f"workload/{done['id']}/written-and-read"
    _meta(server, "INSERT INTO meta VALUES (?, ?)", written, "5ea5a1de")
    entries_on(lab, first, key="nimble-stone-5ea5a1de", value="left")
    assert "nimble-stone-5ea5a1de" in entries_on(lab, first)["keys"]
    client.call("POST", f"/api/runs/{done['id']}/prove", {})
    assert entries_on(lab, first)["keys"] == entries
    assert _meta(server, "SELECT value FROM meta WHERE key = ?", written) == []
    _meta(server, "INSERT INTO meta VALUES (?, ?)", written, "5ea5a1de")
    client.call("POST", f"/api/runs/{done['id']}/undo", {})
    ended(client, done["id"], states=("undone",))
    assert _meta(server, "SELECT value FROM meta WHERE key = ?", written) == []


def _meta(server: ServerProcess, line: str, *values: str) -> list[Any]:
    with contextlib.closing(sqlite3.connect(server.data / "nimble-stone.db", timeout=10)) as db, db:
        return db.execute(line, values).fetchall()


def test_a_condition_that_does_not_hold_takes_its_column_away(
    place: tuple[LabProcess, ServerProcess, Client],
) -> None:
    client = place[2]
    plan = planned(client, "tidebook")
    assert {node["cells"]["lag"]["origin"] for node in plan["nodes"]} == {"unused"}
    plan = client.call(
        "PATCH",
        "/api/plans/tidebook",
        {
            "version": plan["version"],
            "edits": [{"path": ["values", "copying_mode"], "value": "later"}],
        },
    )
    assert {node["cells"]["lag"]["value"] for node in plan["nodes"]} == {"30"}
    plan = client.call(
        "PATCH",
        "/api/plans/tidebook",
        {"version": plan["version"], "edits": [{"path": ["values", "lag"], "value": "soon"}]},
    )
    assert [f["column"] for f in plan["findings"] if f["code"] == "value"][:1] == ["lag"]
    client.call("DELETE", "/api/plans/tidebook")


def test_kit_files_are_complete(tmp_path: Path) -> None:
    """Every kit names a product whose package there is, and answers every question that has no
    default.
    """
    from nimble_stone.app.kits import load_kits
    from nimble_stone.core.package import descriptor
    from nimble_stone.core.plan.packages import takes

    for ident, product in products.PRODUCTS.items():
        kit, own = load_kits()[ident], descriptor.parse(products.descriptor(product, 1000).encode())
        assert (kit.accepts.product, own.version.startswith(kit.accepts.versions)) == (
            own.product,
            True,
        )
        assert set(kit.environment) <= {question.key for question in own.questions}
        assert max([net.interface for net in kit.networks], default=1) <= len(own.nics)
        assert {advice.size for advice in kit.sizes} == {size.id for size in own.sizes}
        for role in (role for role in kit.roles if role.accepts):
            part = next(
                one
                for one in products.PARTS.values()
                if takes(role.accepts, one.title, one.version)
            )
            assert set(role.environment) <= {
                question.key
                for question in descriptor.parse(products.descriptor(part, 1000).encode()).questions
            }


IMAGE_PLAN = """nimble-stone: plan/1
name: shoal
kit: shoal
package: shoal 1.0
bay: kelda-main
values: {pool: kelda-survey, greeting: 'Tide & "mud": $(1893) #'}
roles: {server: {count: 2}}
nodes: {server-1: {size: medium}}
"""


@pytest.fixture(scope="module")
def image(
    place: tuple[LabProcess, ServerProcess, Client], tmp_path_factory: pytest.TempPathFactory
) -> Client:
    """A qcow2 image, made by qemu-img, is imported."""
    folder = tmp_path_factory.mktemp("image")
    raw, file = folder / "disk.raw", folder / "shoal-1.0.qcow2"
    with raw.open("wb") as out:
        out.write(labelled(bytes(1 << 16), "shoal", "1.0"))
        out.truncate(64 << 20)
    convert = ["qemu-img", "convert", "-f", "raw", "-O", "qcow2", str(raw), str(file)]
    subprocess.run(convert, check=True)
    place[2].upload(file, lambda *_: None)
    return place[2]


def image_run(client: Client, text: str = IMAGE_PLAN) -> tuple[dict[str, Any], str]:
    plan = client.call("POST", "/api/plans", {"text": text})
    body = {"version": plan["version"], "column": "password", "value": SECRET}
    plan = client.call("POST", "/api/plans/shoal/secret", body)
    assert [f["message"] for f in plan["findings"] if f["severity"] == "blocker"] == []
    return plan, str(client.call("POST", "/api/plans/shoal/run")["run"])


def image_gone(client: Client, run: str) -> None:
    client.call("POST", f"/api/runs/{run}/undo", {})
    ended(client, run, states=("undone",))
    client.call("DELETE", "/api/plans/shoal")


def test_a_disk_image_is_rolled_out_by_a_kit_that_states_hardware(
    place: tuple[LabProcess, ServerProcess, Client], image: Client
) -> None:
    """Hardware by the kit, hashed password and addresses by NoCloud, the host key from the
    console, and the end as the system's own set-up tells it.
    """
    lab, server, client = place
    offered = client.call("GET", "/api/kits/shoal/packages")[0]
    assert [one["title"] for one in offered["choices"]] == ["shoal 1.0"]
    plan, run = image_run(client)
    assert [(n["vcpu"], n["memory_bytes"] >> 20) for n in plan["nodes"]] == [(2, 4096), (1, 1024)]
    assert plan["nodes"][0]["full_bytes"] == 10 << 30
    done = ended(client, run)
    assert done["state"] == "done", [
        (s["key"], s["message"]) for s in done["steps"] if s["state"] == "failed"
    ] + [p["found"] for p in done["proofs"] if not p["passed"]]
    keys = {s["key"]: s for s in done["steps"]}
    assert keys["host-keys/server-1"]["state"] == "done"
    # what the console showed is what the server shows, and what is pinned
    address = next(n["cells"]["address"]["value"] for n in plan["nodes"] if n["id"] == "server-1")
    with sqlite3.connect(server.data / "nimble-stone.db") as db:
        pins = dict(db.execute("SELECT place, fingerprint FROM pin"))
    assert pins[f"{address}:22"] == shown_key(lab, address)
    assert {p["label"] for p in done["proofs"] if p["passed"]} >= {"Name", "Address", "Clock"}
    image_gone(client, run)


def shown_key(lab: LabProcess, address: str) -> str:
    real, port = lab.plan.real(address, 22)
    key = asyncio.run(asyncssh.get_server_host_key(real, port))
    assert key is not None
    return key.get_fingerprint()


def test_an_image_whose_set_up_fails_says_so(
    place: tuple[LabProcess, ServerProcess, Client], image: Client
) -> None:
    lab, _, client = place
    lab.turn("all", guests={"shoal-1": "fails"})
    _, run = image_run(client, IMAGE_PLAN.replace("count: 2", "count: 1"))
    found = ended(client, run, states=("trouble",))
    step = next(s for s in found["steps"] if s["key"] == "services/server-1")
    assert "runcmd: exit code 1" in step["message"]
    lab.turn("all", guests={"shoal-1": ""})
    image_gone(client, run)


@pytest.mark.parametrize(
    ("kit", "package", "words"),
    [
        ("shoal", "Ballast 1.9.2", "is no disk image"),
        ("ballast", "shoal 1.0", "does not say what hardware it gets"),
    ],
)
def test_a_package_of_the_wrong_kind_is_told_and_not_on_offer(
    image: Client, kit: str, package: str, words: str
) -> None:
    text = IMAGE_PLAN.replace("kit: shoal", f"kit: {kit}").replace("shoal 1.0", package)
    text = text.replace("name: shoal", "name: odd").partition("values:")[0]
    plan = image.call("POST", "/api/plans", {"text": text})
    assert words in " ".join(f["message"] for f in plan["findings"])
    assert package not in plan["package"]["fitting"][1:]
    image.call("DELETE", "/api/plans/odd")


def test_an_image_is_named_by_a_person_unless_a_plan_names_it(image: Client) -> None:
    one = next(p for p in image.call("GET", "/api/packages") if p["product"] == "shoal")
    place = f"/api/packages/{one['sha256']}"
    assert (one["kits"], one["unusable"]) == (["Shoal"], "")
    named = image.call("PATCH", place, {"product": "Reef", "version": "2"})
    assert (named["product"], named["version"], named["kits"]) == ("Reef", "2", [])
    assert named["lacks"] == "needs a kit that states hardware for the image"
    image.call("PATCH", place, {"product": "shoal", "version": "1.0"})
    image.call("POST", "/api/plans", {"text": IMAGE_PLAN})
    with pytest.raises(StoneError, match="plan shoal names shoal 1.0"):
        image.call("PATCH", place, {"product": "Reef"})
    image.call("DELETE", "/api/plans/shoal")
    ova = next(p for p in image.call("GET", "/api/packages") if p["product"] == "Ballast")
    with pytest.raises(StoneError, match="says product and version"):
        image.call("PATCH", f"/api/packages/{ova['sha256']}", {"product": "Reef"})


def test_an_account_that_is_not_root_rolls_out_too(
    place: tuple[LabProcess, ServerProcess, Client], image: Client
) -> None:
    """Digests and consoles come through the hypervisor; nothing of it is left."""
    lab, _, client = place
    estate = demo.estate_file(lab.plan)
    hosts = tuple(host.model_copy(update={"user": "deploy"}) for host in estate.hosts)
    changed = estate.model_copy(update={"hosts": hosts})
    client.call("POST", "/api/estate", changed.model_dump(mode="json"))
    client.call("POST", "/api/estate/read", {})
    _, run = image_run(client)
    assert ended(client, run)["state"] == "done"
    console = client.call("GET", f"/api/runs/{run}/console?node=server-1")["text"]
    assert "BEGIN SSH HOST KEY KEYS" in console
    image_gone(client, run)
    assert [one for one in ours(lab) if not one.startswith("ns-base-")] == []
    # nor is where somebody had removed the VM before
    plan, run = image_run(client)
    assert ended(client, run)["state"] == "done"
    assert any(one.endswith("-console.log") for one in ours(lab))
    virsh = "virsh -q -c qemu:///system"
    for node in plan["nodes"]:
        for word in ("destroy", "undefine"):
            by_hand(lab, node["host"], f"{virsh} {word} {node['name']}")
    image_gone(client, run)
    assert [one for one in ours(lab) if not one.startswith("ns-base-")] == []
    client.call("POST", "/api/estate", estate.model_dump(mode="json"))


def test_nodes_share_the_fencing_volume_that_host_preparation_made(
    place: tuple[LabProcess, ServerProcess, Client], image: Client
) -> None:
    lab, server, client = place
    text = (files("nimble_stone.kits") / "shoal.yaml").read_text()
    text = text.replace("id: shoal\ntitle: Shoal", "id: fenced\ntitle: Fenced", 1)
    text = text.replace("    short: srv\n", "    short: srv\n    fence: true\n")
    text += "  - {id: fence, label: Fencing volume, kind: fence}\n"
    (server.data / "kits").mkdir(exist_ok=True)
    (server.data / "kits/fenced.yaml").write_text(text)
    wait_for(lambda: "fenced" in str(client.call("GET", "/api/kits")), 20, "the kit")
    plan = IMAGE_PLAN.replace("kit: shoal", "kit: fenced")
    missing = image_text(client, plan)
    assert "fence" in {f["column"] for f in missing["findings"] if f["severity"] == "blocker"}
    client.call("DELETE", "/api/plans/shoal")
    plan = plan.replace("values: {", "values: {fence: kelda-shared/tiebreak, ")
    local = image_text(client, plan.replace("kelda-shared/tiebreak", "gannet-local/tiebreak"))
    assert "fence-not-shared" in {f["code"] for f in local["findings"]}
    client.call("DELETE", "/api/plans/shoal")
    # it is not there yet
    _, run = image_run(client, plan)
    stuck = ended(client, run, states=("trouble",))
    assert "has no volume ns-tiebreak on kelda-shared" in str(stuck["steps"])
    made = {
        "kind": "fencing-volume",
        "host": "gannet",
        "datastore": "kelda-shared",
        "name": "tiebreak",
    }
    prepared = do(client, made)
    client.call("POST", f"/api/runs/{run}/retry", {"steps": []})
    done = ended(client, run)
    assert done["state"] == "done"
    told = {(p["node"], p["label"]): p["found"] for p in done["proofs"]}
    for node in ("server-1", "server-2"):
        assert told[node, "Fencing volume"] == "kelda-shared/ns-tiebreak"
        assert told[node, "vCPU, memory, disks"].endswith("2 disks")
    # as long as VMs have it, it is not removed under them
    client.call("POST", f"/api/groundwork/{prepared}/undo", {})
    place_of = f"/api/groundwork/{prepared}"
    wait_for(lambda: "VMs use it: shoal-" in str(client.call("GET", place_of)), 30, "a refusal")
    assert "ns-tiebreak" in lab.show()["hosts"]["gannet"]["volumes"]
    image_gone(client, run)
    assert "ns-tiebreak" in lab.show()["hosts"]["gannet"]["volumes"]
    undo(client, prepared)
    assert "ns-tiebreak" not in lab.show()["hosts"]["gannet"]["volumes"]


def image_text(client: Client, text: str) -> dict[str, Any]:
    return dict(client.call("POST", "/api/plans", {"text": text}))
