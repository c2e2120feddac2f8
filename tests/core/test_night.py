"""Nights of shots: lists, the plan against exhaustive search, and who has a turn when, without any farm."""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from concurrent.futures import Future
from concurrent.futures.process import BrokenProcessPool
from datetime import datetime
from decimal import Decimal
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tidy_crate.core.errors import TidyCrateError
from tidy_crate.core.estimate.model import Quote
from tidy_crate.core.money import Cost, Range
from tidy_crate.core.workflow.night import Night, Purse, ShotState
from tidy_crate.core.workflow.night_news import BETWEEN, GATHER, NightNews, news_of_end
from tidy_crate.core.workflow.night_plan import SLOWER, Limits, Plan, Way, finish, plan_night
from tidy_crate.core.workflow.night_standing import ShotWord, standing_of
from tidy_crate.core.workflow.shot_list import read_shot_list
from tidy_crate.core.workflow.standing import Question, Standing, StepName, StepState
from tidy_crate.core.workflow.turn import After, Bill, Turn

NOW = datetime.now().astimezone()
MACHINES = {("a", "m"): 3, ("b", "m"): 2}


# ---- the plan


@st.composite
def nights(draw: st.DrawFn) -> tuple[list[Way], dict[str, str], Limits]:
    shots = [f"s{at}" for at in range(draw(st.integers(1, 4)))]
    ways = []
    for shot in shots:
        for at in range(draw(st.integers(1, 3))):
            farm = draw(st.sampled_from(["a", "b"]))
            nodes = draw(st.integers(1, MACHINES[(farm, "m")]))
            cost = draw(st.integers(1, 40))
            ways.append(Way(shot, farm, "m", nodes, float(cost), cost * 0.8, float(draw(st.integers(10, 300))), at))
    priority = {shot: draw(st.sampled_from(["first", "normal", "last"])) for shot in shots}
    budget = draw(st.one_of(st.none(), st.integers(5, 120).map(float)))
    seconds = draw(st.one_of(st.none(), st.integers(20, 600).map(float)))
    return ways, priority, Limits(MACHINES, budget, seconds)


def choices(ways: Sequence[Way]) -> list[list[Way]]:
    """All plans: for each shot one of its ways, or none."""
    shots = list(dict.fromkeys(one.shot for one in ways))
    own = [[None, *(way for way in ways if way.shot == shot)] for shot in shots]
    return [[way for way in plan if way is not None] for plan in itertools.product(*own)]


def kept(plan: Sequence[Way], limits: Limits) -> bool:
    slack = 1e-6
    return (limits.budget is None or sum(one.cost for one in plan) <= limits.budget + slack) and (
        limits.seconds is None or finish(plan, limits) <= limits.seconds + slack
    )


def left_out(plan: Sequence[Way], priority: Mapping[str, str]) -> tuple[int, int, int]:
    """How many are left out, the highest priority first."""
    taken = {one.shot for one in plan}
    out = [priority[shot] for shot in priority if shot not in taken]
    return out.count("first"), out.count("normal"), out.count("last")


@settings(max_examples=60)
@given(nights())
def test_the_plan_is_as_good_as_the_best_of_all_plans(night: tuple[list[Way], dict[str, str], Limits]) -> None:
    ways, priority, limits = night
    plan = plan_night(ways, priority, limits)
    assert kept(plan.ways, limits) and len({one.shot for one in plan.ways}) == len(plan.ways)
    assert plan.seconds == finish(plan.ways, limits)
    if limits.budget is None and limits.seconds is None:
        assert not plan.left_out
        return
    able = [one for one in choices(ways) if kept(one, limits)]
    fewest = min(left_out(one, priority) for one in able)
    assert left_out(plan.ways, priority) == fewest
    same = [one for one in able if {w.shot for w in one} == {w.shot for w in plan.ways}]
    if limits.seconds is not None:
        assert plan.likely == pytest.approx(min(sum(w.likely for w in one) for one in same))
    else:
        within = (1 + SLOWER) * min(finish(one, limits) for one in same) * (1 + 1e-6)
        assert plan.seconds <= within
        cheapest = min(sum(w.likely for w in one) for one in same if finish(one, limits) <= within)
        assert plan.likely == pytest.approx(cheapest)


