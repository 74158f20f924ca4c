"""Kits from the command line: listed, explained, refused with line and reason, tried on a lab of
their own.
"""

from __future__ import annotations

import json
import socket
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest

from nimble_stone.app.kits import load_kits
from nimble_stone.core import yaml_text
from nimble_stone.core.errors import InputError
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.kit.words import explain
from nimble_stone.core.secrets_rule import made_by, violations
from tests.support import spawning
from tests.support.loopback import lease, release
from tests.support.processes import wait_for

GOOD = """\
nimble-stone: kit/1
id: little
title: Little
accepts: {product: Tidebook}
admin_password: pw
roles:
  - {id: one, label: one, short: one}
questions:
  - {id: pw, label: Password, secret: true, property: tidebook.admin_password}
environment:
  tidebook.hostname: "{name}"
service: {port: 8080, path: /cgi-bin/status, ready: {state: ready}}
durations: {boot: {expected: 1, longest: 60}, services: {expected: 1, longest: 60}}
"""


def cli(*words: str) -> subprocess.CompletedProcess[str]:
    return spawning.run(["kit", *words])


@pytest.mark.parametrize(
    ("old", "new", "told"),
    [
        (
            "  - {id: one, label: one, short: one}",
            "  - {id: one, label: one, short: one, after: [two]}",
            "comes after “two”, which is not a role",
        ),
        (
            "secret: true",
            "secret: true, when: tide > 1",
            "question “pw” reads “tide”, which this kit never defines",
        ),
        (
            "secret: true",
            "secret: true, when: 1 +",
            "line 9, column 45: questions.0.when: 1 +, character 4: it ends too early",
        ),
        (
            '"{name}"',
            '"{tide}"',
            (
                "line 11, column 3: environment “tidebook.hostname” asks for “tide”, which this kit"
                " never defines"
            ),
        ),
        (
            "short: one}",
            "short: one, count: {least: 2, most: 6, usual: 4, odd: true}}",
            "line 7, column 10: role “one”: usual 4 is not among 2 to 6, odd",
        ),
        ("admin_password: pw", "admin_password: nobody", "names “nobody”, which is not a setting"),
        (
            "questions:",
            "networks: [{id: x, label: X, interface: 2, roles: [three]}]\nquestions:",
            "network “x” names “three”, which is not a role",
        ),
        (
            "questions:",
            "virtual: [{id: v, label: V, members: [one], network: deep}]\nquestions:",
            "is in “deep”, which is not a network",
        ),
        (
            "questions:",
            (
                "sizing: {loads: [{id: l, label: L, usual: 1}], roles: {one: {carries: {m:"
                " '1'}}}}\nquestions:"
            ),
            "names “m”, which is not a load",
        ),
        (
            "service:",
            (
                "forming: [{id: f, label: F, role: one, call: {}, wait: {expected: 1, longest:"
                " 2}}]\nservice:"
            ),
            "has neither a path nor a command",
        ),
        (
            "service:",
            (
                "forming: [{id: f, label: F, role: one, call: {ssh: 'edge \"{name}\"'}, wait:"
                " {expected: 1, longest: 2}}]\nservice:"
            ),
            "“{name}” is inside quotes",
        ),
        (
            "service:",
            (
                "forming: [{id: f, label: F, role: one, after: [g], call: {path: /x}, wait:"
                " {expected: 1, longest: 2}}]\nservice:"
            ),
            "after “g”, which is not an earlier step",
        ),
        (
            "questions:",
            (
                "balanced: [{id: b, label: B, virtual: v, port: 80, members: [one], member_port:"
                " 81}]\nquestions:"
            ),
            "uses “v”, which is not a virtual address",
        ),
        (
            "questions:",
            (
                "virtual: [{id: v, label: V, members: [one]}]\nbalanced: [{id: b, label: B,"
                " virtual: v, port: 80, members: [two], member_port: 81}]\nquestions:"
            ),
            "balanced service “b” names “two”",
        ),
        (
            "questions:",
            "certificates: [{id: c, label: C, names: ['{tide}']}]\nquestions:",
            "certificate “c” asks for “tide”, which this kit never defines",
        ),
        (
            "questions:",
            "certificates: [{id: c, label: C, names: ['{name}'], roles: [two]}]\nquestions:",
            "certificate “c” names “two”, which is not a role",
        ),
        ('"{name}"', '"{certificate.c}"', "asks for “certificate.c”, which this kit never defines"),
        ("questions:", "takes: [ipv7]\nquestions:", "'dhcp', 'ipv6' or 'routes'"),
        (
            "short: one}",
            "short: one, copies: 2, copies_by: tide}",
            "copies_by reads “tide”, which this kit never defines",
        ),
        (
            "questions:",
            (
                "extra_disks: [{id: d, label: D, size_gib: {usual: 1, most: 2}, by_use: {fun:"
                " {size_gib: {usual: 1, most: 2}}}}]\nquestions:"
            ),
            "names “fun”, which is not a purpose of this kit",
        ),
        (
            "questions:",
            (
                "uses: [fun]\nextra_disks: [{id: d, label: D, size_gib: {usual: 1, most: 2},"
                " by_use: {fun: {size_gib: {usual: 3, most: 2}}}}]\nquestions:"
            ),
            "size_gib needs least ≤ usual ≤ most",
        ),
        (
            "title: Little",
            "title: Little\ntitel: x",
            "line 4, column 1: “titel” is not a key of this format",
        ),
    ],
)
def test_a_kit_that_is_wrong_is_refused_with_line_and_reason(
    tmp_path: Path, old: str, new: str, told: str
) -> None:
    (tmp_path / "k.yaml").write_text(GOOD.replace(old, new, 1))
    with pytest.raises(yaml_text.Faults) as caught:
        yaml_text.read((tmp_path / "k.yaml").read_text(), Kit, "the kit")
    assert told in str(caught.value)


