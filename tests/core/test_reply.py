"""Answers of products, read in one way: JSON, XML, headers, cookies, text; by strangers, too."""

from __future__ import annotations

import asyncio
import json
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimble_stone.core import acceptance, json_template, reply
from nimble_stone.core.acceptance import Answer, Expected
from nimble_stone.core.acceptance.asked import KINDS, Closed, Pair, Wish, fits, leads_to, mesh
from nimble_stone.core.errors import FormatError
from nimble_stone.core.reply import LONGEST, Reply, fault_of, read

DATA = {
    "state": "ready",
    "count": 3,
    "share": 1.0,
    "on": True,
    "none": None,
    "members": [{"name": "a", "role": "lead"}, {"name": "b", "role": "rest"}],
}
REPLY = Reply(200, json.dumps(DATA).encode(), {"x-token": "t-1", "location": "/a"}, {"SID": "s-1"})


@pytest.mark.parametrize(
    ("what", "value"),
    [
        ("state", "ready"),
        ("count", "3"),
        ("share", "1"),
        ("on", "true"),
        ("none", ""),
        ("gone", None),
        ("$.members[*].name", "a, b"),
        ("$.members[?@.role=='lead'].name", "a"),
        ("count:$.members[?@.role=='lead']", "1"),
        ("count:$.nothing[*]", "0"),
        ("$.nothing", None),
        ("header:X-Token", "t-1"),
        ("cookie:SID", "s-1"),
        ('pattern:"count": ([0-9]+)', "3"),
        ("pattern:ready", "ready"),
        ("pattern:nowhere", None),
        ("xpath:/a", None),
    ],
)
def test_a_value_is_read_as_text(what: str, value: str | None) -> None:
    assert fault_of(what) == ""
    assert read(REPLY, what) == value


def test_xml_is_read_by_xpath() -> None:
    answer = Reply(200, b"<licence><key>K-1</key><key>K-2</key><n>140</n></licence>")
    assert read(answer, "xpath:/licence/n") == "140"
    assert read(answer, "xpath://key") == "K-1, K-2"
    assert read(answer, "xpath:count(//key)") == "2"
    bomb = b'<!DOCTYPE a [<!ENTITY b "bb">]><a>&b;</a>'
    assert read(Reply(200, bomb), "xpath:/a") is None


@pytest.mark.parametrize(
    "what",
    [
        "$.a[",
        "pattern:(a)(b)",
        "pattern:(",
        "xpath:///",
        "$..a..b..c",
        "$[?match(@.a, '(a+)+')]",
        "$[?search(@.a, '(a+)+')]",
        "header:",
        "$." + "a" * LONGEST,
    ],
)
def test_what_cannot_be_read_or_would_take_long_is_refused(what: str) -> None:
    assert fault_of(what) != ""
    with pytest.raises(FormatError):
        read(REPLY, what)


@given(st.binary(max_size=400), st.sampled_from(["a", "$.a", "count:$..a", "xpath://a", "text:"]))
def test_no_answer_breaks_the_reading(body: bytes, what: str) -> None:
    found = read(Reply(200, body), what)
    assert found is None or isinstance(found, str)


def test_deep_and_large_answers_are_read_as_nothing() -> None:
    assert read(Reply(200, b"[" * 100_000), "$.a") is None
    assert read(Reply(200, b'{"a":' * 2000 + b"1" + b"}" * 2000), "$.b") is None


# --- bodies ---


def made(data: Any, nodes: list[str]) -> Any:
    async def fill(text: str, node: Any) -> str:
        return text.replace("{name}", node or "me").replace("{count}", str(len(nodes)))

    return asyncio.run(json_template.filled(data, fill, lambda role: nodes if role else []))


def test_a_body_has_types_and_lists_over_nodes() -> None:
    data = {
        "who": "{name}",
        "many": {"@number": "{count}"},
        "half": {"@number": "0.5"},
        "on": {"@flag": "yes"},
        "kept": [1, None, False],
        "peers": {"@each": "gate", "@of": {"host": "{name}", "n": {"@number": "{count}"}}},
    }
    assert json_template.fault_of(data) == ""
    assert made(data, ["a", "b"]) == {
        "who": "me",
        "many": 2,
        "half": 0.5,
        "on": True,
        "kept": [1, None, False],
        "peers": [{"host": "a", "n": 2}, {"host": "b", "n": 2}],
    }
    with pytest.raises(FormatError, match="not a number"):
        made({"@number": "many"}, [])
    with pytest.raises(FormatError, match="neither true nor false"):
        made({"@flag": "perhaps"}, [])


@pytest.mark.parametrize(
    "data", [{"@number": 1}, {"@each": "a"}, {"@what": "x"}, {"@number": "1", "b": 1}]
)
def test_what_is_no_template_is_told(data: Any) -> None:
    assert json_template.fault_of({"a": [data]}) != ""


