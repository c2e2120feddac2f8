"""Finding what went missing, and what decisions do to a scene."""

from __future__ import annotations

import os
import subprocess
import sys
import unicodedata
from pathlib import Path

import pytest

from conftest import Run, open_trusted, usda
from tidy_crate.core.context.relink import apply_relinks, let_go, missing, propose, written_path
from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.crate.collect import collect
from tidy_crate.core.crate.collect_cache import collected_contents
from tidy_crate.core.errors import UnreadableInput, WrongUsage
from tidy_crate.core.scene.model import Asset, Status


def show(tmp_path: Path, body: str, *files: str) -> SceneContext:
    """A scene with some files around it."""
    for name in files:
        (tmp_path / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / name).write_bytes(name.encode())
    scene = tmp_path / "show" / "s.usda"
    scene.parent.mkdir(exist_ok=True)
    scene.write_text(usda(f'def Sphere "S" {{ {body} }}'))
    return open_trusted(scene)


def again(context: SceneContext) -> dict[str, Asset]:
    return {asset.authored: asset for asset in open_trusted(context.scene).survey().assets}


def test_r4_a_mapped_drive_wins_over_a_file_of_the_same_name(tmp_path: Path) -> None:
    context = show(tmp_path, "asset a = @X:/tex/a.png@", "new/tex/a.png", "other/tex/a.png")
    found = propose(context.survey(), [tmp_path / "other"], [("X:", str(tmp_path / "new"))])
    assert [(one.candidate, one.sure) for one in found] == [
        (tmp_path / "new/tex/a.png", True), (tmp_path / "other/tex/a.png", False),
    ]  # fmt: skip
    assert "X:" in found[0].reason


def test_r4_a_whole_folder_that_moved_is_relinked_at_once(tmp_path: Path) -> None:
    names = [f"asset f{n} = @/gone/tex/f{n}.png@" for n in range(20)]
    context = show(tmp_path, "\n".join(names), *[f"new/f{n}.png" for n in range(20)])
    taken = apply_relinks(context, propose(context.survey(), [], [("/gone/tex", str(tmp_path / "new"))]))
    assert len(taken) == 20
    assert all(asset.status is Status.FOUND and asset.relinked for asset in again(context).values())


def test_r4_tile_sets_and_sequences_are_found_as_sets(tmp_path: Path) -> None:
    body = "asset t = @/gone/boat/t.<UDIM>.png@\nasset s = @/gone/boat/s.####.exr@"
    new = ["t.1001.png", "t.1002.png", "s.0001.exr", "s.0002.exr"]
    context = show(tmp_path, body, *[f"new/deep/boat/{name}" for name in new])
    apply_relinks(context, propose(context.survey(), [tmp_path / "new"], []))
    found = again(context)
    assert [member.tile for member in found["/gone/boat/t.<UDIM>.png"].members] == [1001, 1002]
    assert [member.frame for member in found["/gone/boat/s.####.exr"].members] == [1, 2]


def test_r4_two_candidates_that_nothing_tells_apart_are_not_decided(tmp_path: Path) -> None:
    context = show(tmp_path, "asset a = @/gone/a.png@", "new/one/a.png", "new/two/a.png")
    found = propose(context.survey(), [tmp_path / "new"], [])
    assert len(found) == 2 and not any(one.sure for one in found)
    assert apply_relinks(context, found) == ()
    assert not context.file.path.exists()


def test_r4_another_case_is_sure_in_its_place_and_only_proposed_elsewhere(tmp_path: Path) -> None:
    """On some systems a name in another case is the same name; elsewhere it may be another file."""
    context = show(tmp_path, "asset a = @./Tex/Wood.PNG@", "show/tex/wood.png", "else/wood.png")
    (one, *_) = propose(context.survey(), [tmp_path / "show"], [])
    assert (
        one.candidate == tmp_path / "show/tex/wood.png" and one.sure and one.reason == "the same place, in another case"
    )
    assert not any(one.sure for one in propose(context.survey(), [tmp_path / "else"], []))


