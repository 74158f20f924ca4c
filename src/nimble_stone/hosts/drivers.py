"""Which driver a kind of host has. A further kind is a folder beside `kvm/` and a line here."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Iterable
from dataclasses import dataclass

from nimble_stone.core import preparation as prep
from nimble_stone.core.estate import Datastore
from nimble_stone.hosts import kvm
from nimble_stone.hosts.api import FirstLook, HostDriver, Recorder, no_record
from nimble_stone.hosts.work import Work
from nimble_stone.reach import Reach, Target


@dataclass(frozen=True)
class Kind:
    """All that is known of a kind of host: its driver, what is asked before it is one of ours, and
    what would be sent to prepare it.
    """

    driver: Callable[[Reach, Target, Recorder], HostDriver]
    first_look: Callable[[Reach, Target, str], Awaitable[FirstLook]]
    work: Callable[[prep.Action, str, Datastore | None], Work]
    as_account: Callable[[Work], Work]
    """The work as an account sends it that is not root."""
    rules: Callable[[str, Iterable[str]], list[str]]
    """What an account's administrator has to allow for commands."""


KINDS = {"kvm": Kind(kvm.KvmHost, kvm.first_look, kvm.work, kvm.sudo.as_account, kvm.sudo.rules)}


def driver(kind: str, reach: Reach, target: Target, record: Recorder = no_record) -> HostDriver:
    """The driver of a host of that kind."""
    return KINDS[kind].driver(reach, target, record)
