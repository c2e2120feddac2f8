"""POV-Ray scenes by way of a scene sheet: what a host application with a format of its own needs to take part.

    povray_host.py export SCENE.pov SHEET [--settings SCENE.ini]     writes down what the scene is
    povray_host.py relink SCENE.pov PATHS.json                       puts new paths into a copy of it
    povray_host.py render SCENE.pov --frames LIST --into FOLDER ...  renders frames by their own numbers

Nothing of Tidy Crate is imported: an exporter talks to it by files only, and may be written in any language.
"""

from __future__ import annotations

import argparse
import configparser
import json
import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import cache
from pathlib import Path

# words of the scene language before the name of a file, with the kind of file in words of the sheet
KINDS = {
    "#include": "scene", "ttf": "font", "df3": "volume", "image_map": "texture", "bump_map": "texture",
    "material_map": "texture", "image_pattern": "texture", "height_field": "texture",
    **dict.fromkeys(("png", "jpeg", "tga", "tiff", "gif", "iff", "ppm", "pgm", "exr", "hdr", "sys"), "texture"),
}  # fmt: skip
ENDINGS = {
    "#include": (".inc",), "ttf": (".ttf", ".ttc"), "jpeg": (".jpg", ".jpeg"), "tiff": (".tif", ".tiff"),
    **{word: (f".{word}",) for word in ("png", "tga", "gif", "iff", "ppm", "pgm", "exr", "hdr", "df3")},
}  # fmt: skip
PICTURES = ("image_map", "bump_map", "material_map", "image_pattern", "height_field")
# a picture named without its kind may have the ending of any
ENDINGS |= dict.fromkeys(PICTURES, (".png", ".jpg", ".jpeg", ".tga", ".tif", ".tiff", ".gif", ".exr", ".hdr"))
FORMATS = {"N": "png", "J": "jpg", "T": "tga", "C": "tga", "P": "ppm", "E": "exr", "B": "bmp", "H": "hdr"}
TOKEN = re.compile(
    r'(?P<comment>//[^\n]*|/\*.*?\*/)|(?P<text>"(?:\\.|[^"\\])*")|(?P<word>#?[A-Za-z_]\w*|\d[\d.]*)|(?P<mark>\S)',
    re.DOTALL,
)
# a name with the frame number in it: concat("sea", str(frame_number, -4, 0), ".png")
NUMBERED = re.compile(
    r'concat\s*\(\s*"(?P<lead>[^"]*)"\s*,\s*str\s*\(\s*frame_number\s*,\s*-?(?P<digits>\d+)\s*,\s*0\s*\)'
    r'\s*,\s*"(?P<tail>[^"]*)"\s*\)'
)
MOST_FILES = 10_000


@dataclass(frozen=True)
class Place:
    """One place that names a file: its text, what comes before it, and where in the file the text stands."""

    keyword: str
    text: str
    start: int
    end: int
    computed: bool = False


@dataclass
class Found:
    """Statements of a scene and everything that it includes. places: by file, in the order of the scene."""

    places: list[tuple[Path, Place]] = field(default_factory=list)
    clock: bool = False
    moving_camera: bool = False
    writes: list[str] = field(default_factory=list)
    version: str = ""


@dataclass(frozen=True)
class Settings:
    """Statements of a scene's settings file on its rendering."""

    first: int = 1
    last: int = 1
    clocks: tuple[float, float] = (0.0, 1.0)
    cyclic: bool = False
    width: int = 640
    height: int = 480
    output: str = "png"
    alpha: bool = False
    libraries: tuple[str, ...] = ()
    options: tuple[str, ...] = ()

    @classmethod
    def read(cls, path: Path | None) -> Settings:
        """Read a settings file; without one a scene is a single frame at the program's own size."""
        if path is None:
            return cls()
        parser = configparser.ConfigParser(interpolation=None, inline_comment_prefixes=(";",), strict=False)
        parser.read_string("[DEFAULT]\n" + path.read_text(encoding="utf-8", errors="replace"))
        said = {key.lower(): value.strip() for key, value in parser.defaults().items()}

        def on(name: str) -> bool:
            return said.get(name, "off").lower() in ("on", "true", "yes", "1")

        options = []
        if on("antialias"):
            options.append(f"+A{said.get('antialias_threshold', '0.3')}")
        if "quality" in said:
            options.append(f"+Q{said['quality']}")
        return cls(
            first=int(said.get("initial_frame", 1)),
            last=int(said.get("final_frame", said.get("initial_frame", 1))),
            clocks=(float(said.get("initial_clock", 0)), float(said.get("final_clock", 1))),
            cyclic=on("cyclic_animation"),
            width=int(said.get("width", 640)),
            height=int(said.get("height", 480)),
            output=FORMATS.get(said.get("output_file_type", "N")[:1].upper(), "png"),
            alpha=on("output_alpha"),
            libraries=tuple(value for key, value in said.items() if key == "library_path"),
            options=tuple(options),
        )