def test_r4_two_names_that_differ_in_case_only_are_not_decided(tmp_path: Path) -> None:
    context = show(tmp_path, "asset a = @./Wood.PNG@", "show/wood.png")
    (tmp_path / "show/WOOD.png").write_bytes(b"another")
    if len(list((tmp_path / "show").glob("[wW]*.png"))) < 2:
        pytest.skip("this disk takes both names for one")
    assert not any(one.sure for one in propose(context.survey(), [tmp_path / "show"], []))


def test_r4_a_mapped_prefix_whose_rest_is_in_another_case_is_proposed_with_the_reason(tmp_path: Path) -> None:
    context = show(
        tmp_path,
        "asset a = @P:/Tex/Wood.PNG@\nasset b = @P:/Tex/seq.####.exr@",
        "new/tex/wood.png",
        "new/tex/seq.0001.exr",
    )
    found = propose(context.survey(), [], [("P:", str(tmp_path / "new"))])
    assert {one.candidate for one in found} == {tmp_path / "new/tex/wood.png", tmp_path / "new/tex/seq.####.exr"}
    assert not any(one.sure for one in found) and all("in another case" in one.reason for one in found)


@pytest.mark.parametrize("written", ["\\\\?\\P:\\tex\\a.png", "P:tex\\a.png", "//?/P:/tex/a.png", "P:\\tex\\a.png"])
def test_r4_a_drive_is_mapped_however_windows_writes_it(tmp_path: Path, written: str) -> None:
    context = show(tmp_path, f"asset a = @{written}@", "new/tex/a.png")
    (one,) = propose(context.survey(), [], [("P:", str(tmp_path / "new"))])
    assert one.candidate == tmp_path / "new/tex/a.png" and one.sure


def test_a_later_decision_takes_the_place_of_an_earlier_one(tmp_path: Path) -> None:
    context = show(tmp_path, "asset a = @/gone/tex/a.png@", "new/tex/a.png")
    (asset,) = missing(context.survey())
    context.file.add("relink", [{"asset": asset.id, "to": "../wrong/a.png"}])
    context = open_trusted(context.scene)
    assert missing(context.survey())
    apply_relinks(context, propose(context.survey(), [tmp_path / "new"], []))
    assert len(open_trusted(context.scene).decisions.relink) == 1
    assert again(context)["/gone/tex/a.png"].status is Status.FOUND


def test_a_decision_by_pattern_holds_for_all_that_match_and_an_id_wins(tmp_path: Path) -> None:
    body = "asset a = @/gone/a.png@\nasset b = @/gone/b.png@\nasset c = @/other/c.png@"
    context = show(tmp_path, body, "stand_in.png", "own.png")
    ids = {asset.authored: asset.id for asset in context.survey().assets}
    context.file.add("relink", [{"authored": "/gone/*", "to": "../stand_in.png"}])
    context.file.add("relink", [{"asset": ids["/gone/b.png"], "to": "../own.png"}])
    found = again(context)
    assert found["/gone/a.png"].resolved == tmp_path / "stand_in.png"
    assert found["/gone/b.png"].resolved == tmp_path / "own.png"
    assert found["/other/c.png"].status is Status.MISSING


def test_a_decision_names_files_of_the_project_from_the_scenes_folder(tmp_path: Path) -> None:
    context = show(tmp_path, "asset a = @./a.png@")
    assert written_path(tmp_path / "show" / "tex" / "a.png", context) == "tex/a.png"
    assert written_path(tmp_path / "far" / "a.png", context) == (tmp_path / "far/a.png").as_posix()


def test_r5_what_is_let_go_is_missing_no_more_but_what_is_there_cannot_be(tmp_path: Path) -> None:
    context = show(tmp_path, "asset a = @./a.png@\nasset b = @./b.png@", "show/b.png")
    let_go(context, context.survey(), "./a.png", "behind the wall")
    assert missing(open_trusted(context.scene).survey()) == []
    assert again(context)["./a.png"].because == "behind the wall"
    for wrong in ("./b.png", "nothing", "./a.png"):
        with pytest.raises(WrongUsage, match="nothing missing"):
            let_go(open_trusted(context.scene), open_trusted(context.scene).survey(), wrong, "x")


