"""Retrieving: every product home as it is done, resumed where it broke off, verified, on its own number."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.errors import FarmError, TidyCrateError
from tidy_crate.core.farm.links.interface import FarmLink
from tidy_crate.core.farm.protocol import Product, TaskState
from tidy_crate.core.files import hash_file, os_reason
from tidy_crate.core.job.identity import TaskId
from tidy_crate.core.job.ledger import Ledger, ProductRow, job_named
from tidy_crate.core.job.submission import ENDED, Links, confirm
from tidy_crate.core.job.track import product_key
from tidy_crate.core.model import Model
from tidy_crate.core.progress import Progress, Step, silent
from tidy_crate.core.scene.request import RenderRequest, product_name

CONNECTIONS = 4
TRIES = 3
REJECTED = "rejected"


class ProductFile(Model):
    """A product and its place on disk."""

    request: str
    frame: int
    output: str
    attempt: int
    path: Path


class Unavailable(Model):
    """A product that is not at home, and why."""

    request: str
    frame: int
    output: str
    why: str


class Retrieved(Model):
    """What came home in this run, what is still to come, and what arrived damaged and was thrown away."""

    job: str
    into: Path
    retrieved: tuple[ProductFile, ...]
    at_home: int
    missing: tuple[Unavailable, ...]
    damaged: tuple[Unavailable, ...]
    # whether every farm is done, so that waiting longer brings nothing
    ended: bool


def place_of(into: Path, content: PackingList, request: RenderRequest, output: str, frame: int) -> Path:
    """Where a product lies: a folder per output, below one per request where there are several.

    The name comes from our own packing list, never from the farm.
    """
    folder = into / request.name if len(content.requests) > 1 else into
    found = content.output(output)
    return folder / output.strip("/").replace("/", ".") / product_name(found, frame)


def retrieve(ledger: Ledger, name: str, into: Path, links: Links, progress: Progress = silent) -> Retrieved:
    """Bring home what is done and not yet here. What is here already is not fetched again."""
    into = into.absolute()
    with ledger.session() as session:
        job = job_named(session, name)
        job.into = str(into)
        session.commit()
        rows = {(r.request, r.frame, r.tile, r.share, r.output): r for r in job.products}
        content = job.packing_list()
        requests = {request.name: request for request in content.requests}
        wanted: list[tuple[FarmLink, str, TaskId, Product, ProductRow, Path, int]] = []
        missing: list[Unavailable] = []
        for submission in job.submissions:
            link = links(submission)
            farm_job = confirm(submission, link)
            found = link.job(farm_job)
            submission.state, submission.cost = found.state.value, str(found.cost)
            for task in found.tasks:
                if task.id.request not in requests:
                    raise FarmError(f"the farm reports a request that was not sent: {task.id.request}", submission.farm)
                here = {product.output: product for product in task.products}
                for output in requests[task.id.request].outputs:
                    row = rows.get(product_key(task.id, output))
                    if row is None:
                        raise FarmError(f"the farm reports a frame that was not sent: {task.id}", submission.farm)
                    path = place_of(into, content, requests[task.id.request], output, task.id.frame)
                    product = here.get(output)
                    if task.state is not TaskState.DONE or product is None:
                        why = task.error or (
                            "the farm left no such output" if task.state is TaskState.DONE else task.state.value
                        )
                        missing.append(_unavailable(task.id, output, why))
                    elif not _is_home(row, path, task.attempt, product):
                        wanted.append((link, farm_job, task.id, product, row, path, task.attempt))
        session.commit()
        retrieved, damaged = [], []
        with ThreadPoolExecutor(CONNECTIONS) as pool:
            jobs = [(one, pool.submit(fetch, one[0], one[1], one[3], one[5])) for one in wanted]
            for done, ((_, _, task_id, product, row, path, attempt), fetched) in enumerate(jobs, 1):
                draft = fetched.result()
                if draft is None:
                    damaged.append(_unavailable(task_id, product.output, "it arrived damaged each time"))
                    continue
                _settle(row, path, draft, attempt, product, into)
                session.commit()
                retrieved.append(
                    ProductFile(
                        request=task_id.request,
                        frame=task_id.frame,
                        output=product.output,
                        attempt=attempt,
                        path=path,
                    )
                )
                progress(Step("retrieve", done, len(jobs), "frames", path.name))
        return Retrieved(
            job=job.id,
            into=into,
            retrieved=tuple(retrieved),
            at_home=sum(row.path is not None for row in job.products),
            missing=tuple(missing),
            damaged=tuple(damaged),
            ended=all(submission.state in ENDED for submission in job.submissions),
        )


def fetch(link: FarmLink, farm_job: str, product: Product, path: Path) -> Path | None:
    """Fetch one product beside its place and verify it. Returns the draft, or None when it never arrived whole."""
    draft = path.with_name(f".{path.name}.{product.blake3[:12]}.part")
    draft.parent.mkdir(parents=True, exist_ok=True)
    for attempt in range(TRIES):
        offset = draft.stat().st_size if draft.exists() else 0
        try:
            if offset < product.bytes:
                link.download(farm_job, product.key, draft, offset, lambda _: None)
        except FarmError:
            # what has come stays, and the next try goes on from there
            if attempt == TRIES - 1:
                raise
            continue
        except OSError as error:
            raise TidyCrateError(
                f"cannot write a frame ({os_reason(error)})", path, "make room, then run it again"
            ) from error
        if draft.stat().st_size == product.bytes and hash_file(draft) == product.blake3:
            return draft
        draft.unlink()
    return None


def _is_home(row: ProductRow, path: Path, attempt: int, product: Product) -> bool:
    if row.attempt != attempt or row.path != str(path) or row.blake3 != product.blake3:
        return False
    return path.is_file() and path.stat().st_size == product.bytes


def _settle(row: ProductRow, path: Path, draft: Path, attempt: int, product: Product, into: Path) -> None:
    """Put a verified frame in its place. One it replaces is set aside, so that nothing is lost."""
    if path.exists() and row.attempt and row.attempt != attempt:
        aside = into / REJECTED / path.relative_to(into)
        aside = aside.with_name(f"{aside.stem}.attempt{row.attempt}{aside.suffix}")
        aside.parent.mkdir(parents=True, exist_ok=True)
        path.replace(aside)
    draft.replace(path)
    row.path, row.attempt, row.blake3, row.bytes = str(path), attempt, product.blake3, product.bytes
    row.verdict = row.reasons = None


def _unavailable(task: TaskId, output: str, why: str) -> Unavailable:
    return Unavailable(request=task.request, frame=task.frame, output=output, why=why)