def test_a_large_night_keeps_its_limits_and_is_near_a_bound() -> None:
    ways = [
        Way(f"s{shot}", farm, "m", nodes, cost * 1.2, cost, seconds / nodes, at)
        for shot in range(200)
        for at, (farm, nodes, cost, seconds) in enumerate(
            (("a", 8, 4.0 + shot % 7, 900.0), ("b", 4, 2.0 + shot % 5, 1500.0), ("a", 2, 3.5 + shot % 7, 900.0))
        )
    ]
    machines = {("a", "m"): 40, ("b", "m"): 20}
    limits = Limits(machines, 1500.0, 4000.0)
    plan = plan_night(ways, {f"s{shot}": "normal" for shot in range(200)}, limits)
    assert kept(plan.ways, limits) and not plan.left_out
    cheapest = sum(min(w.likely for w in ways if w.shot == f"s{shot}") for shot in range(200))
    # what is left of the work when farm b is full has to be done at a, at a higher price
    assert cheapest <= plan.likely <= 1.35 * cheapest


def test_no_way_at_all_is_a_plan_without_shots() -> None:
    assert plan_night([], {}, Limits({}, 1.0)) == Plan((), (), 0.0, 0, 0)
    gone = [Way("s", "far", "m", 1, 1.0, 1.0, 1.0)]
    assert plan_night(gone, {"s": "first"}, Limits({}, 5.0)).left_out == ("s",)


# ---- lists


def written(folder: Path, text: str, name: str = "night.toml") -> Path:
    for scene in ("pier_v001.usda", "quay_v002.usda"):
        (folder / scene).write_text("#usda 1.0\n")
    (folder / name).write_text(text)
    return folder / name


def test_a_list_names_its_shots_and_fills_its_paths(tmp_path: Path) -> None:
    text = 'farms = ["gull", "cards/far.farm.toml"]\ncap = "5 EUR"\n[[shot]]\nscene = "pier_v001.usda"\n'
    text += (
        '[[shot]]\nname = "end"\nscene = "quay_v002.usda"\ncap = "9 EUR"\nrender = { frames = "1-4", camera = "/C" }\n'
    )
    found = read_shot_list(written(tmp_path, text), NOW)
    assert [one.name for one in found.shot] == ["pier", "end"]
    assert found.shot[0].scene == tmp_path / "pier_v001.usda"
    assert found.of(found.shot[0]).farms == ("gull", str(tmp_path / "cards/far.farm.toml"))
    assert [found.of(one).cap for one in found.shot] == ["5 EUR", "9 EUR"]
    assert found.shot[1].render.frames == "1-4" and found.shot[1].render.camera == "/C"


def test_a_list_as_production_sends_it(tmp_path: Path) -> None:
    text = (
        "\ufeffshot,scene\n"  # an unknown column is named
        "a,pier_v001.usda\n"
    )
    with pytest.raises(TidyCrateError, match="unknown column 'shot'"):
        read_shot_list(written(tmp_path, text, "night.csv"), NOW)
    text = "\ufeffname,scene,frames,size,farms,priority\nA,pier_v001.usda,1-8,1920x1080,gull far,first\n\n"
    text += ",quay_v002.usda,,,,\n"
    found = read_shot_list(written(tmp_path, text, "night.csv"), NOW)
    first, second = found.shot
    assert (first.name, first.render.resolution, first.farms, first.priority) == (
        "A",
        (1920, 1080),
        ("gull", "far"),
        "first",
    )
    assert second.name == "quay" and not second.render.says


