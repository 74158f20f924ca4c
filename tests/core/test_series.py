"""Laws of series, and of what plans draw from them: MAC addresses, IPv6 addresses, numbers; DHCP
and dynamic ranges.
"""

from __future__ import annotations

from ipaddress import IPv4Address, IPv6Network
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError

from nimble_stone.core import checks
from nimble_stone.core.checks import Situation
from nimble_stone.core.errors import InputError
from nimble_stone.core.estate import Estate, Guest, Network
from nimble_stone.core.findings import Finding
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.ledger import pool_members
from nimble_stone.core.ledger import series as series_lines
from nimble_stone.core.plan import table
from nimble_stone.core.plan.many import copy
from nimble_stone.core.plan.model import Plan
from nimble_stone.core.plan.sheet import Sheet, resolve
from nimble_stone.core.series import Series, clean, condensed, draw, listed, number_of, text_of
from tests.core.test_resolution import ESTATE as WHOLE
from tests.core.test_resolution import KITS, PACKAGES

MACS = Series(name="macs", kind="mac", first="52:54:00:44:00:01", last="52:54:00:44:00:40")
SIX = Series(
    name="six",
    kind="ipv6",
    network="survey",
    first="fd44:5e1d:20::100",
    last="fd44:5e1d:20::13f",
    excluded=("fd44:5e1d:20::101",),
)
GROUPS = Series(name="groups", kind="number", first="1", last="9", excluded=("1", "2"))
NETWORKS = tuple(
    (
        net.model_copy(
            update={
                "subnet6": IPv6Network("fd44:5e1d:20::/64"),
                "dynamic_first": IPv4Address("10.44.20.80"),
                "dynamic_last": IPv4Address("10.44.20.99"),
            }
        )
        if net.name == "survey"
        else net
    )
    for net in WHOLE.networks
)
ESTATE = WHOLE.model_copy(update={"series": (MACS, SIX, GROUPS), "networks": NETWORKS})


def sheet_of(
    kit: str,
    values: dict[str, Any],
    *,
    estate: Estate = ESTATE,
    kits: dict[str, Kit] | None = None,
    **more: Any,
) -> Sheet:
    how = {key: more.pop(key) for key in ("members", "held", "taken") if key in more}
    document = {
        "nimble-stone": "plan/1",
        "name": "p",
        "kit": kit,
        "bay": "kelda-main",
        "values": {"pool": "kelda-survey"} | values,
    } | more
    return resolve(Plan.model_validate(document), (kits or KITS)[kit], PACKAGES[kit], estate, **how)


def found(sheet: Sheet, estate: Estate = ESTATE, **more: Any) -> dict[str, Finding]:
    return {one.code: one for one in checks.check(Situation(sheet, estate, **more))}


@given(st.sampled_from(["mac", "ipv6", "number"]), st.integers(0, 999_999_999))
def test_members_are_read_as_they_are_written(kind: Any, number: int) -> None:
    assert number_of(kind, text_of(kind, number)) == number
    assert clean(kind, text_of(kind, number).upper()) == text_of(kind, number)


@pytest.mark.parametrize(
    ("kind", "text"),
    [
        ("mac", "52:54:00:44:00"),
        ("mac", "52:54:00:44:00:0g"),
        ("ipv6", "10.44.0.1"),
        ("ipv6", "fd44::1::2"),
        ("number", "-1"),
        ("number", "١"),
        ("number", "1e3"),
        ("number", "9" * 40),
    ],
)
def test_what_is_no_member_is_told_apart(kind: Any, text: str) -> None:
    assert number_of(kind, text) is None


@pytest.mark.parametrize(
    ("more", "words"),
    [
        ({"kind": "mac", "first": "52:54:00:00:00:02", "last": "52:54:00:00:00:01"}, "lies after"),
        (
            {"kind": "mac", "first": "53:54:00:00:00:01", "last": "53:54:00:00:00:02"},
            "group address",
        ),
        ({"kind": "ipv6", "first": "fd44::1", "last": "fd44::2"}, "names no network"),
        ({"kind": "number", "first": "one", "last": "2"}, "not a number"),
        ({"kind": "number", "first": "1", "last": "2", "excluded": ["x"]}, "not a number"),
    ],
)
def test_a_wrong_series_is_refused(more: dict[str, Any], words: str) -> None:
    with pytest.raises(ValidationError, match=words):
        Series.model_validate({"name": "s"} | more)


