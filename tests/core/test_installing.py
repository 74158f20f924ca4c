"""Answer files: whatever a value holds comes through whole, by readers that nobody here wrote; and
what a kit may say of an installer.
"""

from __future__ import annotations

import json
import subprocess
from typing import Any, get_args

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from lxml import etree
from pydantic import ValidationError
from ruamel.yaml import YAML

from nimble_stone.core.checks import Situation, check
from nimble_stone.core.errors import FormatError
from nimble_stone.core.estate import MediaSlot
from nimble_stone.core.installing import answers, packages
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.plan.model import Plan
from nimble_stone.core.plan.sheet import resolve
from nimble_stone.core.sequence import build
from tests.core.test_machine_plans import PACKAGE, disk, estate, machine
from tests.core.test_resolution import KITS

SHOWN = st.text(
    st.characters(exclude_categories=("Cs", "Cc"), include_characters="\n\t"), max_size=60
).filter(lambda text: not set(text) & set("\ufffe\uffff\x85\u2028\u2029"))
TEXTS: dict[str, str] = {
    "xml": '<a one="@{x}"><two>@{x}</two></a>',
    "json": '{"one": "@{x}", "two": ["a@{x}b"]}',
    "yaml": 'one: "@{x}"\ntwo:\n  - "a@{x}b"\n',
    "shell": "printf '%s' @{x}\n",
    "lines": "one=@{x}\n",
}


def read(form: str, text: str) -> list[str]:
    """The values in a filled file, by the format's own reader."""
    if form == "xml":
        root = etree.fromstring(text.encode())
        return [root.get("one") or "", root.findtext("two") or ""]
    if form == "json":
        found = json.loads(text)
        return [found["one"], found["two"][0][1:-1]]
    if form == "yaml":
        found = YAML(typ="safe", pure=True).load(text)
        return [found["one"], found["two"][0][1:-1]]
    return []


@pytest.mark.parametrize("form", ["xml", "json", "yaml"])
@settings(deadline=None, max_examples=60)
@given(value=SHOWN)
def test_any_value_comes_through_whole(form: Any, value: str) -> None:
    filled = answers.filled(TEXTS[form], form, {"x": value})
    assert read(form, filled) == [value, value]


@pytest.mark.parametrize("value", ["a'b", "$(touch x)", "`id`", "a\nb", "-n", "", 'q"w\\', "ü &|;"])
def test_a_shell_gets_one_word(value: str) -> None:
    filled = answers.filled(TEXTS["shell"], "shell", {"x": value})
    done = subprocess.run(["/bin/sh", "-c", filled], capture_output=True, check=True, text=True)
    assert done.stdout == value


def test_what_a_format_cannot_hold_is_refused() -> None:
    assert answers.filled(TEXTS["lines"], "lines", {"x": "a b'c"}) == "one=a b'c\n"
    for form, value in (("lines", "a\nb"), ("xml", "a\x01b"), ("yaml", "a\0b")):
        with pytest.raises(FormatError, match="the value of x holds"):
            answers.filled(TEXTS[form], form, {"x": value})  # type: ignore[arg-type]


@pytest.mark.parametrize("form", get_args(answers.Format))
def test_a_sound_template_is_taken(form: Any) -> None:
    answers.check(TEXTS[form], form)


@pytest.mark.parametrize(
    ("form", "text", "why"),
    [
        ("json", '{"one": @{x}}', "inside double quotes"),
        ("json", '{"one": "@{x}"', "it is no JSON"),
        ("yaml", "one: @{x}\n", "inside double quotes"),
        ("yaml", "one: '@{x}'\n", "double quotes"),
        ("xml", "<a><![CDATA[@{x}]]></a>", "does not come through whole"),
        ("xml", "<a><!-- @{x} --></a>", "does not come through whole"),
        ("xml", "<a>", "it is no XML"),
        ("shell", "echo '@{x}'\n", "inside quotes"),
        ("shell", "cat <<END\n@{x}\nEND\n", "here-document"),
        ("lines", "one=@{x\n", "not closed"),
    ],
)
def test_a_template_that_a_value_would_break_is_refused(form: Any, text: str, why: str) -> None:
    with pytest.raises(FormatError) as caught:
        answers.check(text, form)
    assert why in f"{caught.value} {caught.value.hint}"