PIER, QUAY = '[[shot]]\nscene = "pier_v001.usda"\n', '[[shot]]\nscene = "quay_v002.usda"\n'


@pytest.mark.parametrize(
    ("text", "said"),
    [
        (PIER + '[[shot]]\nscene = "./pier_v001.usda"\nname = "b"\n', "line 3.*|named twice"),
        ('[[shot]]\nscene = "gone.usda"\n', "no such scene"),
        (PIER + 'name = "x"\n' + QUAY + 'name = "x"\n', "one name"),
        ('finish_by = "2020-01-01 08:00"\n[[shot]]\nscene = "pier_v001.usda"\n', "this time is past"),
        ('budget = "9 EUR"\n[[shot]]\nscene = "pier_v001.usda"\ncap = "2 CHF"\n', "cap is in CHF, the budget in EUR"),
        ('budget = "9"\n[[shot]]\nscene = "pier_v001.usda"\n', "needs its currency"),
        ('into = "frames"\n' + PIER + QUAY, "one place for 'into'"),
        ('into = "{scene}"\n[[shot]]\nscene = "pier_v001.usda"\n', "may hold {shot} and nothing else"),
        ("title = 'empty'\nshot = []\n", "shot"),
        ('[[shot]]\nscene = "pier_v001.usda"\nframs = "1"\n', "unknown key 'frams'"),
        ('[[shot]]\nscene = "pier_v001.usda"\nrender = { frames = "x" }\n', "frames"),
        ('[[shot]]\nscene = "pier_v001.usda"\npriority = "soon"\n', "priority"),
    ],
)  # fmt: skip
def test_a_list_that_makes_no_sense_is_told_with_its_line(text: str, said: str, tmp_path: Path) -> None:
    with pytest.raises(TidyCrateError) as caught:
        read_shot_list(written(tmp_path, text), NOW)
    told = f"{caught.value} {caught.value.remedy}"
    assert any(part in told for part in said.split("|")) and (
        "line" in told or "finish_by" in text or "shot = []" in text
    )


# ---- turns


def quote(cost: float, seconds: float = 100.0, farm: str = "a") -> Quote:
    price = Cost(currency="EUR", low=Decimal(str(cost * 0.8)), likely=Decimal(str(cost * 0.9)), high=Decimal(str(cost)))
    return Quote(
        farm=farm, machine="m", nodes=1, batch=4, cost=price, basis="practice", eligible=True, parts=None,
        seconds=Range(low=seconds * 0.8, likely=seconds * 0.9, high=seconds),
    )  # fmt: skip


class World:
    """Turns without farms: a shot is offered, then at a farm for some looks, then done; or what a script says."""

    def __init__(
        self, script: Mapping[str, list[object]] | None = None, costs: Mapping[str, float] | None = None
    ) -> None:
        self.script = {name: list(turns) for name, turns in (script or {}).items()}
        self.costs = costs or {}
        self.took: list[str] = []
        self.sent: dict[str, Decimal] = {}
        self.billed: dict[str, Decimal] = {}
        # what could be spent at the worst, at any time
        self.most = Decimal(0)
        self.clock = 0.0

    def begin(self, shot: ShotState) -> Future[Turn]:
        self.took.append(shot.name)
        future: Future[Turn] = Future()
        told = self.script.get(shot.name)
        turn = told.pop(0) if told else self.usual(shot)
        if isinstance(turn, BaseException):
            future.set_exception(turn)
        else:
            future.set_result(turn)  # type: ignore[arg-type]
        return future

    def usual(self, shot: ShotState) -> Turn:
        cost = self.costs.get(shot.name, 2.0)
        if shot.place is None:
            return Turn(After.OFFERED, standing(StepName.SEND, StepState.PERSON), quotes=(quote(cost),))
        self.sent.setdefault(shot.name, shot.place.cap)
        open_caps = (cap for name, cap in self.sent.items() if name not in self.billed)
        self.most = max(self.most, sum(self.billed.values()) + sum(open_caps))
        job = f"{shot.name}-1"
        bill = Bill(Decimal(str(cost * 0.9)), "EUR", None)
        if self.took.count(shot.name) < 4:
            return Turn(After.FARM, standing(StepName.RENDER, StepState.FARM), job=job, bill=bill, seconds_left=30.0)
        self.billed[shot.name] = bill.billed
        return Turn(After.DONE, None, job=job, bill=bill)

    def now(self) -> float:
        self.clock += 2.0
        return self.clock

    def night(self, shots: Sequence[ShotState], budget: str | None, slots: int = 2) -> Night:
        purse = Purse(Decimal(budget) if budget is not None else None, "EUR", None)
        return Night(shots, self.begin, lambda _: slots, purse, lambda *_: 4, lambda amount, _: amount, self.now)


