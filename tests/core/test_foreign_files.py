"""X4: files that others put there are opened in one way, which a pipe or a device does not hang."""

from __future__ import annotations

import os
import re
import time
from pathlib import Path

import httpx
import pytest

import tidy_crate.core
from conftest import ANY
from tidy_crate.core.crate.packing import FILE_NAME
from tidy_crate.core.crate.prove import prove
from tidy_crate.core.files import hash_file, open_input, read_input, read_json, write_json
from tidy_crate.practice.farm.line import Bounded

# other ways of opening a file, and the places that may use them: files that this tool has just written itself, what
# runs on a node with the standard library alone, and libraries that are given a file which was opened before
OTHER_WAYS = re.compile(
    r"""\.open\("rb"|\bopen\([\w.]+, "rb"|\.read_bytes\(|\bImage\.open\(|InputFile\(|ZipFile\((?!stream)"""
)
MAY = {
    "asset/head.py": 1, "picture/join.py": 1, "picture/exr.py": 1, "scene/formats/usd/package.py": 2,
    "scene/formats/usd/library.py": 1, "scene/survey_cache.py": 1, "farm/sign_in.py": 1, "farm/links/drop/s3.py": 2,
    "farm/links/drop/bundles.py": 1, "scene/formats/usd/layer_digests.py": 1,
    "farm/links/cluster/node_job.py": 4, "farm/links/cluster/on_here.py": 1, "farm/links/cluster/on_node.py": 4,
    "farm/links/cluster/storage.py": 1,
}  # fmt: skip
PIPES = pytest.mark.skipif(not hasattr(os, "mkfifo"), reason="there are no pipes here")


def test_only_one_way_opens_files_of_others() -> None:
    """Another place that opens one fails here: use `files.open_input`, or say in this list why it need not."""
    root = Path(tidy_crate.core.__file__).parent
    found = {}
    for path in sorted(root.rglob("*.py")):
        count = len(OTHER_WAYS.findall(path.read_text()))
        if count:
            found[path.relative_to(root).as_posix()] = count
    assert found == MAY


@PIPES
@pytest.mark.parametrize("kind", ["pipe", "device", "folder", "link to a pipe"])
def test_what_is_no_file_is_told_at_once(kind: str, tmp_path: Path) -> None:
    path = tmp_path / "x"
    if kind == "device":
        path = Path("/dev/zero")
    elif kind == "folder":
        path.mkdir()
    else:
        os.mkfifo(tmp_path / "pipe")
        path = tmp_path / "pipe" if kind == "pipe" else path
        if kind != "pipe":
            path.symlink_to(tmp_path / "pipe")
    for reads in (open_input, hash_file, read_input):
        with pytest.raises(OSError, match=r"device or a pipe|directory"):
            reads(path)
    plain = tmp_path / "plain"
    plain.write_bytes(b"words")
    with open_input(plain) as stream:
        assert stream.read() == b"words"


@PIPES
@pytest.mark.parametrize("where", ["textures/paper.png", "extra.bin", "shots/quay_010/lantern_quay_v001.staged.usda"])
def test_a_pipe_in_a_crate_fails_the_proof_and_hangs_nothing(where: str, crate: Path) -> None:
    path = crate / where
    path.unlink(missing_ok=True)
    os.mkfifo(path)
    if where.startswith("textures"):
        # as if it had been packed so
        content = read_json(crate / FILE_NAME, "packing list")
        for file in content["files"]:
            if file["path"] == where:
                file["bytes"] = 0
        write_json(crate / FILE_NAME, content)
    began = time.monotonic()
    proof = prove(crate, os.environ, ANY)
    assert not proof.whole and where in proof.changed and any("pipes or devices" in one for one in proof.unresolved)
    assert time.monotonic() - began < 30


@pytest.mark.parametrize(("size", "status"), [(100, 200), (101, 413)])
def test_a_body_of_json_has_a_limit(size: int, status: int) -> None:
    async def app(scope: dict[str, object], receive: object, send: object) -> None:
        message = await receive()  # type: ignore[operator]
        assert len(message["body"]) == size and not message["more_body"]
        await send({"type": "http.response.start", "status": 200, "headers": []})  # type: ignore[operator]
        await send({"type": "http.response.body", "body": b""})  # type: ignore[operator]

    async def ask() -> int:
        transport = httpx.ASGITransport(app=Bounded(app, most=100))
        async with httpx.AsyncClient(transport=transport, base_url="http://farm") as client:
            return (await client.post("/v3/jobs", content=b"x" * size)).status_code

    import asyncio

    assert asyncio.run(ask()) == status
