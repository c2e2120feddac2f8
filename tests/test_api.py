"""The whole story by `tidy_crate.api`, on a tiny scene and the real practice farm."""

from __future__ import annotations

import os
import re
import shutil
from pathlib import Path

import pytest

from conftest import usda
from tidy_crate import api
from tidy_crate.core.asset.search import SURE
from tidy_crate.core.errors import UnreadableInput, WrongUsage
from tidy_crate.core.progress import Step
from tidy_crate.core.work.options import SendOptions
from tidy_crate.core.work.task import Task, TaskRange
from tidy_crate.core.work.trust import NotTrusted
from tidy_crate.estimating import Ask, TimingSource
from tidy_crate.practice.farm import control
from tidy_crate.practice.farm.settings import FarmSettings

SCENE = """(
    startTimeCode = 1
    endTimeCode = 3
    timeCodesPerSecond = 24
    upAxis = "Z"
    renderSettingsPrimPath = "/Render/S"
)
def Xform "Ferry" { double3 xformOp:translate.timeSamples = { 1: (0, 0, 0), 3: (1, 0, 0) }
    uniform token[] xformOpOrder = ["xformOp:translate"]
    def Sphere "Lamp" { double radius = 1
        color3f[] primvars:displayColor = [(0.8, 0.4, 0.2)]
        asset note = @./textures/lamp.png@ } }
def Xform "Rig" { custom token tidy:simulation = "springFollow"
    custom double tidy:simulation:start = 1
    custom rel tidy:spring:target = </Ferry>
    custom double tidy:spring:frequency = 2
    custom double tidy:spring:dampingRatio = 0.5
    def Camera "Cam" { float horizontalAperture = 20
        float verticalAperture = 20
        float focalLength = 20
        double3 xformOp:translate = (0, -8, 0)
        float3 xformOp:rotateXYZ = (90, 0, 0)
        uniform token[] xformOpOrder = ["xformOp:translate", "xformOp:rotateXYZ"] } }
def DomeLight "Sky" { float inputs:intensity = 1 }
def "Render" {
    def RenderSettings "S" { rel camera = </Rig/Cam>
        rel products = </Render/Beauty>
        uniform int2 resolution = (32, 18)
        custom int practice:samples = 1 }
    def RenderProduct "Beauty" { token productName = "renders/pier_$F4.exr"
        rel orderedVars = [</Render/colour>] }
    def RenderVar "colour" { string sourceName = "beauty" }
}
"""
PROJECT = """[frame_tokens]
"$F4" = 4
[render]
command = [
  "{python}", "-m", "tidy_crate.practice.render", "{scene}", "--frames", "{frames}", "--into", "{output_folder}",
  "--frame-token", "$F4=4",
]
frame_done = 'frame (?P<frame>-?\\\\d+) done in (?P<seconds>[\\\\d.]+) s'
basis = "practice"
name = "practice"
version = "1.0"
"""