def standing(step: StepName, state: StepState) -> Standing:
    return Standing(step=step, state=state, said=f"{step} {state}", questions=(Question(text="why"),))


def shots(*names: str, priority: str = "normal", cap: str | None = None) -> list[ShotState]:
    return [ShotState(name, priority, Decimal(cap) if cap else None) for name in names]


def told(night: Night) -> dict[str, str]:
    return {one.shot: one.state.value for one in standing_of(night, "t", {}, None, "EUR", NOW, NOW).shots}


def test_a_night_comes_to_its_end_and_its_caps_are_within_the_budget() -> None:
    world = World()
    night = world.night(shots(*"abcdefgh"), "40")
    night.go(lambda _: None, tick=0.0)
    assert set(told(night).values()) == {ShotWord.DONE.value}
    assert world.most <= 40 and all(cap >= 2 for cap in world.sent.values())
    assert night.money.billed == {"EUR": Decimal("14.4")}


def test_what_the_budget_does_not_hold_is_left_out_by_priority() -> None:
    every = [*shots("late", priority="last"), *shots("a", "b"), *shots("first", priority="first")]
    world = World(costs={"first": 6.0, "a": 3.0, "b": 3.0, "late": 3.0})
    order = sorted(every, key=lambda one: ("first", "normal", "last").index(one.priority))
    night = world.night(order, "12")
    night.go(lambda _: None, tick=0.0)
    assert told(night)["late"] == ShotWord.LEFT_OUT.value
    assert set(world.sent) == {"first", "a", "b"} and world.most <= 12


def test_what_was_not_spent_goes_to_those_that_were_left_out() -> None:
    order = [*shots("first", priority="first"), *shots("a"), *shots("late", priority="last")]
    world = World(costs={"first": 6.0, "a": 3.0, "late": 3.0})
    night = world.night(order, "11.5")
    night.go(lambda _: None, tick=0.0)
    # 12 would be needed at once; the first two cost 8.10, so that 3.40 are left
    assert set(told(night).values()) == {"done"}
    assert world.sent["late"] >= 3 and world.most <= Decimal("11.5")


def test_without_budget_and_cap_nothing_is_sent() -> None:
    world = World()
    night = world.night([*shots("a"), *shots("b", cap="3")], None)
    night.go(lambda _: None, tick=0.0)
    assert set(world.sent) == {"b"} and world.sent["b"] == 3
    (asked,) = [one for one in standing_of(night, "t", {}, None, "EUR", NOW, NOW).shots if one.shot == "a"]
    assert asked.state is ShotWord.LEFT_OUT and "neither a budget nor a cap" in asked.said


