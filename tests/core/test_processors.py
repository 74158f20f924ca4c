"""The processor that VMs of a bay get."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from nimble_stone.core.estate import Facts
from nimble_stone.core.processors import GENERATIONS, choose, newest
from tests.core.scene import codes, estate, findings, with_facts

NEW = ("Haswell-noTSX", "Broadwell-noTSX", "Cascadelake-Server")
OLD = ("Haswell-noTSX", "Broadwell-noTSX")


def host(name: str, models: tuple[str, ...], processor: str = "Menhir 24") -> Facts:
    return Facts(host=name, domain_type="kvm", cpu_model=processor, vm_processors=models)


def test_where_all_are_the_same_each_gives_its_own() -> None:
    assert choose([host("a", NEW), host("b", NEW)]).model == ""
    assert choose([]).model == ""
    # who was not asked, or emulates, does not count
    assert choose([host("a", NEW), Facts(host="b"), Facts(host="c", vm_processors=OLD)]).model == ""


def test_where_they_differ_all_give_the_newest_that_each_has() -> None:
    found = choose([host("a", NEW), host("b", OLD, "Menhir 18")])
    assert (found.model, found.mixed, found.none) == (
        "Broadwell-noTSX",
        ("Menhir 18", "Menhir 24"),
        False,
    )
    none = choose([host("a", ("EPYC",)), host("b", ("Nehalem",), "Menhir 18")])
    assert (none.model, none.none) == ("", True)


@given(st.lists(st.sets(st.sampled_from([*GENERATIONS, "qemu64", "acme"])), min_size=1, max_size=6))
def test_every_host_of_the_bay_has_it_and_no_newer_one_is_common(offers: list[set[str]]) -> None:
    bay = [host(f"h{n}", tuple(sorted(one)), f"cpu {n}") for n, one in enumerate(offers)]
    found = choose(bay)
    asked = [one for one in offers if one]
    if found.model:
        assert all(found.model in one for one in asked)
        rank = GENERATIONS.index(found.model)
        assert not set.intersection(*asked) & set(GENERATIONS[rank + 1 :])
    elif len(asked) > 1:
        assert found.none == (newest(set.intersection(*asked)) == "")


def test_a_plan_is_told_which_processor_its_vms_get() -> None:
    where = estate()
    for name in where.facts:
        where = with_facts(where, name, vm_processors=NEW, cpu_model="Menhir 24")
    assert not codes(where) & {"processor-common", "processor-differs"}
    mixed = with_facts(where, "fulmar", vm_processors=OLD, cpu_model="Menhir 18")
    [told] = [one for one in findings(mixed) if one.code == "processor-common"]
    assert told.severity == "note"
    assert "Menhir 18, Menhir 24" in told.message
    assert "Broadwell-noTSX" in told.message
    apart = with_facts(where, "fulmar", vm_processors=("EPYC",), cpu_model="Menhir 18")
    assert "processor-differs" in codes(apart)