def test_a_folder_to_look_in_that_is_not_there_is_named(tmp_path: Path) -> None:
    context = show(tmp_path, "asset a = @./a.png@")
    with pytest.raises(UnreadableInput, match="no such folder"):
        propose(context.survey(), [tmp_path / "gone"], [])


def test_links_in_a_circle_do_not_hold_the_search_up(tmp_path: Path) -> None:
    context = show(tmp_path, "asset a = @/gone/a.png@", "new/a.png")
    (tmp_path / "new" / "loop").symlink_to(tmp_path / "new")
    assert len(propose(context.survey(), [tmp_path / "new"], [])) == 1


def test_r4_a_folder_that_moved_is_one_decision_that_later_files_follow(tmp_path: Path) -> None:
    body = "\n".join(f"asset f{n} = @Q:\\show\\tex\\f{n}.png@" for n in range(4)) + "\nasset k = @./k.png@"
    context = show(tmp_path, body, *[f"new/tex/f{n}.png" for n in range(5)], "show/k.png")
    survey = context.survey()
    assert len(apply_relinks(context, propose(survey, [tmp_path / "new"], []), survey)) == 4
    (decision,) = open_trusted(context.scene).decisions.relink
    assert (decision.folder, decision.to) == ("Q:/show", (tmp_path / "new").as_posix())
    found = again(context)
    assert all(asset.status is Status.FOUND for asset in found.values())
    # the next version of the scene names one more file of that folder
    context.scene.write_text(usda(f'def Sphere "S" {{ {body}\nasset f4 = @q:/show/tex/f4.png@ }}'))
    assert again(context)["q:/show/tex/f4.png"].resolved == tmp_path / "new" / "tex" / "f4.png"
    # a decision of its own still wins
    context.file.add("relink", [{"authored": "*f4.png", "to": (tmp_path / "show" / "k.png").as_posix()}])
    assert again(context)["q:/show/tex/f4.png"].resolved == tmp_path / "show" / "k.png"


def test_r4_no_folder_is_moved_under_files_that_are_where_they_should_be(tmp_path: Path) -> None:
    body = "\n".join(f"asset f{n} = @./tex/f{n}.png@" for n in range(5))
    context = show(tmp_path, body, "show/tex/f4.png", *[f"new/f{n}.png" for n in range(4)])
    survey = context.survey()
    apply_relinks(context, propose(survey, [tmp_path / "new"], []), survey)
    assert all(decision.folder is None for decision in open_trusted(context.scene).decisions.relink)
    assert all(asset.status is Status.FOUND for asset in again(context).values())


def test_r4_the_folder_that_explains_most_wins_where_names_are_alike(tmp_path: Path) -> None:
    names = [f"asset f{n} = @/gone/f{n}.png@" for n in range(3)]
    context = show(tmp_path, "\n".join(names), *[f"new/one/f{n}.png" for n in range(3)], "new/two/f0.png")
    found = [one for one in propose(context.survey(), [tmp_path / "new"], []) if one.sure]
    assert {one.candidate.parent.name for one in found} == {"one"} and len(found) == 3
    assert "3 missing files are in that folder" in next(one.reason for one in found if one.authored == "/gone/f0.png")


def test_r4_a_file_known_by_its_content_is_found_under_any_name(tmp_path: Path) -> None:
    context = show(tmp_path, "asset a = @./a.png@\nasset b = @./b.png@", "show/a.png", "show/b.png")
    collect(context, tmp_path / "out" / "c.crate")
    (tmp_path / "moved").mkdir()
    (tmp_path / "show" / "a.png").rename(tmp_path / "moved" / "renamed.tif")
    (tmp_path / "show" / "b.png").unlink()
    (tmp_path / "moved" / "b.png").write_bytes(b"another one altogether")
    (tmp_path / "moved" / "same_size.png").write_bytes(b"x" * len(b"show/a.png"))
    context = open_trusted(context.scene)
    found = propose(context.survey(), [tmp_path / "moved"], [], collected_contents(context.tidy))
    assert [(one.authored, one.candidate.name, one.sure) for one in found] == [
        ("./a.png", "renamed.tif", True), ("./b.png", "b.png", False),
    ]  # fmt: skip
    assert "other content" in found[1].reason