def test_the_whole_story_by_the_api(tmp_path: Path) -> None:
    user = api.User.here({"TIDY_CRATE_HOME": str(tmp_path / "home"), "PATH": os.environ["PATH"]})
    show = tmp_path / "show"
    show.mkdir()
    scene = show / "pier_v001.usda"
    scene.write_text(usda(SCENE))
    (show / "tidy-crate.toml").write_text(PROJECT.replace("\\\\", "\\"))
    (tmp_path / "archive" / "textures").mkdir(parents=True)
    (tmp_path / "archive" / "textures" / "lamp.png").write_bytes(b"\x89PNG\r\n\x1a\n")
    steps: list[Step] = []

    survey = api.survey(scene, user=user)
    assert survey.totals.needed_missing == 1 and survey.totals.live_simulations == 1
    assert not api.prove_order(scene, user=user).holds
    found = api.relink(scene, [tmp_path / "archive"], user=user)
    assert found.proposals[0].confidence >= SURE and found.applied == ()
    assert api.relink(scene, [tmp_path / "archive"], apply=True, user=user).still_missing == ()
    (planned,) = api.plan_bake(scene, user=user)
    assert planned.simulation == "/Rig" and not planned.up_to_date
    assert [one.simulation for one in api.bake(scene, user=user, progress=steps.append).baked] == ["/Rig"]
    assert api.bake(scene, user=user).up_to_date == ("/Rig",)
    assert not api.verify_caches(scene, user=user)[0].troubles
    assert steps and api.survey(scene, user=user).totals.live_simulations == 0
    blocked = api.check(scene, user=user)
    api.mend(scene, user=user)
    assert len(api.check(scene, user=user).findings) <= len(blocked.findings)

    crate = api.collect(scene, tmp_path / "pier.crate", user=user, progress=steps.append).crate
    with pytest.raises(NotTrusted, match="not trusted"):
        api.prove(crate, user=user)
    assert all(api.trust(show, user=user).trusted)
    assert api.prove(crate, user=user).whole
    timings = api.probe(crate, frames=2, user=user)
    assert timings.machine.cores > 0 and timings.renderer == "practice 1.0"

    farm = tmp_path / "farm"
    card = str(farm / "practice.farm.toml")
    control.start(farm, FarmSettings(nodes=2, startup_seconds=5))
    try:
        assert all(step.works for step in api.try_farm(card, user=user)[1])
        picked = api.estimate(crate, [card], user=user).estimate
        assert picked.pick is not None
        prepared = api.prepare(crate, card, SendOptions(batch=1), user=user)
        # a project's own frame token holds here too, though this process never opened the project
        assert not prepared.sending.errors and prepared.quote is not None
        # what differs from how it was packed is quoted by the same test frames
        fewer = api.prepare(crate, card, SendOptions(batch=1, frames="1-2"), user=user)
        assert fewer.quote is not None and fewer.quote.cost.likely <= prepared.quote.cost.likely
        sent = api.send(prepared, user=user, progress=steps.append)
        # E14: a farm that has the crate is asked for a quote of its own; E15: what is left of the job
        for target in (crate, sent.job):
            own = api.estimate(target, [card], Ask(ask_farms=True), user=user).estimate.own_quotes
            assert [(one.farm, one.binding) for one in own] == [("practice", False)] and own[0].cost > 0
        seen: list[str] = []
        api.track(sent.job, frames=False, follow=lambda view: seen.append(view.state), pause=0.05, user=user)
        into = tmp_path / "frames"
        home = api.retrieve(sent.job, into, follow=True, user=user)
        assert sorted(one.path.name for one in home.retrieved) == [f"pier_{frame:04d}.exr" for frame in (1, 2, 3)]
        assert api.review(sent.job, user=user).clean and api.review(into, expect=crate).clean
        assert api.to_rerender(sent.job, user=user).tasks == ()
        spoilt = next(one.path for one in home.retrieved if one.frame == 2)
        spoilt.write_bytes(b"spoilt on this disk, and as long as it was".ljust(spoilt.stat().st_size))
        assert not api.review(sent.job, user=user).clean
        wanted = api.to_rerender(sent.job, user=user)
        assert wanted.tasks == (Task("main", 2),)
        api.rerender(wanted, user=user)
        assert [one.attempt for one in api.retrieve(sent.job, into, follow=True, user=user).retrieved] == [2]
        assert api.review(sent.job, user=user).clean
        assert "done in" in api.log(sent.job, Task("main", 2), user=user)
        # a second submission of the same job, for one frame of it
        again = api.prepare(
            crate, card, SendOptions(batch=1), tasks=(TaskRange(request="main", frames="3"),), user=user
        )
        assert api.send(again, job=sent.job, user=user).job == sent.job
        both = api.retrieve(sent.job, into, follow=True, user=user)
        assert len(both.retrieved) == 1 and "set-aside" in str(both.retrieved[0].path) and both.at_home == 3
        view = api.track(sent.job, user=user)
        assert view.farms == ("practice", "practice") and view.total == 4 and view.cost
        assert [line.job for line in api.jobs(user=user)] == [sent.job]
        assert api.cancel(sent.job, user=user).state in ("done", "cancelled")
    finally:
        control.stop(farm)

    # collecting something else makes the timings those of another crate, and that is said
    api.collect(scene, crate, frames="1-2", user=user)
    with pytest.raises(UnreadableInput, match="collected again since"):
        api.estimate(crate, [card], user=user)
    assert "collected again since" in api.prepare(crate, card, user=user).no_quote
    old = TimingSource(accept_old=True)
    assert api.estimate(crate, [card], source=old, user=user).estimate.quotes
    # a finished job teaches the next estimate, and gives it timings
    assert {(one.job, one.farm) for one in api.estimate_accuracy(user=user)} == {(sent.job, "practice")}
    told = api.estimate(crate, [card], source=TimingSource(job=sent.job), user=user).estimate
    assert told.basis == "job" and told.quotes[0].corrected_by == 2
    with pytest.raises(WrongUsage, match="nothing is left"):
        api.estimate(sent.job, [], user=user)
    shutil.rmtree(tmp_path / "farm")


def test_the_example_in_the_docstring_uses_functions_that_exist() -> None:
    names = set(re.findall(r"api\.(\w+)\(", api.__doc__ or ""))
    assert names == {"trust", "bake", "collect", "prove", "send", "prepare", "retrieve", "review"}
    assert all(callable(getattr(api, name)) for name in names)