@pytest.mark.parametrize(
    ("label", "product", "version"),
    [
        ("KEELSON_2_1_0", "KEELSON", "2.1.0"),
        ("Debian 12.5.0 amd64 n", "Debian", "12.5.0 amd64 n"),
        ("SOME-v3.4", "SOME", "3.4"),
        ("CDROM", "CDROM", ""),
        ("", "", ""),
    ],
)
def test_a_label_names_product_and_version(label: str, product: str, version: str) -> None:
    assert packages.named(label) == (product, version)


def changed(**installer: Any) -> Kit:
    document = KITS["keelson"].model_dump(mode="json", by_alias=True)
    document["roles"][0] |= installer.pop("role", {})
    document["roles"][0]["installer"] |= installer
    return Kit.model_validate(document)


@pytest.mark.parametrize(
    ("change", "why"),
    [
        ({"answers": [{"path": "/a", "format": "lines", "text": "x"}]}, "nothing tells when"),
        ({"answers": [{"path": "../a", "format": "lines", "text": "x"}]}, "pattern"),
        (
            {"answers": [{"path": "/a", "format": "lines", "text": "@{nothing}"}], "ends": "off"},
            "n",
        ),
        ({"label": "small letters"}, "pattern"),
        ({"role": {"lives_on": "either"}}, "lives_on: machines"),
    ],
)
def test_a_kit_with_an_installer_that_cannot_work_is_refused(change: Any, why: str) -> None:
    with pytest.raises(ValidationError, match=why):
        changed(**change)


ISO = packages.view("c" * 64, "KEELSON", "2.1.0")


def sheet_of(kit: Kit, where: Any, package: Any = ISO) -> Any:
    plan = {"nimble-stone": "plan/1", "name": "shoal", "kit": kit.id, "bay": "iron"}
    values: dict[str, Any] = {"values": {"pool": "kelda-survey"}}
    if kit.id == "ballast":
        values["values"] |= {"on": "machines", "net.copying.pool": "kelda-storage"}
    return resolve(Plan.model_validate(plan | values), kit, package, where)


def test_what_the_kit_says_of_the_installer_decides_machine_and_drive() -> None:
    small = machine("basalt", disk("b-s", 80), disk("b-1", 500))
    weak = machine("chert", disk("c-s", 200), disk("c-1", 500), memory_bytes=1 << 30)
    where = estate(small, weak, machine("slate", disk("s-s", 200), disk("s-1", 500)))
    found = sheet_of(KITS["keelson"], where)
    places = {node.id: (node.value("host"), node.value("system.drive")) for node in found.nodes}
    # 100 GiB for the system, 64 GiB of memory: the small drive is left, the weak machine too
    assert places["host-1"] == ("basalt", "b-1")
    assert places["host-2"] == ("slate", "s-s")
    assert "chert" in found.unplaced["host-3"]
    steps = [step.kind for step in build(found, where) if step.node == "host-1"]
    assert steps == [
        "insert-installer",
        "medium-boot",
        "install",
        "eject",
        "power-on",
        "boot",
        "services",
        "enroll",
    ]


def test_package_and_kit_must_fit() -> None:
    where = estate(machine("basalt", disk("b-s", 200), disk("b-1", 500), media=(SLOT,)))

    def told(kit: str, package: Any) -> list[str]:
        found = check(Situation(sheet_of(KITS[kit], where, package), where))
        return [one.message for one in found if one.code.startswith("installer-")]

    assert told("keelson", ISO) == []
    assert told("keelson", PACKAGE) == [
        "Ballast 1.9.2 is no installer ISO; the kit installs host nodes."
    ]
    assert "is an installer ISO" in told("ballast", ISO)[0]


SLOT = MediaSlot(id="1", kinds=("CD",))


def test_a_machine_that_boots_from_the_network_takes_what_the_kit_starts_that_way() -> None:
    """An installer whose kit names kernel and ramdisk; nothing else, as its configuration would
    not come.
    """
    where = estate(machine("basalt", disk("b-s", 200), disk("b-1", 500), media=()))
    net = tuple(one.model_copy(update={"boots": "network"}) for one in where.machines)
    where = where.model_copy(update={"machines": net})
    without = sheet_of(KITS["keelson"], where)
    assert "boots from the network, which the kit does not support" in without.unplaced["host-1"]
    started = changed(netboot={"kernel": "/k", "initrd": ["/i"], "args": "a=@{medium.files}"})
    found = sheet_of(started, where)
    assert found.nodes[0].value("host") == "basalt"
    assert not [f for f in check(Situation(found, where)) if f.code == "machine-media"]
    with pytest.raises(ValidationError, match="netboot.args asks for “nothing”"):
        changed(netboot={"kernel": "/k", "args": "a=@{nothing}"})
