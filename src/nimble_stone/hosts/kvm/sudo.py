"""Accounts that are not root: which commands of a work need root, how they are sent then, and the
rules (sudoers) that allow exactly these. Pure text.
"""

from __future__ import annotations

import re
import shlex
from collections.abc import Iterable
from dataclasses import replace

from nimble_stone.hosts.kvm import commands
from nimble_stone.hosts.work import Command, Operation, Work

TOOLS = {
    "tee": "/usr/bin/tee",
    "sed": "/usr/bin/sed",
    "rm": "/usr/bin/rm",
    "mkdir": "/usr/bin/mkdir",
    "chronyc": "/usr/bin/chronyc",
    "systemctl": "/usr/bin/systemctl",
    "networkctl": "/usr/bin/networkctl",
    "wipefs": "/usr/sbin/wipefs",
    "ifup": "/usr/sbin/ifup",
    "ifdown": "/usr/sbin/ifdown",
    "ip": "/usr/sbin/ip",
    "/usr/sbin/mkfs.ext4": "/usr/sbin/mkfs.ext4",
    "/usr/sbin/blkid": "/usr/sbin/blkid",
    "/usr/sbin/sshd": "/usr/sbin/sshd",
}
"""Programs that change what belongs to root, and where Debian has them."""
FILE = "/etc/sudoers.d/nimble-stone"
_LIMITED = re.compile(r"(LC_ALL=C timeout -k 2 \d+) (.*)", re.DOTALL)
_RUN = re.compile(r"nimble-stone:g[0-9a-f]{8}")
_SPECIAL = re.compile(r"([.\[\](){}*+?|^$\\])")


def _plain(text: str) -> str:
    """A command without its time limit."""
    found = _LIMITED.fullmatch(text)
    return found[2] if found else text


def needs(text: str) -> bool:
    """Whether a command needs root. What the account does in its home, and what the hypervisor does
    for it, does not.
    """
    plain = _plain(text)
    tool = plain.partition(" ")[0]
    return tool in TOOLS and not plain.startswith(commands.VIRSH) and "~/" not in plain


def with_sudo(text: str) -> str:
    """The command as an account sends it that is not root. A password is never asked for."""
    found = _LIMITED.fullmatch(text)
    return f"{found[1]} sudo -n {found[2]}" if found and needs(text) else text


def as_account(work: Work) -> Work:
    """The same work, sent by an account that is not root."""

    def sent(many: tuple[Command, ...]) -> tuple[Command, ...]:
        return tuple(replace(one, text=with_sudo(one.text)) for one in many)

    return Work(
        tuple(Operation(one.name, sent(one.act), sent(one.undo)) for one in work.operations),
        work.files,
    )


def asked(work: Work) -> list[str]:
    """Commands of a work that need root, without time limits, each once: to do it and to undo
    it.
    """
    texts = [c.text for one in work.operations for c in (*one.act, *one.undo)]
    plain = (_plain(text).removeprefix("sudo -n ") for text in texts)
    return list(dict.fromkeys(text for text in plain if needs(text)))


def question(texts: Iterable[str]) -> str:
    """A script that prints the number of each command that sudo allows: silence allows nothing."""
    return "\n".join(
        f"sudo -n -l -- {text} >/dev/null 2>&1 && echo {number}"
        for number, text in enumerate(texts)
    )


def rules(user: str, texts: Iterable[str]) -> list[str]:
    """Lines for sudoers (sudo 1.9.10 and later) that allow these commands with these arguments and
    no others; the run in a mark may be any.
    """
    found = []
    for text in texts:
        tool, *words = shlex.split(text)
        arguments = _RUN.sub("nimble-stone:RUN", " ".join(words))
        pattern = _SPECIAL.sub(r"\\\1", arguments).replace(
            "nimble-stone:RUN", "nimble-stone:g[0-9a-f]+"
        )
        found.append(f"{user} ALL=(root) NOPASSWD: {TOOLS.get(tool, tool)} ^{pattern}$")
    return list(dict.fromkeys(found))