def test_a_template_is_not_deeper_than_it_may_be() -> None:
    data: Any = "x"
    for _ in range(40):
        data = [data]
    assert "deeper" in json_template.fault_of(data)


# --- checks ---


@pytest.mark.parametrize(
    ("wish", "found", "tolerance", "good"),
    [
        (Wish("3"), "3", 0.0, True),
        (Wish("3"), "3.0", 0.0, True),
        (Wish("3"), "4", 0.0, False),
        (Wish("3"), "4", 1.0, True),
        (Wish("ready"), "Ready", 0.0, False),
        (Wish(matches="4\\.[0-9]+"), "4.2", 0.0, True),
        (Wish(matches="4\\.[0-9]+"), "14.2", 0.0, False),
        (Wish(least=2.0), "2", 0.0, True),
        (Wish(least=2.0, most=5.0), "6", 0.0, False),
        (Wish(most=5.0), "many", 0.0, False),
        (Wish("", None or ""), "", 0.0, True),
    ],
)
def test_a_value_is_held_against_what_is_wanted(
    wish: Wish, found: str, tolerance: float, good: bool
) -> None:
    assert fits(wish, found, tolerance) is good


def test_nothing_found_never_passes() -> None:
    item = Expected("x", "X", "n", "call", Wish(), 0.0, "an answer")
    assert not acceptance.judge(item, Answer(None, "GET")).passed
    assert acceptance.judge(item, Answer("anything", "GET")).passed
    assert not acceptance.judge(item, Answer(None, "GET", unknown="lost")).checked


def test_a_mesh_names_who_is_lost() -> None:
    found = tuple(
        Pair(a, b, (a, b) != ("x", "z")) for a in ("x", "y", "z") for b in ("x", "y", "z") if a != b
    )
    kind = next(one for one in KINDS if one.id == "reach")
    assert kind.say(found) == "5 of 6 pairs; lost: x → z"
    assert mesh(found).lost == ((2,), (), ())
    wanted = tuple(Pair(one.source, one.target) for one in found)
    item = Expected("m", "Mesh", "", "reach", wanted, 0.0, "6 of 6 pairs")
    verdict = acceptance.judge(item, Answer(found, "ping"))
    assert not verdict.passed
    kept = json.loads(json.dumps(vars(verdict), default=lambda one: vars(one)))
    assert acceptance.verdict_of(kept) == verdict
    assert acceptance.verdict_of({k: v for k, v in kept.items() if k != "mesh"}).mesh is None


def test_closed_ports_and_redirections() -> None:
    closed = next(one for one in KINDS if one.id == "closed")
    assert closed.say((Closed(23), Closed(80, True))) == "23 closed, 80 open"
    assert not closed.fits((Closed(23),), (Closed(23, True),), 0.0)
    assert leads_to("https://10.44.20.11", "https://10.44.20.11/login")
    assert leads_to("https://10.44.20.11", "https://weir-1.kelda.holm.example/")
    assert not leads_to("https://10.44.20.11", "http://10.44.20.11/")
    assert not leads_to("https://10.44.20.11", "/login")


def test_a_pattern_that_is_none_is_told_in_words(capfd: pytest.CaptureFixture[str]) -> None:
    """And only there: the engine writes nothing of its own."""
    assert fault_of("pattern:[a") == "missing ]: [a"
    assert fault_of("pattern:(a)(b)") == "the pattern has more than one group"
    assert capfd.readouterr().err == ""


@given(st.text(max_size=40))
def test_a_value_in_a_reading_stands_for_itself(value: str) -> None:
    """Whatever a name holds, it finds itself and nothing else."""
    data = json.dumps({"servers": [{"name": value, "up": 1}, {"name": f"{value}x", "up": 2}]})
    told = Reply(200, data.encode())
    for what in ("$.servers[?@.name=='{name}'].up", '$.servers[?@.name=="{name}"].up'):
        assert reply.read(told, reply.with_values(what, {"name": value})) == "1"
    listed = Reply(200, f"<{value}> up\n<{value}x> up\n".encode())
    what = reply.with_values("count:pattern:<{name}> up", {"name": value})
    assert reply.read(listed, what) == "1"


def test_what_is_no_template_is_left_in_a_reading() -> None:
    assert reply.names(r"pattern:\p{Greek}{2} {name} \x{e4}") == ["name"]
    with pytest.raises(FormatError, match="has quotes"):
        reply.with_values("xpath://a[@id='{name}']", {"name": "it's"})


def test_a_list_of_a_thousand_names_is_read_whole() -> None:
    names = [f"a-rather-long-name-of-a-node-{number:04}" for number in range(1000)]
    by_json = Reply(200, json.dumps({"members": [{"name": one} for one in names]}).encode())
    text = "".join(f"<m>{one}</m>" for one in names)
    by_xml = Reply(200, f"<all>{text}</all>".encode())
    for answer, what in ((by_json, "$.members[*].name"), (by_xml, "xpath://m/text()")):
        assert (read(answer, what) or "").split(", ") == names