def test_kits_are_listed_validated_and_explained(tmp_path: Path) -> None:
    assert {kit["id"] for kit in json.loads(cli("list", "--json").stdout)} == {
        "ballast",
        "breakwater",
        "gauge-collector",
        "keelson",
        "shoal",
        "skerry",
        "tidebook",
    }
    (tmp_path / "good.yaml").write_text(GOOD)
    assert "Little is valid" in cli("validate", str(tmp_path / "good.yaml")).stdout
    (tmp_path / "bad.yaml").write_text(GOOD.replace("short: one", "shirt: one"))
    found = cli("validate", str(tmp_path / "bad.yaml"), "--json")
    assert found.returncode == 1
    assert {fault["place"] for fault in json.loads(found.stdout)["faults"]} >= {"line 7, column 27"}
    assert cli("explain", "nothing").returncode == 2
    for kit in load_kits().values():
        told = "\n".join(explain(kit))
        assert all(
            word in told
            for word in [
                *(role.label for role in kit.roles),
                *(question.label for question in kit.questions),
                *(step.label for step in kit.forming),
            ]
        )


def test_a_kit_is_tried_on_a_lab_of_its_own() -> None:
    found = cli("try", "breakwater", "--json")
    assert found.returncode == 0, found.stdout + found.stderr
    outcome = json.loads(found.stdout)
    assert outcome["state"] == "done"
    assert len(outcome["proofs"]) == 62
    image = cli("try", "shoal", "--json")
    assert image.returncode == 0, image.stdout + image.stderr
    assert json.loads(image.stdout)["state"] == "done"
    short = cli("try", "tidebook", "--count", "reporting=99")
    assert short.returncode == 2
    assert "99 nodes of role reporting; the product supports 0 to 8" in short.stderr


EXAMPLES = Path(__file__).parents[2] / "docs/examples"


def test_a_kit_for_any_product_is_tried_on_written_answers(tmp_path: Path) -> None:
    """As its author would: it works; then the product answers otherwise, and the trial says where;
    a file with a fault says in which line.
    """
    kit, answers = str(EXAMPLES / "fathom.yaml"), EXAMPLES / "fathom-answers.yaml"
    right = cli("try", kit, "--answers", str(answers), "--json")
    assert right.returncode == 0, right.stdout + right.stderr
    outcome = json.loads(right.stdout)
    assert (outcome["state"], len(outcome["proofs"])) == ("done", 14)
    other = answers.read_text().replace("build: 3.2.0", "build: 4.0.1")
    # what nobody wrote down is told, with what was asked
    other = "".join(line for line in other.splitlines(True) if "/soundings/([^/]+)" not in line)
    (tmp_path / "other.yaml").write_text(other)
    wrong = cli("try", kit, "--answers", str(tmp_path / "other.yaml"))
    assert wrong.returncode == 1
    assert "failed: Version queue-1: 4.0.1 instead of like 3[.].*" in wrong.stdout
    assert "no answer is written for GET /api/channels/north/soundings/" in wrong.stdout
    assert "not removed: delete: " in wrong.stdout
    (tmp_path / "bad.yaml").write_text(answers.read_text().replace("([^/]+)/soundings", "([^/+"))
    bad = cli("try", kit, "--answers", str(tmp_path / "bad.yaml"))
    assert bad.returncode == 2
    assert "line 18, column 5: answers.10: path: missing ]: [^/+" in bad.stderr
    assert "absl" not in bad.stderr
    more = answers.read_text() + "systems: [{id: scales, ports: [{port: 80}]}]\n"
    (tmp_path / "more.yaml").write_text(more)
    scales = cli("try", kit, "--answers", str(tmp_path / "more.yaml"))
    assert scales.returncode == 2
    assert "the answers describe system “scales”" in scales.stderr
    assert "Write the kit's own id of the system." in scales.stderr