def test_another_unicode_form_of_a_name_is_the_same_name(tmp_path: Path) -> None:
    composed, decomposed = (unicodedata.normalize(form, "tür.png") for form in ("NFC", "NFD"))
    context = show(tmp_path, f"asset a = @/gone/boat/{composed}@", f"new/boat/{decomposed}")
    if (tmp_path / "new" / "boat" / composed).exists():
        pytest.skip("this file system takes both for one")
    (one,) = propose(context.survey(), [tmp_path / "new"], [])
    assert one.sure and "Unicode form" in one.reason


@pytest.mark.skipif(sys.platform == "win32", reason="a terminal of its own is only had by POSIX")
def test_r4_candidates_are_chosen_at_a_terminal_and_only_there(tmp_path: Path, run: Run) -> None:
    import pty

    names = "\n".join(f"asset f{n} = @/gone/f{n}.png@" for n in range(3))
    files = [f"new/{folder}/f{n}.png" for folder in ("one", "two") for n in range(3)]
    context = show(tmp_path, names, *files)
    refused = run.here("relink", context.scene, "--look-in", tmp_path / "new", "--ask")
    assert refused.code == 2 and "choosing needs a terminal" in refused.err
    line = [
        sys.executable,
        "-m",
        "tidy_crate",
        "relink",
        str(context.scene),
        "--look-in",
        str(tmp_path / "new"),
        "--ask",
    ]
    leader, follower = pty.openpty()
    # a wrong answer is asked again; then the second candidate, and all that moved with it
    os.write(leader, b"9\n2a\n")
    done = subprocess.run(
        [*line, "--ask"], stdin=follower, capture_output=True, env=run.environment, timeout=60, check=False
    )
    os.close(leader)
    os.close(follower)
    assert done.returncode == 0, done.stderr.decode()
    chosen = {asset.resolved for asset in again(context).values()}
    assert chosen == {tmp_path / "new" / "two" / f"f{n}.png" for n in range(3)}


PNG = b"\x89PNG\r\n\x1a\n" + bytes(32)


def sure(context: SceneContext, *look_in: Path, maps: tuple[tuple[str, str], ...] = ()) -> dict[str, str]:
    """Return what would be decided unasked: the file as written, and what takes its place."""
    found = propose(context.survey(), look_in, maps, collected_contents(context.tidy))
    return {one.authored: one.candidate.as_posix() for one in found if one.sure}


@pytest.mark.parametrize(
    ("authored", "there", "is_sure"),
    [
        ("/gone/diffuse.png", "new/other/diffuse.png", False),
        ("/gone/diffuse.png", "new/diffuse.png", False),
        ("/gone/chair/textures/diffuse.png", "new/table/textures/diffuse.png", False),
        ("/gone/chair/v002/tex/diffuse.png", "new/table/v002/tex/diffuse.png", False),
        ("/gone/chair/textures/diffuse.png", "new/props/chair/textures/diffuse.png", True),
        ("/gone/chair/diffuse.png", "new/props/chair/diffuse.png", True),
        ("/gone/textures/diffuse.png", "new/textures/diffuse.png", True),
        ("Q:\\gone\\Chair\\diffuse.png", "new/props/chair/diffuse.png", True),
        ("/gone/chair/Diffuse.png", "new/props/chair/diffuse.png", False),
    ],
)
def test_a_name_alone_is_a_candidate_and_a_folder_that_tells_something_is_proof(
    authored: str, there: str, is_sure: bool, tmp_path: Path
) -> None:
    context = show(tmp_path, f"asset a = @{authored}@", there)
    assert sure(context, tmp_path / "new") == ({authored: str(tmp_path / there)} if is_sure else {})
    (one,) = propose(context.survey(), [tmp_path / "new"], [])
    assert one.candidate == tmp_path / there