def tokens(text: str) -> Iterator[re.Match[str]]:
    """The words, texts and marks of a scene, comments left out."""
    return (match for match in TOKEN.finditer(text) if match["comment"] is None)


def places_in(text: str) -> list[Place]:
    """Every place in a scene file that names another file."""
    found: list[Place] = []
    declared: dict[str, Place] = {}
    before: list[str] = ["", ""]
    block = ""
    every = list(tokens(text))
    for at, match in enumerate(every):
        value = match.group()
        after = every[at + 1].group() if at + 1 < len(every) else ""
        if match["text"] is not None:
            keyword = before[-1] if before[-1] in KINDS else block if before[-1] == "{" and block in KINDS else ""
            own = Place(keyword, value[1:-1], match.start() + 1, match.end() - 1)
            if keyword:
                found.append(own)
            elif before[-1] == "=" and len(before) > 2:
                declared[before[-2]] = own
        elif before[-1] in KINDS and before[-1] not in PICTURES:
            # a name that was declared as a text, or one that is worked out
            known = declared.get(value)
            if known is not None:
                found.append(Place(before[-1], known.text, known.start, known.end))
            elif value == "concat":
                found.append(_worked_out(text, before[-1], match.start()))
        if value == "{" and before[-1] in KINDS:
            block = before[-1]
        elif after and value in ("{", "}"):
            block = ""
        before = [*before[-3:], value]
    return found


def _worked_out(text: str, keyword: str, start: int) -> Place:
    numbered = NUMBERED.match(text, start)
    if numbered is None:
        end = text.find(")", start) + 1
        return Place(keyword, text[start:end], start, end, computed=True)
    pattern = numbered["lead"] + "#" * int(numbered["digits"]) + numbered["tail"]
    return Place(keyword, pattern, numbered.start(), numbered.end(), computed=True)


def read_scene(path: Path, libraries: tuple[Path, ...]) -> Found:
    """Go through a scene and all that it includes, each file once for every place that includes it first."""
    found = Found()
    queue, seen = [path], set[Path]()
    while queue:
        file = queue.pop(0)
        if file in seen or len(seen) > MOST_FILES:
            continue
        seen.add(file)
        text = file.read_text(encoding="utf-8", errors="surrogateescape")
        words = [match.group() for match in tokens(text)]
        found.clock = found.clock or "clock" in words or "frame_number" in words
        camera = text[text.find("camera") :].partition("}")[0] if "camera" in words else ""
        found.moving_camera = found.moving_camera or "clock" in camera or "frame_number" in camera
        if "#fopen" in words and ({"write", "append"} & set(words)):
            found.writes.append(file.name)
        if "#version" in words and not found.version:
            found.version = words[words.index("#version") + 1]
        for place in places_in(text):
            target = where_is(place, path.parent, libraries)
            if target is not None and is_the_programs(target):
                continue
            found.places.append((file, place))
            if place.keyword == "#include" and target is not None:
                queue.append(target)
    return found


def where_is(place: Place, folder: Path, libraries: tuple[Path, ...]) -> Path | None:
    """Return where the program finds a file: in the scene's folder, then along the libraries, then among its own.

    It adds the usual ending to a name that has none.
    """
    for base in (folder, *libraries, *own_folders()):
        for ending in ("", *ENDINGS.get(place.keyword, ())):
            if (base / (place.text + ending)).is_file():
                return base / (place.text + ending)
    return None


@cache
def own_folders() -> list[Path]:
    """The folders of the program's own includes and fonts."""
    program = shutil.which("povray")
    share = Path(program).resolve().parent.parent / "share" if program else Path("/usr/share")
    return sorted(share.glob("povray*/include"))


def is_the_programs(path: Path) -> bool:
    """Return whether a file comes with the program, so that every machine that has it has the file."""
    return any(path.is_relative_to(folder) for folder in own_folders())