@settings(max_examples=120, deadline=None)
@given(
    st.integers(0, 60),
    st.sets(st.integers(1, 80), max_size=40),
    st.dictionaries(st.integers(0, 30), st.integers(1, 90), max_size=20),
)
def test_nothing_is_drawn_twice_or_from_outside_and_what_was_held_is_kept(
    many: int, gone: set[int], before: dict[int, int]
) -> None:
    series = Series(name="n", kind="number", first="1", last="50")
    slots = [f"node-{n}" for n in range(many)]
    held = {f"node-{n}": number for n, number in before.items()}
    given_out = draw(series, slots, held, gone)
    assert len(set(given_out.values())) == len(given_out)
    assert all(1 <= number <= 50 and number not in gone for number in given_out.values())
    assert len(given_out) == min(many, 50 - len({n for n in gone if n <= 50}))
    claimed: set[int] = set()
    for slot in slots:
        number = held.get(slot)
        if number is not None and 1 <= number <= 50 and number not in gone | claimed:
            assert given_out[slot] == number
            claimed.add(number)


def test_nodes_draw_each_its_own_and_the_plan_one_number() -> None:
    sheet = sheet_of(
        "tidebook",
        {"mac_pool": "macs", "group.pool": "groups", "net.copying.pool": "kelda-storage"},
        nodes={"primary-1": {"mac": "52-54-00-44-00-02"}},
    )
    macs = {
        (node.id, column): node.value(column)
        for node in sheet.nodes
        for column in ("mac", "net.copying.mac")
    }
    assert macs == {
        ("primary-1", "mac"): "52:54:00:44:00:02",
        ("standby-1", "mac"): "52:54:00:44:00:01",
        ("primary-1", "net.copying.mac"): "52:54:00:44:00:03",
        ("standby-1", "net.copying.mac"): "52:54:00:44:00:04",
    }
    assert {node.cells["group"] for node in sheet.nodes} == {sheet.nodes[0].cells["group"]}
    assert sheet.nodes[0].cells["group"].value == "3"  # 1 and 2 are kept out
    members = {member for _, _, member in sheet.members()}
    assert {"groups#3", "52:54:00:44:00:02"} < members
    again = sheet_of(
        "tidebook",
        {"mac_pool": "macs", "group.pool": "groups"},
        members={"groups#3", "52:54:00:44:00:01"},
        held={"/group": "groups#4"},
    )
    assert again.nodes[0].value("group") == "4"
    assert "52:54:00:44:00:01" not in {node.value("mac") for node in again.nodes}


def test_what_the_estate_uses_itself_is_not_given() -> None:
    name, facts = next(iter(ESTATE.facts.items()))
    taken = facts.model_copy(
        update={"guests": (*facts.guests, Guest(name="old", macs=("52:54:00:44:00:01",)))}
    )
    estate = ESTATE.model_copy(update={"facts": ESTATE.facts | {name: taken}})
    sheet = sheet_of("tidebook", {"mac_pool": "macs"}, estate=estate)
    assert [node.value("mac") for node in sheet.nodes] == ["52:54:00:44:00:02", "52:54:00:44:00:03"]
    typed = sheet_of(
        "tidebook", {}, estate=estate, nodes={"primary-1": {"mac": "52:54:00:44:00:01"}}
    )
    assert "is in use on the estate already" in found(typed, estate)["mac-in-use"].message


def test_a_series_that_runs_dry_says_for_whom_and_gives_the_others_theirs() -> None:
    short = Series(name="macs", kind="mac", first="52:54:00:44:00:01", last="52:54:00:44:00:03")
    estate = ESTATE.model_copy(update={"series": (short,)})
    sheet = sheet_of("skerry", {"mac_pool": "macs"}, estate=estate, roles={"worker": {"count": 2}})
    assert [node.value("mac")[-2:] for node in sheet.nodes] == ["01", "02", "03", "", ""]
    assert sheet.short == {"mac": ["worker-1", "worker-2"]}
    told = found(sheet, estate)["series-exhausted"]
    assert (told.node, told.message) == (
        "worker-1",
        "Pool macs has no free value for p-wrk1 and 1 more node (MAC).",
    )


