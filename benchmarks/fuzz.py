"""Coverage-guided fuzzing of every parser that we wrote, by atheris (pip install atheris; Linux and macOS).

    python benchmarks/fuzz.py [TARGET ...] [--seconds N]

Each target runs in a process of its own for so many seconds. An input may be refused by a TidyCrateError or, where the
function documents it, a ValueError. Anything else is written to a file and ends the target with its traceback.
"""

from __future__ import annotations

import argparse
import io
import subprocess
import sys
import tempfile
from collections.abc import Callable
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path

# inputs to begin with, for a grammar that chance does not find
SEEDS = {
    "text-layer": (
        b'(\n    upAxis = "Z"\n)\n\ndef Xform "A" (\n    prepend apiSchemas = ["B"]\n)\n{\n    asset a = @./a.png@\n'
        b'    token t = "x.png"\n    rel r = </A/C>\n    float x.connect = <../A.y>\n    float y.timeSamples = {\n'
        b'        1: 2,\n    }\n\n    def "C"\n    {\n        asset[] b = [@a@, @@]\n    }\n}\n',
        b'def "A"\n{\n    token visibility = "invisible"\n'
        b"    rel material:binding = [\n        </A>,\n        <B.x>,\n    ]\n}\n",
    ),
}
NOW = datetime(2026, 11, 20, 12, tzinfo=UTC)


def targets() -> dict[str, Callable[[bytes], object]]:
    """Every parser by name, given bytes. Imported here, so that atheris has instrumented it."""
    from tidy_crate.core.asset import frames, head, paths, sequences
    from tidy_crate.core.asset.exr_header import read_exr_parts
    from tidy_crate.core.asset.follow.materialx import MaterialX
    from tidy_crate.core.asset.follow.ocio import ColourConfiguration
    from tidy_crate.core.asset.follow.wavefront import WavefrontMaterial, WavefrontObject
    from tidy_crate.core.context.decisions import Decisions
    from tidy_crate.core.context.project import ProjectFile
    from tidy_crate.core.crate.archive import unpack_archive
    from tidy_crate.core.estimate.durations import parse_seconds, parse_share
    from tidy_crate.core.estimate.what_if import parse_change
    from tidy_crate.core.estimate.when import parse_when
    from tidy_crate.core.farm.card import FarmCard
    from tidy_crate.core.picture.decode import read_frame_head
    from tidy_crate.core.scene.formats.gltf import document
    from tidy_crate.core.scene.formats.sheet.model import read_sheet
    from tidy_crate.core.toml import parse_toml
    from tidy_crate.core.transfer.pack import Unpacking
    from tidy_crate.core.versions import parse_range, parse_version
    from tidy_crate.core.work import folders

    scratch = Path(tempfile.mkdtemp(prefix="tidy-crate-fuzz-"))

    def text(parse: Callable[[str], object]) -> Callable[[bytes], object]:
        return lambda data: parse(data.decode("utf-8", "surrogateescape"))

    def file(name: str, read: Callable[[Path], object]) -> Callable[[bytes], object]:
        def run(data: bytes) -> object:
            path = scratch / name
            path.write_bytes(data)
            return read(path)

        return run

    def gltf(path: Path) -> object:
        found = document.read_document(path)
        return document.links(found.content)

    def archive(path: Path) -> object:
        with tempfile.TemporaryDirectory(dir=scratch) as into:
            return unpack_archive(path, Path(into, "crate"))

    def names(said: str) -> object:
        paths.dialect(said), paths.parts(said), paths.name_troubles(said), paths.variables(said)
        return paths.swap_prefix(said, "Q:/a", "/b"), sequences.frame_numbers([said, said + ".0001.exr"])

    def layer(data: bytes) -> object:
        """A text layer, by its lines and by the library: two answers are never different."""
        from pxr import Sdf, Tf

        from tidy_crate.core.scene.formats.usd.facts import facts_with
        from tidy_crate.core.scene.formats.usd.text_facts import text_facts

        whole = b"#usda 1.0\n" + data
        lines = text_facts(whole)
        if lines is None:
            return None
        parsed = Sdf.Layer.CreateAnonymous(".usda")
        with suppress(Tf.ErrorException):
            parsed.ImportFromString(whole.decode())
            if facts_with(parsed, None) != lines:
                raise AssertionError(whole)
        return lines

    def products(data: bytes) -> object:
        """An answer of a farm that gives out small products."""
        import httpx

        from tidy_crate.core.farm.links.http import HttpFarm
        from tidy_crate.core.farm.protocol import FETCH_PACKS, OLDEST, VERSION
        from tidy_crate.core.work.attempt import Product

        hello = {"protocol": VERSION, "oldest": OLDEST, "farm": "f", "offers": ["fetch", FETCH_PACKS]}

        def answer(request: httpx.Request) -> httpx.Response:
            return (
                httpx.Response(200, json=hello) if request.url.path == "/hello" else httpx.Response(200, content=data)
            )

        farm = HttpFarm("f", "http://f", "a-secret-token", httpx.MockTransport(answer), patience=0)
        wanted = Product(output="o", key="k", bytes=3, blake3=data[:32].ljust(32, b"0").hex())
        return list(farm.fetch_small("7", [wanted]))

    return {
        "text-layer": layer,
        "frame-list": text(lambda said: frames.format_frames(frames.parse_frames(said))),
        "paths": text(names),
        "versions": text(lambda said: (parse_version(said), parse_range(said))),
        "times": text(lambda said: (parse_seconds(said), parse_share(said))),
        "what-if": text(parse_change),
        "when": text(lambda said: parse_when(said, NOW)),
        "home-folders": text(folders.pattern),
        "head": head.head_of,
        "exr-header": lambda data: read_exr_parts(io.BytesIO(data)),
        "exr-frame": file("f.exr", read_frame_head),
        "png-frame": file("f.png", read_frame_head),
        "gltf": file("s.gltf", gltf),
        "glb": file("s.glb", gltf),
        "sheet": file("s.sheet.json", read_sheet),
        "object": file("o.obj", WavefrontObject().links),
        "material": file("o.mtl", WavefrontMaterial().links),
        "materialx": file("m.mtlx", MaterialX().links),
        "colour-configuration": file("c.ocio", ColourConfiguration().links),
        "decisions": text(lambda said: parse_toml(Decisions, said, "decisions", "fuzz")),
        "project": text(lambda said: parse_toml(ProjectFile, said, "project", "fuzz")),
        "card": text(lambda said: parse_toml(FarmCard, said, "card", "fuzz")),
        "pack": lambda data: list(Unpacking().whole(data, lambda _: None)),
        "products": products,
        "zip": file("a.zip", archive),
        "tar-zst": file("a.tar.zst", archive),
    }