@cache
def version() -> str:
    """The program's version as it states it, `unknown` where it is not installed."""
    if shutil.which("povray") is None:
        return "unknown"
    done = subprocess.run(["povray", "--version"], capture_output=True, text=True, check=False)
    match = re.search(r"POV-Ray\s+(\d[\w.]*\d)", done.stdout + done.stderr)
    return match[1] if match else "unknown"


def sheet_of(scene: Path, settings: Settings) -> dict[str, object]:
    """The scene as a scene sheet."""
    libraries = tuple(scene.parent / one for one in settings.libraries)
    found = read_scene(scene, libraries)
    frames = settings.last - settings.first + 1
    name = scene.stem
    here = ["{python}", str(Path(__file__).resolve())]
    animation = f"{settings.first}:{settings.last}:{settings.clocks[0]}:{settings.clocks[1]}"
    passes = [{"name": "beauty"}, *([{"name": "alpha"}] if settings.alpha else [])]
    render = [
        *here, "render", "{host_scene}", "--frames", "{frames}", "--width", "{width}", "--height", "{height}",
        "--into", "{output_folder}", "--animation", animation, "--name", f"{name}.####.{settings.output}",
    ]  # fmt: skip
    render += ["--cyclic"] if settings.cyclic else []
    render += [f"--library={one}" for one in settings.libraries] + [f"--option={one}" for one in settings.options]
    moves = [settings.first, settings.last] if found.moving_camera and frames > 1 else None
    return {
        "scene_sheet": 1,
        "scene": scene.name,
        "host": {"name": "povray", "version": version()},
        "frames": {"start": settings.first, "end": settings.last, "fps": 25},
        "resolution": {"width": settings.width, "height": settings.height},
        "cameras": [{"name": "camera", "moves": moves}],
        "outputs": [
            {
                "name": name,
                "path": f"renders/{name}/{name}.####.{settings.output}",
                "passes": passes,
                "camera": "camera",
                "colour_space": "srgb_rec709_display",
            }
        ],
        "assets": [
            {
                "slot": slot,
                "path": _as_found(place, scene, libraries),
                "kind": KINDS[place.keyword],
                "because": f"{file.name} names it",
            }
            for slot, file, place in slots(found)
        ],
        # a scene that writes files leaves something for its next frame
        "simulations": [
            {"name": name, "kind": "files written by the scene", "state": "live", "start": settings.first}
            for name in dict.fromkeys(found.writes if frames > 1 else ())
        ],
        "scripts": [f"{name} writes files" for name in dict.fromkeys(found.writes)],
        "features": [{"name": f"scene language {found.version}", "since": found.version}] if found.version else [],
        "motion": "camera" if found.moving_camera else "things" if found.clock else "still",
        "commands": {
            "relink": [*here, "relink", "{host_scene}", "{paths}"],
            "export": [*here, "export", "{host_scene}", "{sheet}"],
            "render": {
                "command": render,
                "frame_done": r"frame (?P<frame>-?\d+) done in (?P<seconds>[\d.]+) s",
                "name": "povray",
                "version": version(),
            },
        },
    }


def slots(found: Found) -> Iterator[tuple[str, Path, Place]]:
    """A name for each place, the same before and after its path changes: what kind it is, and which of that kind."""
    count: dict[tuple[str, str], int] = {}
    for file, place in found.places:
        kind = KINDS[place.keyword]
        key = (file.name, kind)
        count[key] = count.get(key, 0) + 1
        yield f"{file.name} {kind} {count[key]}", file, place


def _as_found(place: Place, scene: Path, libraries: tuple[Path, ...]) -> str:
    if Path(place.text).is_absolute() or Path(scene.parent / place.text).is_file():
        return place.text
    target = where_is(place, scene.parent, libraries)
    return place.text if target is None else Path(os.path.relpath(target, scene.parent)).as_posix()


def relink(scene: Path, paths: dict[str, str], libraries: tuple[Path, ...] = ()) -> None:
    """Put new paths into a scene. Raises ValueError where a file that it includes would have to change."""
    text = scene.read_text(encoding="utf-8", errors="surrogateescape")
    changes: dict[tuple[int, int], str] = {}
    for slot, file, place in slots(read_scene(scene, libraries)):
        new = paths.get(slot, place.text).removeprefix("./")
        if new == place.text:
            continue
        if file != scene:
            raise ValueError(f"{file.name} names {place.text}, and an included file is not rewritten: name it there")
        if place.computed:
            raise ValueError(f"{place.text} is worked out by the scene, so its folder cannot change")
        changes[place.start, place.end] = new
    for (start, end), new in sorted(changes.items(), reverse=True):
        text = text[:start] + new + text[end:]
    scene.write_text(text, encoding="utf-8", errors="surrogateescape")