def test_ipv6_is_off_until_a_pool_or_an_address_is_named() -> None:
    off = sheet_of("skerry", {})
    assert {off.nodes[0].value(part) for part in ("address6", "prefix6", "gateway6")} == {""}
    assert "ipv6-unfit" not in found(off)
    on = sheet_of(
        "skerry", {"pool6": "six"}, nodes={"controller-3": {"address6": "FD44:5e1d:0020::0777"}}
    )
    assert [node.value("address6") for node in on.nodes if node.role == "controller"] == [
        "fd44:5e1d:20::100",
        "fd44:5e1d:20::102",
        "fd44:5e1d:20::777",
    ]
    assert {node.value("prefix6") for node in on.nodes} == {"64"}
    wrong = sheet_of(
        "skerry",
        {},
        nodes={"controller-1": {"address6": "fd99::1"}, "controller-2": {"address6": "none of it"}},
    )
    messages = {
        one.message for one in checks.check(Situation(wrong, ESTATE)) if one.code.startswith("ipv6")
    }
    assert messages == {
        "fd99::1 is outside fd44:5e1d:20::/64.",
        "IPv6 “none of it” is not an IPv6 address.",
    }


def test_what_dhcp_hands_out_is_nobodys_own() -> None:
    every = sheet_of(
        "skerry",
        {"pool": "wide"},
        estate=ESTATE.model_copy(
            update={
                "pools": (
                    WHOLE.pools[0].model_copy(
                        update={
                            "name": "wide",
                            "first": IPv4Address("10.44.20.79"),
                            "last": IPv4Address("10.44.20.105"),
                        }
                    ),
                )
            }
        ),
        roles={"worker": {"count": 2}},
    )
    assert [node.value("address") for node in every.nodes] == [
        "10.44.20.79",
        *(f"10.44.20.{n}" for n in range(100, 104)),
    ]
    typed = sheet_of(
        "skerry", {"virtual.api": "10.44.20.85"}, nodes={"worker-1": {"address": "10.44.20.99"}}
    )
    told = [
        one.message
        for one in checks.check(Situation(typed, ESTATE))
        if one.code == "address-dynamic"
    ]
    assert sorted(told) == [
        f"10.44.20.{n} is in the DHCP range of survey (10.44.20.80 to 10.44.20.99)."
        for n in (85, 99)
    ]


def test_a_node_by_dhcp_needs_no_address_but_somebody_who_answers() -> None:
    sheet = sheet_of("skerry", {}, roles={"worker": {"count": 2, "values": {"addressing": "dhcp"}}})
    assert {node.cells["address"].origin for node in sheet.nodes if node.role == "worker"} == {
        "unused"
    }
    codes = found(sheet)
    assert not {"address-missing", "dhcp-nobody", "unanswered-address"} & set(codes)
    silent = ESTATE.model_copy(
        update={
            "networks": tuple(
                net.model_copy(update={"dynamic_first": None, "dynamic_last": None})
                for net in NETWORKS
            )
        }
    )
    nobody = sheet_of("skerry", {"addressing": "dhcp"}, estate=silent)
    assert "No DHCP range is defined for survey" in found(nobody, silent)["dhcp-nobody"].message


def test_a_dynamic_range_has_two_ends_in_its_subnet() -> None:
    plain = {"name": "n", "subnet": "10.1.0.0/24", "gateway": "10.1.0.1"}
    for more, words in (
        ({"dynamic_first": "10.1.0.9"}, "two ends"),
        ({"dynamic_first": "10.1.0.9", "dynamic_last": "10.1.0.8"}, "is not in"),
        ({"dynamic_first": "10.1.0.9", "dynamic_last": "10.1.1.8"}, "is not in"),
    ):
        with pytest.raises(ValidationError, match=words):
            Network.model_validate(plain | more)


def test_series_are_drawn_member_by_member() -> None:
    sheet = sheet_of("tidebook", {"mac_pool": "macs", "group.pool": "groups"})
    lines = {line.name: line for line in series_lines(sheet, ESTATE, {"groups#4"})}
    assert lines["groups"].cells == "xxpt....."
    assert lines["groups"].free == 5
    assert lines["macs"].cells.startswith("pppp.")  # two interfaces each
    listed = {line["name"]: line for line in pool_members(ESTATE, {"groups#4": "west"})}
    assert [(m["address"], m["state"], m["by"]) for m in listed["groups"]["members"]][2:5] == [
        ("3", "free", ""),
        ("4", "held", "west"),
        ("5", "free", ""),
    ]
    assert (listed["groups"]["free"], listed["groups"]["largest_gap"], listed["macs"]["size"]) == (
        6,
        5,
        64,
    )