def test_a_system_that_refuses_the_login_fails_the_trial() -> None:
    found = cli(
        *("try", str(EXAMPLES / "mooring.yaml")),
        *("--answers", str(EXAMPLES / "mooring-answers.yaml")),
        *("--value", "watch_password=another one 9"),
    )
    assert found.returncode == 1
    assert "failed: register/buoy-1 Monitoring refuses GET /targets/tried-1: " in found.stdout


def test_every_example_with_answers_is_listed_and_tried() -> None:
    listed = (EXAMPLES.parent / "kits.md").read_text()
    names = {file.stem.removesuffix("-answers") for file in EXAMPLES.glob("*-answers.yaml")}
    assert names == {"fathom", *(name for name, _ in TRIED)}
    for name in names:
        assert f"(examples/{name}.yaml)" in listed
        assert (EXAMPLES / f"{name}.yaml").is_file()


TRIED = [
    ("beacon", 8),
    ("cask", 13),
    ("derrick", 8),
    ("lantern", 7),
    ("mooring", 6),
    ("postgresql", 19),
    ("sextant", 18),
    ("windlass", 10),
]


@pytest.mark.parametrize(("name", "checks"), TRIED)
def test_an_example_is_tried(name: str, checks: int) -> None:
    answers = str(EXAMPLES / f"{name}-answers.yaml")
    found = cli("try", str(EXAMPLES / f"{name}.yaml"), "--answers", answers, "--json")
    assert found.returncode == 0, found.stdout + found.stderr
    outcome = json.loads(found.stdout)
    assert (outcome["state"], len(outcome["proofs"])) == ("done", checks)


def test_a_kit_for_an_existing_system_is_tried_without_one() -> None:
    found = cli("try", str(EXAMPLES / "pontoon.yaml"), "--json")
    assert found.returncode == 0, found.stdout + found.stderr
    keys = [step["key"] for step in json.loads(found.stdout)["steps"]]
    # nor is there a stage without a step
    assert "stage/clients" not in keys
    assert "register/node-1" not in keys


@pytest.fixture(scope="module")
def store(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    """The address of a real quorum store: etcd of Debian."""
    folder, octet = tmp_path_factory.mktemp("etcd"), lease()
    address = f"127.{octet}.0.7"
    with (folder / "log").open("wb") as log:
        process = subprocess.Popen(
            [
                *("etcd", "--data-dir", str(folder / "data")),
                *("--listen-client-urls", f"http://{address}:2379"),
                *("--advertise-client-urls", f"http://{address}:2379"),
                *("--listen-peer-urls", f"http://{address}:2380"),
            ],
            stdout=log,
            stderr=log,
        )
    wait_for(lambda: reaches(address, 2379), 30, "etcd")
    yield address
    process.terminate()
    process.wait(20)
    release(octet)


def reaches(address: str, port: int) -> bool:
    try:
        socket.create_connection((address, port), timeout=2).close()
    except OSError:
        return False
    return True


def test_a_kit_is_tried_on_a_real_node_call_by_call(store: str) -> None:
    """Each call with its question and its answer; what changes the node only when told to."""
    wanted = ("try", str(EXAMPLES / "keeper.yaml"), "--node", store)
    secret = ("--value", "admin_password=Tide-tables-1893")
    first = cli(*wanted, *secret)
    assert first.returncode == 1
    assert f"> GET http://{store}:2379/health" in first.stdout
    assert '< {"health":"true"}' in first.stdout
    assert "took pattern:(?m)^etcd_server_has_leader (\\d) = 1" in first.stdout
    assert "WRONG: wanted $.kvs[0].value = “dGlkZXM=”, got nothing" in first.stdout
    assert "not sent: it changes the node: add --changes" in first.stdout
    assert "7 calls sent, 1 not as the kit wants, 2 not sent." in first.stdout
    told = cli(*wanted, *secret, "--changes", "--json")
    calls = {one["what"]: one for one in json.loads(told.stdout)["calls"]}
    assert not calls["Owner written"]["wrong"]
    assert not calls["Written on one, read on each"]["wrong"]
    again = cli(*wanted, *secret)
    assert again.returncode == 0, again.stdout
    assert "Owner written\n" not in again.stdout
    assert "Tide-tables" not in first.stdout + told.stdout + again.stdout
    # another product: the first call says so
    secret_of = "root_password=none-of-that"
    nobody = cli("try", str(EXAMPLES / "lantern.yaml"), "--node", store, "--value", secret_of)
    assert nobody.returncode == 1
    assert "WRONG: GET http" in nobody.stdout
    unasked = cli(*wanted)
    assert unasked.returncode == 2
    assert "Give the secret with --value admin_password=" in unasked.stderr


def test_made_secrets_keep_their_rules() -> None:
    import random

    rng = random.Random(4)
    for kit in load_kits().values():
        for question in kit.questions:
            if question.secret and not question.rule.pattern:
                assert violations(made_by(question.rule, rng.choice), question.rule) == []
            elif question.secret:
                # a licence key is given by somebody; none can be made
                with pytest.raises(InputError, match="no secret of this form"):
                    made_by(question.rule, rng.choice)