def test_one_file_does_not_stand_for_two_different_missing_ones(tmp_path: Path) -> None:
    # each on its own would be sure; both cannot be right
    body = "asset a = @/gone/north/chair/d.png@\nasset b = @/gone/south/chair/d.png@"
    context = show(tmp_path, body, "new/props/chair/d.png")
    assert sure(context, tmp_path / "new") == {}
    reasons = {one.reason for one in propose(context.survey(), [tmp_path / "new"], [])}
    assert len(reasons) == 1 and "2 different missing files would become d.png" in reasons.pop()
    # one that fits better takes it, and the other is asked about
    (tmp_path / "new/south/chair").mkdir(parents=True)
    (tmp_path / "new/props/chair/d.png").rename(tmp_path / "new/south/chair/d.png")
    assert list(sure(context, tmp_path / "new")) == ["/gone/south/chair/d.png"]


def test_one_missing_file_in_two_spellings_is_one_file(tmp_path: Path) -> None:
    body = "asset a = @Q:/show/chair/d.png@\nasset b = @q:\\show\\chair\\d.png@"
    context = show(tmp_path, body, "new/props/chair/d.png")
    assert len(sure(context, tmp_path / "new")) == 2


def test_the_user_may_map_two_drives_to_one_folder(tmp_path: Path) -> None:
    context = show(tmp_path, "asset a = @X:/tex/a.png@\nasset b = @Y:/tex/a.png@", "new/tex/a.png")
    new = str(tmp_path / "new")
    assert len(sure(context, maps=(("X:", new), ("Y:", new)))) == 2


def test_three_names_of_one_folder_are_no_proof_where_the_scene_uses_them_already(tmp_path: Path) -> None:
    names = ("d", "n", "r")
    body = "\n".join(f"asset x{n} = @/gone/chair/{n}.png@\nasset y{n} = @../table/{n}.png@" for n in names)
    context = show(tmp_path, body, *[f"table/{n}.png" for n in names])
    assert sure(context, tmp_path) == {}
    # in a folder that nothing else uses they are a folder that moved
    (tmp_path / "table").rename(tmp_path / "moved")
    context.scene.write_text(
        usda('def Sphere "S" { ' + "\n".join(f"asset x{n} = @/gone/chair/{n}.png@" for n in names) + " }")
    )
    assert len(sure(context, tmp_path)) == 3


@pytest.mark.parametrize("mapped", [False, True])
def test_a_plate_of_half_the_frames_is_no_decision(mapped: bool, tmp_path: Path) -> None:
    scene = tmp_path / "show" / "s.usda"
    scene.parent.mkdir()
    scene.write_text(
        "#usda 1.0\n(\n    startTimeCode = 1\n    endTimeCode = 10\n)\n"
        'def Sphere "S" {\n    asset plate = @/gone/boat/plate.####.png@\n}\n'
    )
    folder = tmp_path / "new" / "boat"
    folder.mkdir(parents=True)
    for frame in (1, 2, 3, 4, 10):
        (folder / f"plate.{frame:04d}.png").write_bytes(PNG)
    context = open_trusted(scene)
    look_in, maps = ([], [("/gone", str(tmp_path / "new"))]) if mapped else ([tmp_path / "new"], [])
    (one,) = propose(context.survey(), look_in, maps)
    assert not one.sure and "only 5 of the 10 frames 1-10 are there" in one.reason
    for frame in range(5, 10):
        (folder / f"plate.{frame:04d}.png").write_bytes(PNG)
    (one,) = propose(context.survey(), look_in, maps)
    assert one.sure


def test_tiles_are_compared_with_those_that_were_collected_last(tmp_path: Path) -> None:
    tiles = [f"t.{tile}.png" for tile in (1001, 1002, 1011)]
    context = show(tmp_path, "asset t = @./boat/t.<UDIM>.png@", *[f"show/boat/{name}" for name in tiles])
    collect(context, tmp_path / "out" / "c.crate")
    (tmp_path / "new").mkdir()
    (tmp_path / "show/boat").rename(tmp_path / "new/boat")
    (tmp_path / "new/boat/t.1011.png").rename(tmp_path / "t.1011.png")
    context = open_trusted(context.scene)
    (one,) = propose(context.survey(), [tmp_path / "new"], [], collected_contents(context.tidy))
    assert not one.sure and "only 2 of the 3 tiles 1001-1011 are there" in one.reason
    (tmp_path / "new/boat/t.1011.png").write_bytes(b"painted again")
    (one,) = propose(context.survey(), [tmp_path / "new"], [], collected_contents(context.tidy))
    assert not one.sure and "other content than when it was last collected" in one.reason
    (tmp_path / "t.1011.png").replace(tmp_path / "new/boat/t.1011.png")
    assert sure(context, tmp_path / "new")