@given(
    st.sampled_from(["mac", "ipv6", "number", "ipv4"]), st.sets(st.integers(1, 4000), max_size=80)
)
def test_what_is_condensed_is_listed_again(kind: Any, numbers: set[int]) -> None:
    members = [
        str(IPv4Address(0x0A000000 + n)) if kind == "ipv4" else text_of(kind, n)
        for n in sorted(numbers)
    ]
    assert listed(kind, condensed(kind, members)) == members


@pytest.mark.parametrize(
    ("kind", "text", "words"),
    [
        ("ipv4", "10.0.0.9-10.0.0.1", "not an IPv4 address or a range"),
        ("mac", "52-54", "not a MAC address"),
        ("number", "1-99999", "more than 10000"),
        ("ipv6", "10.0.0.1", "not an IPv6 address"),
    ],
)
def test_a_wrong_listing_is_refused_with_the_word_that_is_wrong(
    kind: Any, text: str, words: str
) -> None:
    with pytest.raises(InputError, match=words):
        listed(kind, text)
    assert listed("mac", "52-54-00-44-00-01") == ["52:54:00:44:00:01"]


def test_pools_give_from_the_end_they_say_and_keep_back_what_is_reserved() -> None:
    pool = WHOLE.pools[0].model_copy(
        update={
            "name": "down",
            "first": IPv4Address("10.44.20.11"),
            "last": IPv4Address("10.44.20.18"),
            "excluded": (),
            "order": "down",
            "reserved": {
                IPv4Address("10.44.20.18"): "the old filer",
                IPv4Address("10.44.20.11"): "its twin",
            },
        }
    )
    estate = ESTATE.model_copy(update={"pools": (pool,)})
    sheet = sheet_of("skerry", {"pool": "down"}, estate=estate)
    assert [node.value("address")[-2:] for node in sheet.nodes if node.role == "controller"] == [
        "17",
        "16",
        "15",
    ]
    # from the other end
    assert sheet.nodes[0].value("virtual.api") == "10.44.20.12"
    states = {
        m["address"]: (m["state"], m["by"])
        for line in pool_members(estate, {})
        if line["name"] == "down"
        for m in line["members"]
    }
    assert states["10.44.20.18"] == ("reserved", "the old filer")
    low = Series(name="n", kind="number", first="1", last="9", reserved={"9": "us"}, order="down")
    assert draw(low, ["a", "b"], {}, low.gone(())) == {"a": 8, "b": 7}


def test_a_series_of_another_kind_gives_nothing_and_a_finding_says_so() -> None:
    sheet = sheet_of("skerry", {"mac_pool": "groups"})
    assert {node.value("mac") for node in sheet.nodes} == {""}
    assert found(sheet)["series-unfit"].message == "Pool groups has numbers, not MAC addresses."
    wrong = sheet_of(
        "skerry",
        {},
        nodes={"controller-1": {"mac": "tide"}, "controller-2": {"mac": "53:00:00:00:00:01"}},
    )
    codes = found(wrong)
    assert codes["mac-form"].message == "MAC “tide” is not a MAC address."
    assert "group address" in codes["mac-group"].message


def test_frame_sizes_and_vlans_come_from_the_network_and_are_held_against_the_hosts() -> None:
    plain = sheet_of("ballast", {"net.copying.pool": "kelda-storage"})
    assert {
        (node.value("vlan"), node.value("search"), node.value("net.copying.mtu"))
        for node in plain.nodes
    } == {("420", "kelda.holm.example", "9000")}
    assert not {"mtu", "vlan-other"} & set(found(plain))
    wrong = sheet_of("ballast", {"net.copying.pool": "kelda-storage", "mtu": "tiny", "vlan": "7"})
    codes = found(wrong)
    assert codes["mtu"].message == "MTU “tiny” is not valid. Use 576 to 65535."
    assert codes["vlan-other"].message == "The plan says VLAN 7; survey is VLAN 420 on this estate."
    host = wrong.nodes[0].value("host")
    facts = ESTATE.facts[host]
    narrow = ESTATE.model_copy(
        update={
            "facts": (
                ESTATE.facts
                | {
                    host: facts.model_copy(
                        update={
                            "networks": tuple(
                                net.model_copy(update={"mtu": 1500}) for net in facts.networks
                            )
                        }
                    )
                }
            )
        }
    )
    assert (
        f"{host} passes 1500"
        in found(sheet_of("ballast", {"net.copying.pool": "kelda-storage"}, estate=narrow), narrow)[
            "mtu-narrow"
        ].message
    )


