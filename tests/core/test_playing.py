"""When the files of value clips play, compared with what plain USD plays."""

from __future__ import annotations

import os
from pathlib import Path

import pytest
from pxr import Usd

from conftest import ANY, open_trusted, usda
from tidy_crate.core.check.run import check_scene
from tidy_crate.core.crate.collect import collect
from tidy_crate.core.crate.packing import read_packing_list
from tidy_crate.core.crate.prove import prove
from tidy_crate.core.scene.playing import has_own_times, spans

RENDER = """def RenderSettings "R" { int2 resolution = (4, 4)
 rel camera = </C>
 rel products = </R/P>
 def RenderProduct "P" { token productName = "x.####.exr"
  rel orderedVars = </R/P/V>
  def RenderVar "V" { token sourceName = "Ci" } } }
def Camera "C" {}
"""
REFERS = "(references = @./sea.usda@</Sea> (offset = {offset}; scale = {scale})) {{}}"
"""Each way in which the clips come into the scene, with what USD does to their times."""
WAYS = {
    "sublayer-offset": "(\n subLayers = [ @./sea.usda@ (offset = {offset}; scale = {scale}) ]\n{head})\n",
    "reference": f'(\n{{head}})\ndef "World" {{{{ def "Sea" {REFERS} }}}}\n',
    "rate": f'(\n timeCodesPerSecond = 24\n{{head}})\ndef "Sea" {REFERS}\n',
}


def write(folder: Path, first: int, last: int, stride: int = 1, shift: float = 0.0, rate: int = 24) -> None:
    """Write clips whose height at any time is the number of the file, so that it tells which one plays."""
    (folder / "sea").mkdir(parents=True)
    (folder / "sea/manifest.usda").write_text(usda('def "Sea" { double height }'))
    for number in range(first, last + 1, stride):
        body = f'def "Sea" {{ double height.timeSamples = {{ {number - 50}: {number}, {number + 50}: {number} }} }}'
        (folder / f"sea/sea.{number:04d}.usda").write_text(usda(body))
    shifted = f"double templateActiveOffset = {shift}\n" if shift else ""
    (folder / "sea.usda").write_text(
        usda(f"""(
 timeCodesPerSecond = {rate}
)
def "Sea" ( clips = {{ dictionary default = {{ string templateAssetPath = "./sea/sea.####.usda"
    double templateStartTime = {first}
    double templateEndTime = {last}
    double templateStride = {stride}
    {shifted}asset manifestAssetPath = @./sea/manifest.usda@
    string primPath = "/Sea" }} }} ) {{}}
""")
    )


def heights(scene: Path, frames: range) -> list[float]:
    stage = Usd.Stage.Open(str(scene))
    prim = next(prim for prim in stage.Traverse() if prim.GetName() == "Sea")
    return [prim.GetAttribute("height").Get(frame) for frame in frames]


@pytest.mark.parametrize("way", WAYS)
@pytest.mark.parametrize(
    ("offset", "scale", "stride", "shift", "rate"),
    [(-500, 1, 1, 0, 24), (0, 1, 1, 0, 24), (300, 0.5, 1, 0, 24), (-1000, 2, 2, 0, 24), (-500, 1, 4, 2, 24),
     (-500, 1, 4, -1.5, 24), (-250, 1, 1, 0, 48)],
)  # fmt: skip
def test_only_the_clips_that_play_travel_and_all_of_them_do(
    tmp_path: Path, way: str, offset: float, scale: float, stride: int, shift: float, rate: int
) -> None:
    show, frames = tmp_path / "show", range(1001, 1011)
    write(show, 1001, 1600, stride, shift, rate)
    head = f" startTimeCode = {frames[0]}\n endTimeCode = {frames[-1]}\n"
    scene = show / "s.usda"
    scene.write_text(usda(WAYS[way].format(offset=offset, scale=scale, head=head) + RENDER))
    before = heights(scene, frames)
    crate = tmp_path / "c.crate"
    collect(open_trusted(scene), crate, needed_frames_only=True)
    assert heights(crate / "s.usda", frames) == before
    kept = {int(one.path[-9:-5]) for one in read_packing_list(crate).files if one.path[-9:-5].isdigit()}
    # a height between two numbers is interpolated between two files
    played = {number for one in before for number in range(1001, 1601, stride) if abs(number - one) < stride - 1e-6}
    assert played <= kept and len(kept) <= len(played) + 2
    assert prove(crate, os.environ, ANY, test=False).whole


@pytest.mark.parametrize(("offset", "told"), [(-500, ()), (-600, ("501",)), (200, ("1301",)), (0, ())])
def test_a_range_beyond_the_clips_is_told_in_the_scenes_time(
    tmp_path: Path, offset: int, told: tuple[str, ...]
) -> None:
    """Clips are compared with the range where they play, not by the numbers of their files."""
    first, last = (1001, 1600) if offset in (-500, 0) else (1101, 1130)
    write(tmp_path, first, last)
    head = " startTimeCode = 1001\n endTimeCode = 1010\n"
    scene = tmp_path / "s.usda"
    scene.write_text(usda(WAYS["sublayer-offset"].format(offset=offset, scale=1, head=head) + RENDER))
    context = open_trusted(scene)
    (clips,) = [one for one in context.survey().assets if has_own_times(one)]
    assert spans(clips) == [(first + offset, last + 1 + offset)]
    found = [one for one in check_scene(context).findings if one.code.startswith("sequence")]
    assert [one.code for one in found] == ["sequence-range-not-covered"] * len(told)
    for one, word in zip(found, told, strict=True):
        assert word in str(one)
