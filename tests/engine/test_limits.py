"""Slots shared between runs: never more than the limits, none left idle, nobody starved."""

from __future__ import annotations

from collections import Counter

from hypothesis import given
from hypothesis import strategies as st

from nimble_stone.core.sequence import Limits
from nimble_stone.core.step import Step
from nimble_stone.ports.limits import Limiter


def step(key: str, host: str = "h", store: str = "") -> Step:
    return Step(key, "clone", key, "", host, store, 0, (), 1.0, 2.0)


class Runs:
    """Runs that finish their steps when told to."""

    def __init__(self, limits: Limits) -> None:
        self.limiter = Limiter(limits)
        self.left: dict[str, dict[str, Step]] = {}
        self.working: dict[str, set[str]] = {}

    def begin(self, run: str, steps: list[Step]) -> None:
        self.left[run] = {one.key: one for one in steps}
        self.working[run] = set()
        self.look(run)

    def look(self, run: str) -> None:
        self.working[run] = self.limiter.want(
            run,
            [one for key, one in self.left[run].items() if key not in self.working[run]],
            lambda: self.look(run),
        )

    def finish(self, run: str, key: str) -> None:
        del self.left[run][key]
        self.working[run].discard(key)
        self.limiter.release(run, key)
        self.look(run)

    @property
    def busy(self) -> list[Step]:
        return [self.left[run][key] for run, keys in self.working.items() for key in keys]


def test_two_runs_on_one_host_share_its_slots() -> None:
    runs = Runs(Limits(per_host=2, per_datastore=9, overall=9))
    runs.begin("a", [step(f"a{n}") for n in range(6)])
    runs.begin("b", [step(f"b{n}") for n in range(6)])
    assert (len(runs.working["a"]), len(runs.working["b"])) == (2, 0)
    runs.finish("a", min(runs.working["a"]))
    assert (len(runs.working["a"]), len(runs.working["b"])) == (1, 1)
    assert runs.limiter.why("b") == {
        f"b{n}": "limit of 2 steps on h reached"
        for n in range(6)
        if f"b{n}" not in runs.working["b"]
    }
    assert runs.limiter.shares() == {"a": (1, 4), "b": (1, 5)}


def test_other_limits_hold_from_now_on() -> None:
    runs = Runs(Limits(1, 1, 1))
    runs.begin("a", [step(f"a{n}", host=f"h{n}") for n in range(4)])
    assert len(runs.working["a"]) == 1
    runs.limiter.change(Limits(2, 2, 3))
    assert len(runs.working["a"]) == 3
    runs.limiter.leave("a")
    assert runs.limiter.shares() == {}


STEPS = st.lists(st.tuples(st.sampled_from("xyz"), st.sampled_from(["", "s", "t"])), max_size=8)


@given(
    st.lists(STEPS, min_size=1, max_size=4),
    st.integers(1, 3),
    st.integers(1, 3),
    st.integers(1, 5),
    st.randoms(use_true_random=False),
)
def test_limits_hold_nothing_idles_and_every_run_ends(
    wanted: list[list[tuple[str, str]]], host: int, store: int, overall: int, random: object
) -> None:
    runs = Runs(Limits(host, store, overall))
    for number, steps in enumerate(wanted):
        runs.begin(f"r{number}", [step(f"{number}.{n}", *one) for n, one in enumerate(steps)])
    while runs.busy:
        busy = runs.busy
        assert len(busy) <= overall
        assert max(Counter(one.host for one in busy).values()) <= host
        assert (
            max(
                Counter((one.host, one.datastore) for one in busy if one.datastore).values(),
                default=0,
            )
            <= store
        )
        for run in runs.left:
            # whoever waits is kept by a limit
            assert all(runs.limiter.why(run).values())
        run, key = random.choice(
            [(run, key) for run, keys in runs.working.items() for key in sorted(keys)]
        )  # type: ignore[attr-defined]
        runs.finish(run, key)
    assert not any(runs.left.values())


@given(st.integers(2, 5))
def test_a_run_that_has_fewest_goes_first(count: int) -> None:
    runs = Runs(Limits(count, 9, count))
    for number in range(count):
        runs.begin(f"r{number}", [step(f"{number}.{n}") for n in range(10)])
    for _ in range(count):
        run = max(runs.working, key=lambda name: len(runs.working[name]))
        runs.finish(run, min(runs.working[run]))
    assert {len(keys) for keys in runs.working.values()} == {1}
