"""Values in commands, told to real shells: each arrives as it was typed, and nothing in it is
carried out.
"""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from nimble_stone.core.shell_words import fault_of, filled, names, word

SHELLS = [
    shell
    for shell in (["bash", "-c"], ["dash", "-c"], ["sh", "-c"], ["busybox", "sh", "-c"])
    if shutil.which(shell[0])
]
HOSTILE = (
    "$(touch made)",
    "`touch made`",
    "; touch made",
    "a' ; touch made '",
    'a" ; touch made "',
    "\n touch made",
    "&& touch made",
    "| touch made",
    "> made",
    "${IFS}",
    "\\",
    "'",
    "''",
    "",
    " ",
    "*",
    "~",
    "{a,b}",
    "!!",
    "#",
    "a\\'b",
    "-n",
)


def test_there_are_shells_to_ask() -> None:
    assert len(SHELLS) >= 2


@pytest.mark.parametrize("shell", SHELLS, ids=lambda shell: shell[0])
@pytest.mark.parametrize("value", HOSTILE)
def test_a_hostile_value_arrives_as_it_is(shell: list[str], value: str, tmp_path: Path) -> None:
    for template, expected in (
        (f"printf %s. {word(value)}", value + "."),
        (f"printf %s. --key={word(value)}/x", f"--key={value}/x."),
        (f"printf %s. {word(value)}{word(value)}", value * 2 + "."),
    ):
        done = subprocess.run([*shell, template], capture_output=True, cwd=tmp_path, timeout=20)
        assert (done.stdout.decode(), done.returncode) == (expected, 0)
    assert list(tmp_path.iterdir()) == []


SCRIPT = """\
# a script has braces of its own
say() { printf '%s\\n' "${1}"; }
for one in {first.name} {second}; do
  [ "${one}" = {second} ] && say "${one}" | awk '{ print NR ":" $0 }'
done
json='{"a": 1}'
say "${json}" {empty}
"""


@pytest.mark.parametrize("shell", SHELLS, ids=lambda shell: shell[0])
@pytest.mark.parametrize("value", [one for one in HOSTILE if one and "\n" not in one])
def test_a_script_keeps_its_own_braces(shell: list[str], value: str, tmp_path: Path) -> None:
    assert (fault_of(SCRIPT), names(SCRIPT)) == ("", ["first.name", "second", "second", "empty"])
    text = filled(SCRIPT, {"first.name": "{second}", "second": value, "empty": ""})
    done = subprocess.run([*shell, text], capture_output=True, cwd=tmp_path, timeout=20)
    assert done.stdout.decode() == f'1:{value}\n{{"a": 1}}\n'
    assert list(tmp_path.iterdir()) == []


@settings(max_examples=60)
@given(st.text(st.characters(blacklist_categories=["Cs"], blacklist_characters="\0"), max_size=40))
@example("$(id)")
def test_any_text_arrives_as_it_is(value: str) -> None:
    done = subprocess.run(
        ["sh", "-c", f"printf %s. {word(value)}"], capture_output=True, timeout=20
    )
    assert done.stdout == (value + ".").encode()


@pytest.mark.parametrize(
    "command",
    [
        "edge watch {letting}",
        "edge --name={name} --to {first.address}",
        "set {a}{b}",
        'say "all well" {x}',
        "say 'all' {x} | wc -l",
        "a && b {x}",
        "echo \\$ {x}",
        "echo ${HOME} {x}",
    ],
)
def test_a_template_where_a_word_stands_will_do(command: str) -> None:
    assert fault_of(command) == ""


@pytest.mark.parametrize(
    ("command", "why"),
    [
        ("edge watch '{letting}'", "inside quotes"),
        ('edge watch "{letting}"', "inside quotes"),
        ('say "a {x} b"', "inside quotes"),
        ("say `{x}`", "command substitution"),
        ("say $(cat {x})", "command substitution"),
        ("say \"$(cat '{x}')\"", "substitution"),
        ("say \\{x}", "backslash"),
        ("eval {x}", "as a program"),
        ("sh -c {x}", "as a program"),
        ("bash -ec {x}", "as a program"),
        ("a; eval b {x}", "as a program"),
        ("say 'open {", "not closed"),
        ("cat <<END\n{x}\nEND", "here-document"),
        ("say # {x}", "comment"),
    ],
)
def test_a_template_elsewhere_is_refused_with_its_reason(command: str, why: str) -> None:
    assert why in fault_of(command)