def fuzz(name: str, seconds: int) -> None:
    """Fuzz one target in this process, which ends with it."""
    import atheris

    with atheris.instrument_imports(include=["tidy_crate"]):
        run = targets()[name]
    from tidy_crate.core.errors import TidyCrateError

    def once(data: bytes) -> None:
        with suppress(TidyCrateError, ValueError, OSError):
            run(data)

    found = Path.cwd() / f"fuzz-{name}-"
    options = [f"-max_total_time={seconds}", f"-artifact_prefix={found}", "-verbosity=0"]
    seeds = Path(tempfile.mkdtemp(prefix="tidy-crate-seeds-"))
    for number, seed in enumerate(SEEDS.get(name, ())):
        (seeds / str(number)).write_bytes(seed)
    atheris.Setup([sys.argv[0], *options, str(seeds)], once)
    atheris.Fuzz()


def main() -> None:
    """Fuzz the targets that are named, or all, each in a process of its own."""
    words = argparse.ArgumentParser(description=__doc__)
    words.add_argument("target", nargs="*")
    words.add_argument("--seconds", type=int, default=60)
    words.add_argument("--here", action="store_true", help=argparse.SUPPRESS)
    asked = words.parse_args()
    if asked.here:
        fuzz(asked.target[0], asked.seconds)
        return
    failed = []
    for name in asked.target or targets():
        line = [sys.executable, __file__, name, "--seconds", str(asked.seconds), "--here"]
        done = subprocess.run(line, capture_output=True, text=True, check=False)
        said = done.stderr.strip().splitlines()
        print(f"{name}: {'nothing found' if done.returncode == 0 else 'FAILED'}", flush=True)
        if done.returncode != 0:
            failed.append(name)
            print("\n".join(said[-25:]), flush=True)
    sys.exit(1 if failed else 0)


if __name__ == "__main__":
    main()
