"""Reading the frames of a review on the workers of a Dask scheduler, over shared storage."""

from __future__ import annotations

from collections.abc import Generator, Iterator, Sequence
from urllib.parse import urlsplit

from tidy_crate.core.errors import FarmError, WrongUsage
from tidy_crate.core.farm.links.cluster.dask import Certificates, Dask
from tidy_crate.core.farm.links.registry import travels_open
from tidy_crate.core.picture.judge import Judgement
from tidy_crate.core.picture.readers import JudgeFrames, Looked
from tidy_crate.core.work.attempt import Verdict

# frames that a worker starts its reading process for
PIECE = 16


def judge_on_workers(url: str, version: str, certificates: Certificates | None = None) -> JudgeFrames:
    """Return what judges frames on the workers of the scheduler at `dask://HOST:PORT` or `dasks://HOST:PORT`.

    version: of this package; workers must have the same. certificates: for `dasks://`. Raises WrongUsage for another
    kind of address, and for one that is not encrypted and not of this machine. The result raises FarmError where a
    worker lacks the package or does not see the frames.
    """
    parts = urlsplit(url)
    if parts.scheme not in ("dask", "dasks") or not parts.hostname:
        raise WrongUsage("not the address of a scheduler", url, "write it as dasks://HOST:PORT")
    if travels_open(parts.scheme, parts.hostname):
        remedy = "use dasks:// with certificates in your config.toml (docs/security.md)"
        raise WrongUsage("the address is not encrypted, so anybody on the way can change what runs there", url, remedy)

    def judge(frames: Sequence[Looked]) -> Generator[Judgement, None, None]:
        pieces = [frames[at : at + PIECE] for at in range(0, len(frames), PIECE)]
        orders = (
            [{"path": str(one.path.absolute()), "expected": one.expected.model_dump(mode="json")} for one in piece]
            for piece in pieces
        )
        for piece, said in zip(pieces, Dask(url, certificates).judge(version, orders), strict=True):
            yield from _answers(url, piece, said)

    return judge


def _answers(url: str, piece: Sequence[Looked], said: dict[str, object]) -> Iterator[Judgement]:
    worker = said["worker"]
    if said["trouble"]:
        remedy = "install the same version on every worker, or leave --workers out"
        raise FarmError(f"worker {worker} cannot read frames: {said['trouble']}", url, remedy)
    answers = said["answers"]
    assert isinstance(answers, list)
    for one, answer in zip(piece, answers, strict=True):
        judgement = Judgement.model_validate(answer)
        if judgement.verdict is Verdict.MISSING and one.path.exists():
            remedy = "retrieve into a folder that every worker sees under the same path"
            raise FarmError(f"worker {worker} does not see {one.path}", url, remedy)
        yield judgement