def test_trouble_of_one_shot_holds_up_no_other() -> None:
    waits = Turn(After.PERSON, standing(StepName.CHECK, StepState.PERSON), {})
    failed = Turn(After.FAILED, standing(StepName.BAKE, StepState.FAILED), {})
    script = {"p": [waits] * 50, "f": [failed], "c": [BrokenProcessPool(), BrokenProcessPool()],
              "r": [BrokenProcessPool()], "e": [TidyCrateError("the disk is full", "/show")]}  # fmt: skip
    world = World(script)
    night = world.night(shots("p", "f", "c", "e", "r", "good"), "100", slots=3)
    night.go(lambda _: None, tick=0.0)
    assert told(night) == {
        "p": "waits for you", "f": "failed", "c": "failed", "e": "failed", "r": "done", "good": "done",
    }  # fmt: skip
    said = {one.shot: one.said for one in standing_of(night, "t", {}, None, "EUR", NOW, NOW).shots}
    assert "ended without a word" in said["c"] and said["e"] == "the disk is full: /show"


def test_a_process_that_ends_is_laid_to_the_shot_that_ends_it() -> None:
    """All turns of a pool break when one process ends: the others are no worse for it."""
    broken = [BrokenProcessPool()]
    world = World({"bad": broken * 9, "b": list(broken), "c": list(broken), "d": list(broken)})
    night = world.night(shots("bad", "b", "c", "d", "e"), "100", slots=4)
    night.go(lambda _: None, tick=0.0)
    assert told(night) == {"bad": "failed", "b": "done", "c": "done", "d": "done", "e": "done"}


def test_what_an_earlier_run_has_sent_counts_with_its_cap() -> None:
    """Killed and begun again, the budget is kept by what the farms were told."""
    bill = Bill(Decimal(1), "EUR", None, Decimal(30))
    there = Turn(After.FARM, standing(StepName.RENDER, StepState.FARM), job="old-1", bill=bill, seconds_left=9.0)
    world = World({"old": [there] * 6}, costs={"new": 15.0})
    night = world.night(shots("old", "new"), "40", slots=1)
    seen: list[str] = []

    def show(now: Night) -> None:
        if now.shots[0].after is After.FARM and now.shots[1].after is After.OFFERED:
            seen.append(now.shots[1].left_out)

    night.go(show, tick=0.0)
    # 30 of the 40 may still be spent: 15 are too much until it is done
    assert any(seen) and told(night) == {"old": "done", "new": "done"}


def test_a_shot_that_a_person_settles_meanwhile_goes_on() -> None:
    waits = Turn(After.PERSON, standing(StepName.CHECK, StepState.PERSON), {})
    # the other one takes long enough for a second look
    slow = [Turn(After.FARM, standing(StepName.RENDER, StepState.FARM), job="b-1")] * 20
    world = World({"a": [waits], "b": list(slow)})
    night = world.night(shots("a", "b"), "50")
    night.go(lambda _: None, tick=0.0)
    assert told(night)["a"] == "done"


# ---- what is told


def test_others_are_told_once_when_shots_need_a_person_and_how_it_ended() -> None:
    waits = Turn(After.PERSON, standing(StepName.CHECK, StepState.PERSON), {})
    world = World({"a": [waits] * 50, "b": [waits] * 50})
    night = world.night(shots("a", "b", "c"), "100")
    night.go(lambda _: None, tick=0.0)
    now = standing_of(night, "Thursday", {}, None, "EUR", NOW, NOW)
    news = NightNews()
    assert news.look(now, 0.0) is None and news.look(now, GATHER - 1) is None
    told = news.look(now, GATHER + 1)
    assert (
        told is not None and told.text == "Thursday: 2 shots need you" and told.details[0].startswith("a, check: why")
    )
    assert news.look(now, 10 * GATHER) is None, "it was told twice"
    # another question of the same shot is news again, but not at once
    other = now.shots[0].model_copy(update={"said": "something else"})
    later = now.model_copy(update={"shots": (other, *now.shots[1:])})
    assert news.look(later, GATHER + 2) is None and news.look(later, GATHER + 70) is None
    assert news.look(later, BETWEEN + GATHER + 2) is not None
    end = news_of_end(now)
    assert end.kind == "night-ended" and end.text == "Thursday: 1 of 3 shots are done, 2 need you"
    assert end.details[0] == "billed: 1.80 EUR"
