"""Identifiers of an asset system in scenes: a resolver turns them into files, and a crate has plain paths."""

from __future__ import annotations

import json
import os
import shutil
from collections.abc import Mapping, Sequence
from pathlib import Path

import pytest
from pxr import Usd

from conftest import ANY, open_trusted, usda
from tidy_crate.core.asset import resolvers
from tidy_crate.core.asset.openassetio import CONFIG, OpenAssetIO
from tidy_crate.core.asset.resolvers import Found, Resolver, resolve_all
from tidy_crate.core.check.run import check_scene
from tidy_crate.core.context.scene import SceneContext, open_scene
from tidy_crate.core.crate.collect import collect
from tidy_crate.core.crate.packing import read_packing_list
from tidy_crate.core.crate.prove import prove
from tidy_crate.core.errors import TidyCrateError
from tidy_crate.core.scene.model import Status


class Book(Resolver):
    """What a test says that each identifier stands for."""

    def __init__(self, said: dict[str, Found | str]) -> None:
        self.said = said
        self.asked: list[tuple[str, ...]] = []

    def is_active(self) -> bool:
        return True

    def knows(self, identifier: str) -> bool:
        return identifier.startswith("book:")

    def resolve(self, identifiers: Sequence[str], scene: Path) -> Mapping[str, Found | str]:
        self.asked.append(tuple(identifiers))
        return {one: self.said[one] for one in identifiers if one in self.said}