def numbers_of(frames: str) -> list[int]:
    """The frames of a list such as `1-10x2,15`."""
    found: list[int] = []
    for part in frames.split(","):
        match = re.fullmatch(r"(-?\d+)(?:-(-?\d+)(?:x(\d+))?)?", part.strip())
        if match is None:
            raise ValueError(f"{part!r} is no frame or range of frames")
        first, last, step = int(match[1]), int(match[2] or match[1]), int(match[3] or 1)
        found += range(first, last + 1, step)
    return found


def render(args: argparse.Namespace) -> None:
    """Render frames by their own numbers. Raises ValueError when the program fails, with what it said."""
    scene = args.scene.resolve()
    first, last, *clocks = args.animation.split(":")
    folders = [scene.parent, *(scene.parent / one for one in args.library)]
    known = [path for _, place in read_scene(scene, tuple(folders[1:])).places
             if (path := where_is(place, scene.parent, tuple(folders[1:]))) is not None]  # fmt: skip
    # the program reads below a user's home and nowhere else: let the scene's own tree be that
    home = os.path.commonpath([scene.parent, *(path.resolve().parent for path in known)])
    suffix = Path(args.name).suffix
    kind = next((key for key, ending in FORMATS.items() if f".{ending}" == suffix), "N")
    args.into.mkdir(parents=True, exist_ok=True)
    for number in numbers_of(args.frames):
        began = time.perf_counter()
        with tempfile.TemporaryDirectory(dir=args.into) as work:
            line = [
                "povray", f"+I{scene}", "+Oframe", f"+F{kind}", f"+W{args.width}", f"+H{args.height}", "-D", "-GA",
                f"+KFI{first}", f"+KFF{last}", f"+KI{clocks[0]}", f"+KF{clocks[1]}", f"+SF{number}", f"+EF{number}",
                *(f"+L{folder}" for folder in folders), *args.option,
            ]  # fmt: skip
            line += ["+KC"] if args.cyclic else []
            if first == last:
                line = [word for word in line if not word.startswith(("+KF", "+SF", "+EF", "+KI"))]
                line.append(f"+K{clocks[0]}")
            environment = os.environ | {"HOME": home}
            done = subprocess.run(line, cwd=work, env=environment, capture_output=True, text=True, check=False)
            made = sorted(Path(work).glob(f"frame*{suffix}"))
            if done.returncode != 0 or not made:
                raise ValueError(f"povray failed at frame {number} with code {done.returncode}\n{done.stderr.strip()}")
            digits = f"{'-' if number < 0 else ''}{abs(number):04d}"
            made[0].replace(args.into / args.name.replace("####", digits))
        sys.stdout.write(f"frame {number} done in {time.perf_counter() - began:.3f} s\n")
        sys.stdout.flush()


def main() -> int:
    """Read the command line and do what it says."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    verbs = parser.add_subparsers(dest="verb", required=True)
    export_ = verbs.add_parser("export")
    export_.add_argument("scene", type=Path)
    export_.add_argument("sheet", type=Path)
    export_.add_argument("--settings", type=Path)
    relink_ = verbs.add_parser("relink")
    relink_.add_argument("scene", type=Path)
    relink_.add_argument("paths", type=Path)
    render_ = verbs.add_parser("render")
    render_.add_argument("scene", type=Path)
    render_.add_argument("--frames", required=True)
    render_.add_argument("--into", type=Path, required=True)
    render_.add_argument("--width", type=int, default=640)
    render_.add_argument("--height", type=int, default=480)
    render_.add_argument("--animation", default="1:1:0:1")
    render_.add_argument("--name", default="frame.####.png")
    render_.add_argument("--cyclic", action="store_true")
    render_.add_argument("--library", action="append", default=[])
    render_.add_argument("--option", action="append", default=[])
    args = parser.parse_args()
    try:
        if args.verb == "export":
            beside = args.scene.with_suffix(".ini")
            settings = Settings.read(args.settings or (beside if beside.is_file() else None))
            sheet = sheet_of(args.scene, settings)
            args.sheet.write_text(json.dumps(sheet, indent=1) + "\n", encoding="utf-8")
        elif args.verb == "relink":
            relink(args.scene, json.loads(args.paths.read_text(encoding="utf-8")))
        else:
            render(args)
    except (OSError, ValueError) as error:
        sys.stderr.write(f"povray_host: {error}\n")
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())