def test_tables_take_what_fits_and_keep_the_rest_as_it_was_typed() -> None:
    sheet = sheet_of("skerry", {"mac_pool": "macs", "pool6": "six"})
    rows = table.rows_of(sheet)
    # what goes out comes back as it is
    assert table.land(rows, sheet).edits == ()
    assert not {"admin_password", "seal_key"} & set(rows[0])
    given_rows = [
        ["node", "mac", "address6", "certificate.interface", "addressing"],
        ["controller-1", "52-54-00-44-00-30", "fd44:5e1d:20::130", "made here", "dhcp"],
        ["controller-2", "52:54", "10.44.20.1", "keyring:host-key", "by post"],
    ]
    landed = table.land(given_rows, sheet)
    assert {edit.path[2]: edit.value for edit in landed.edits} == {
        "mac": "52-54-00-44-00-30",
        "address6": "fd44:5e1d:20::130",
        "addressing": "dhcp",
    }
    assert [(one.column, one.text, one.why) for one in landed.wrong] == [
        ("mac", "52:54", "is not a MAC address"),
        ("address6", "10.44.20.1", "is not an IPv6 address"),
        (
            "certificate.interface",
            "keyring:host-key",
            "certificates are brought on the page; a table may say “made here”",
        ),
        ("addressing", "by post", "is not one of static, dhcp"),
    ]
    edge = sheet_of("breakwater", {})
    wrong = table.land([["node", "keys"], ["edge-1", "ssh-rsa nonsense"]], edge).wrong
    why = "is not an SSH public key (such as “ssh-ed25519 AAAA… name”)"
    assert [one.why for one in wrong] == [why]


@settings(max_examples=40, deadline=None)
@given(
    st.integers(0, 12),
    st.booleans(),
    st.booleans(),
    st.booleans(),
    st.sets(st.integers(1, 70), max_size=30),
    st.randoms(use_true_random=False),
)
def test_whatever_is_asked_no_two_nodes_share_anything_and_dhcp_nodes_have_no_address(
    workers: int, mac: bool, six: bool, dhcp: bool, others: set[int], random: Any
) -> None:
    values = {"mac_pool": "macs"} if mac else {}
    values |= {"pool6": "six"} if six else {}
    block: dict[str, Any] = {"count": workers} | (
        {"values": {"addressing": "dhcp"}} if dhcp else {}
    )
    members = {f"52:54:00:44:00:{n:02x}" for n in others} | {
        text_of("ipv6", SIX.low + n) for n in others
    }
    before = {
        f"worker-{n}/mac": f"52:54:00:44:00:{random.randint(1, 0x40):02x}"
        for n in range(1, workers + 1)
    }
    sheet = sheet_of("skerry", values, roles={"worker": block}, members=members, held=before)
    for column in ("mac", "address6", "address"):
        given_out = [node.value(column) for node in sheet.nodes if node.value(column)]
        assert len(given_out) == len(set(given_out))
        assert not set(given_out) & members
    for node in sheet.nodes:
        by_dhcp = dhcp and node.role == "worker"
        assert bool(node.value("address")) != by_dhcp
        assert not mac or node.value("mac") or node.id in sheet.short["mac"]
        assert bool(node.value("prefix6")) == six
        if not mac:
            assert not node.value("mac")
    held = [member for _, _, member in sheet.members()]
    assert len(held) == len(set(held))
    again = sheet_of(
        "skerry",
        values,
        roles={"worker": block},
        members=members,
        held={
            f"{node.id if node else ''}/{column}": member
            for node, column, member in sheet.members()
        },
    )
    # thinking again moves nothing
    assert [node.value("mac") for node in again.nodes] == [
        node.value("mac") for node in sheet.nodes
    ]


def test_a_copy_takes_its_series_along_by_name_and_leaves_single_addresses_behind() -> None:
    text = (
        "nimble-stone: plan/1\nname: reef\nkit: skerry\nbay: kelda-main\nvalues:\n  pool:"
        " kelda-survey\n  pool6: six\n  mac_pool: macs\nnodes:\n  worker-1: {mac:"
        " '52:54:00:44:00:30', address6: 'fd44:5e1d:20::130', size: large}\n"
    )
    made = copy(
        text, "ness", "ness-two", {"kelda-survey": "ness-survey", "macs": "other-macs"}, ESTATE
    )
    assert "other-macs" in made.text
    assert "52:54" not in made.text
    assert "fd44" not in made.text
    assert "size: large" in made.text
    # its network is not carried there
    assert made.left == (("values.pool6", "six"),)