@pytest.fixture
def book(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> Book:
    """A library on disk, and the resolver that knows it. A chair has a texture that is an identifier again."""
    store = tmp_path / "store"
    store.mkdir()
    (store / "chair.v3.usda").write_text(
        usda('def Sphere "P" {\nasset wood = @book:wood@\nasset seq = @book:sea@\n}\n')
    )
    (store / "wood.png").write_bytes(b"\x89PNG\r\n\x1a\nwood")
    for frame in (1, 2):
        (store / f"sea.{frame:04d}.exr").write_bytes(b"\x76\x2f\x31\x01 sea %d" % frame)
    found = Book({
        "book:chair": Found(store / "chair.v3.usda", "3"),
        "book:wood": Found(store / "wood.png", "11"),
        "book:sea": Found(store / "sea.####.exr"),
    })  # fmt: skip
    monkeypatch.setattr(resolvers, "active", lambda: {"book": found})
    return found


def scene_in(folder: Path, body: str = 'def "A" ( references = @book:chair@</P> ) {\n}\n') -> Path:
    folder.mkdir(parents=True, exist_ok=True)
    scene = folder / "s.usda"
    scene.write_text(usda(body))
    return scene


def opened(scene: Path) -> SceneContext:
    return open_scene(scene, survey_cache=scene.parent.parent / "home" / "s.survey", trust=open_trusted(scene).trust)


def test_a_crate_has_plain_paths_and_keeps_the_identifiers_with_their_versions(book: Book, tmp_path: Path) -> None:
    scene = scene_in(tmp_path / "show")
    context = opened(scene)
    survey = context.survey()
    by_name = {asset.authored: asset for asset in survey.assets}
    assert {name: one.status for name, one in by_name.items()} == dict.fromkeys(book.said, Status.FOUND)
    assert by_name["book:sea"].files == 2 and by_name["book:wood"].version == "11"
    assert not [one for one in check_scene(context).findings if one.code in ("file-by-identifier", "file-missing")]
    # each identifier is asked for once, all that are known together
    assert book.asked[:2] == [("book:chair",), ("book:wood", "book:sea")]
    crate = tmp_path / "c.crate"
    (tmp_path / "store").rename(tmp_path / "show/store")
    book.said = {name: Found(tmp_path / "show/store" / one.path.name, one.version) for name, one in book.said.items()
                 if isinstance(one, Found)}  # fmt: skip
    collect(opened(scene), crate)
    kept = {one.identifier: (one.version, Path(one.path).name) for one in read_packing_list(crate).identifiers}
    assert kept == {
        "book:chair": ("3", "chair.v3.usda"), "book:wood": ("11", "wood.png"), "book:sea": ("", "sea.####.exr"),
    }  # fmt: skip
    shutil.rmtree(tmp_path / "show")
    assert prove(crate, os.environ, ANY, test=False).whole
    stage = Usd.Stage.Open(str(crate / read_packing_list(crate).scene))
    assert stage.GetPrimAtPath("/A").GetAttribute("wood").Get().resolvedPath


def test_what_the_resolver_does_not_find_is_told_in_its_words_and_nothing_is_guessed(
    book: Book, tmp_path: Path
) -> None:
    book.said["book:chair"] = "it was taken out of the store in spring"
    context = opened(scene_in(tmp_path / "show"))
    (lost,) = context.survey().assets
    assert lost.status is Status.MISSING and lost.trouble == "it was taken out of the store in spring"
    (told,) = [one for one in check_scene(context).findings if one.code.startswith("file-")]
    assert told.code == "file-missing" and "spring" in told.message


@pytest.mark.parametrize(
    ("fault", "why"),
    [
        (ConnectionError("no route to the store"), "book cannot be asked (no route to the store)"),
        (None, "book says nothing of it"),
        (Found(Path("store/chair.usda")), "no whole path"),
    ],
)
def test_a_resolver_that_fails_is_told_by_name(
    book: Book, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, fault: object, why: str
) -> None:
    def resolve(identifiers: Sequence[str], scene: Path) -> Mapping[str, object]:
        if isinstance(fault, Exception):
            raise fault
        return {} if fault is None else dict.fromkeys(identifiers, fault)

    monkeypatch.setattr(book, "resolve", resolve)
    (lost,) = opened(scene_in(tmp_path / "show")).survey().assets
    assert lost.status is Status.MISSING and why in (lost.trouble or "")


def test_an_identifier_that_no_resolver_knows_stays_what_it_was(book: Book, tmp_path: Path) -> None:
    context = opened(scene_in(tmp_path / "show", 'def Sphere "S" {\nasset a = @other:thing@\n}\n'))
    assert "file-by-identifier" in {one.code for one in check_scene(context).findings}
    assert not book.asked


def test_a_version_that_changed_since_it_was_collected_is_told_and_one_that_changes_meanwhile_stops_it(
    book: Book, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    scene, crate = scene_in(tmp_path / "store/show"), tmp_path / "c.crate"
    (tmp_path / "store/tidy-crate.toml").write_text("")
    collect(opened(scene), crate)

    def told() -> list[str]:
        found = check_scene(opened(scene)).findings
        return [one.message for one in found if one.code == "identifier-version-changed"]

    assert told() == []
    wood = book.said["book:wood"]
    assert isinstance(wood, Found)
    book.said["book:wood"] = Found(wood.path, "12")
    assert told() == ["it is version 12, and was 11"]
    # asked again after all was copied: by then it is another one
    context = opened(scene)
    book.said["book:wood"] = Found(wood.path, "13")
    with pytest.raises(TidyCrateError, match="book:wood was version 12 and is version 13, changed while"):
        collect(context, crate)
    collect(opened(scene), crate)
    assert told() == []


def test_open_asset_io_is_asked_through_its_own_test_manager(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for name in ("openassetio", "openassetio_mediacreation", "openassetio_manager_bal"):
        pytest.importorskip(name, reason="pip install 'tidy-crate[openassetio]' openassetio-manager-bal")
    store = tmp_path / "show" / "the store"
    store.mkdir(parents=True)
    (store / "chair.usda").write_text(usda('def Sphere "P" {\ndouble radius = 3\n}\n'))
    place = "openassetio-mediacreation:content.LocatableContent"
    entity = {"versions": [{"traits": {place: {"location": (store / "chair.usda").as_uri()}}}]}
    library = tmp_path / "library.json"
    library.write_text(json.dumps({"entities": {"chair": entity}}))
    settings = '[manager]\nidentifier = "org.openassetio.examples.manager.bal"\n'
    settings += f'[manager.settings]\nlibrary_path = "{library.as_posix()}"\n'
    (tmp_path / "manager.toml").write_text(settings)
    monkeypatch.setenv(CONFIG, str(tmp_path / "manager.toml"))
    body = 'def "A" ( references = @bal:///chair@</P> ) {\nasset gone = @bal:///table@\n}\n'
    context = opened(scene_in(tmp_path / "show", body))
    by_name = {asset.authored: asset for asset in context.survey().assets}
    assert by_name["bal:///chair"].status is Status.FOUND and by_name["bal:///chair"].version == "1"
    assert "table" in (by_name["bal:///table"].trouble or "")
    crate = tmp_path / "c.crate"
    collect(context, crate)
    stage = Usd.Stage.Open(str(crate / read_packing_list(crate).scene))
    assert stage.GetPrimAtPath("/A").GetAttribute("radius").Get() == 3
    # a manager that cannot be reached is told, and nothing is taken from elsewhere
    library.unlink()
    (lost, *_) = opened(scene_in(tmp_path / "show", body)).survey().assets
    assert lost.status is Status.MISSING and "openassetio cannot be asked" in (lost.trouble or "")


def test_without_its_variable_open_asset_io_is_not_asked(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    monkeypatch.delenv(CONFIG, raising=False)
    assert not OpenAssetIO().is_active()
    monkeypatch.setenv(CONFIG, str(tmp_path / "gone.toml"))
    answer = resolve_all({"openassetio": OpenAssetIO()}, ["bal:///chair"], tmp_path)["bal:///chair"]
    assert answer.found is None and answer.trouble.startswith("openassetio cannot be asked")