@pytest.mark.parametrize(
    ("content", "message"),
    [(b"", "a.png is empty"), (b"\xff\xd8\xff\xe0" + bytes(40), "a.png is JPEG"),
     (b"version https://git-lfs.example/spec/v1\n", "a pointer that version control left"),
     (b"<html><body>Not found</body></html>", "a web page"), (PNG, None)],
)  # fmt: skip
def test_what_is_found_is_looked_into(content: bytes, message: str | None, tmp_path: Path) -> None:
    context = show(tmp_path, "asset a = @/gone/boat/a.png@", "new/boat/a.png")
    (tmp_path / "new/boat/a.png").write_bytes(content)
    (one,) = propose(context.survey(), [tmp_path / "new"], [])
    assert one.sure is (message is None)
    assert message is None or message in one.reason


def test_copies_of_one_file_need_no_choice(tmp_path: Path) -> None:
    context = show(tmp_path, "asset a = @/gone/boat/a.png@", "new/one/boat/a.png", "new/two/boat/a.png")
    assert sure(context, tmp_path / "new") == {}
    for folder in ("one", "two"):
        (tmp_path / "new" / folder / "boat/a.png").write_bytes(PNG)
    assert sure(context, tmp_path / "new") == {"/gone/boat/a.png": str(tmp_path / "new/one/boat/a.png")}


def test_a_folder_is_not_moved_as_one_over_a_file_that_is_in_doubt(tmp_path: Path) -> None:
    body = "\n".join(f"asset f{n} = @/gone/boat/f{n}.png@" for n in range(4))
    context = show(tmp_path, body, *[f"new/boat/f{n}.png" for n in range(4)])
    (tmp_path / "new/boat/f3.png").write_bytes(b"")
    survey = context.survey()
    assert len(apply_relinks(context, propose(survey, [tmp_path / "new"], []), survey)) == 3
    found = again(context)
    assert found["/gone/boat/f3.png"].status is Status.MISSING and found["/gone/boat/f0.png"].relinked


def test_a_layer_that_was_found_tells_what_it_lacks_itself(tmp_path: Path, run: Run) -> None:
    scene = tmp_path / "show" / "s.usda"
    scene.parent.mkdir()
    scene.write_text(usda('def "S" (references = @/gone/boat/boat.usda@) {}'))
    (tmp_path / "new/boat").mkdir(parents=True)
    layer = '#usda 1.0\n( defaultPrim = "B" )\ndef Sphere "B" {\n asset a = @./lost.png@\n}\n'
    (tmp_path / "new/boat/boat.usda").write_text(layer)
    done = run.here("relink", scene, "--look-in", tmp_path / "new", "--apply", "--json")
    assert [one["authored"] for one in done.json["applied"]] == ["/gone/boat/boat.usda"]
    assert [one["authored"] for one in done.json["still_missing"]] == ["./lost.png"] and done.code == 1


def test_a_folder_to_look_in_may_be_named_by_way_of_its_neighbour(tmp_path: Path) -> None:
    context = show(
        tmp_path, "asset a = @/gone/boat/a.png@\nasset b = @Q:/tex/b.png@", "far/boat/a.png", "far/tex/b.png"
    )
    found = propose(context.survey(), [tmp_path / "show/../far"], [("Q:", f"{tmp_path.as_posix()}/show/../far")])
    best = [one for one in found if one.sure]
    assert [one.candidate for one in best] == [tmp_path / "far/boat/a.png", tmp_path / "far/tex/b.png"]
    apply_relinks(context, found)
    # outside the project a decision names the place itself
    assert {one.to for one in open_trusted(context.scene).decisions.relink} == {p.candidate.as_posix() for p in best}
