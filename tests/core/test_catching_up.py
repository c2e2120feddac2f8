"""Catching up with a farm page by page, and the grid of frames, against the plain way of doing both."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from decimal import Decimal
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from test_asked import Links, card

from farms import MemoryFarm, prepared
from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.farm.protocol import TaskChange
from tidy_crate.core.job.grid import PRECEDENCE, frame_grid
from tidy_crate.core.job.ledger import Ledger
from tidy_crate.core.job.retrieve import retrieve
from tidy_crate.core.job.send import send
from tidy_crate.core.job.submission import _note_tasks
from tidy_crate.core.job.tables import AttemptRow, ProductRow, SubmissionRow
from tidy_crate.core.job.track import track
from tidy_crate.core.work.attempt import Attempt, Product
from tidy_crate.core.work.task import Task, TaskState

NOW = datetime(2026, 11, 20, tzinfo=UTC)
STATES = (TaskState.RENDERING, TaskState.DONE, TaskState.FAILED)


def change(frame: int, tile: int | None, number: int, state: TaskState, digest: str) -> TaskChange:
    products = (Product(output="Beauty", key=f"{frame}-{tile}-{number}", bytes=1, blake3=digest * 64),)
    attempt = Attempt(
        number=number, state=state, node="n", began=NOW, ended=NOW + timedelta(seconds=number), cost=Decimal(1)
    )
    return TaskChange(
        task=Task("main", frame, tile=tile), attempt=attempt, products=products * (state is TaskState.DONE)
    )


@pytest.fixture(scope="module")
def submission(packed: tuple[SceneContext, Path], tmp_path_factory: pytest.TempPathFactory) -> tuple[Ledger, int]:
    ledger = Ledger(tmp_path_factory.mktemp("ledger") / "l.sqlite")
    base = prepared(packed[1], card("a"), frames="1001-1006")
    send(base, card("a"), Path("a"), MemoryFarm("a").link(), ledger)
    with ledger.reading() as session:
        return ledger, session.query(SubmissionRow).one().id


@given(
    st.lists(
        st.lists(
            st.tuples(
                st.integers(1001, 1004), st.sampled_from([None, 0, 1]), st.integers(1, 3), st.sampled_from(STATES),
                st.sampled_from("ab"),
            ),
            max_size=8,
        ),
        max_size=4,
    )
)  # fmt: skip
def test_t1_pages_of_changes_leave_what_each_change_alone_would(
    submission: tuple[Ledger, int], pages: list[list[tuple[int, int | None, int, TaskState, str]]]
) -> None:
    ledger, number = submission
    attempts: dict[tuple[int, int | None, int], TaskState] = {}
    products: dict[tuple[int, int | None, int], str] = {}
    with ledger.writing() as session:
        session.query(ProductRow).delete()
        session.query(AttemptRow).delete()
        for page in pages:
            _note_tasks(session, number, [change(*one) for one in page])
            # of several changes of one attempt in a page only the last counts
            for frame, tile, attempt, state, digest in {one[:3]: one for one in page}.values():
                attempts[frame, tile, attempt] = state
                if state is TaskState.DONE:
                    products[frame, tile, attempt] = digest * 64
    with ledger.reading() as session:
        rows = session.query(AttemptRow).all()
        assert {(row.frame, row.task().tile, row.number): TaskState(row.state) for row in rows} == attempts
        newest = {key[:2]: max(one[2] for one in attempts if one[:2] == key[:2]) for key in attempts}
        assert all(row.latest == (row.number == newest[row.frame, row.task().tile]) for row in rows)
        found = {
            (p.attempt.frame, p.attempt.task().tile, p.attempt.number): p.blake3 for p in session.query(ProductRow)
        }
        assert found == products


@given(st.data())
def test_t1_the_grid_counts_every_frame_once_in_the_state_it_has(
    submission: tuple[Ledger, int], data: st.DataObject
) -> None:
    ledger, number = submission
    frames = range(1001, 1007)
    with ledger.reading() as session:
        job = session.get_one(SubmissionRow, number).job_id
    states = {frame: data.draw(st.sampled_from((None, *STATES)), label=str(frame)) for frame in frames}
    home = {frame: data.draw(st.sampled_from((None, "", "good", "bad"))) for frame in frames}
    with ledger.writing() as session:
        session.query(ProductRow).delete()
        session.query(AttemptRow).delete()
        _note_tasks(
            session, number, [change(f, None, 1, state, "a") for f, state in states.items() if state is not None]
        )
        for product in session.query(ProductRow):
            verdict = home[product.attempt.frame]
            product.home, product.verdict = verdict is not None, verdict or None
    wanted = {}
    for frame, state in states.items():
        wanted[frame] = state.value if state is not None else "waiting"
        if state is TaskState.DONE and home[frame] is not None:
            wanted[frame] = home[frame] or "retrieved"
    for most in (1, 2, 4, 100):
        grid = frame_grid(ledger, job, most)
        assert sum(cell.frames for cell in grid.cells) == len(frames) == grid.frames
        for cell in grid.cells:
            own = [wanted[frame] for frame in range(cell.first, cell.last + 1)]
            assert cell.counts == {state: own.count(state) for state in set(own)}
            assert cell.state == min(own, key=PRECEDENCE.index)


def test_t9_a_first_look_does_not_wait_for_all_changes_and_says_so(
    packed: tuple[SceneContext, Path], tmp_path: Path
) -> None:
    ledger, farm = Ledger(tmp_path / "l.sqlite"), MemoryFarm("a")
    farm.page = 2
    job = send(prepared(packed[1], card("a")), card("a"), Path("a"), farm.link(), ledger).job
    first = track(ledger, job, Links(farm), seconds=0.0)
    assert first.behind and first.finish is None and first.forecast.seconds is None
    assert first.done == 48 and frame_grid(ledger, job, 100).cells[-1].state == "waiting"
    steps: list[int] = []
    last = track(ledger, job, Links(farm), progress=lambda step: steps.append(step.done))
    assert not last.behind and steps == sorted(steps) and steps[-1] == 44
    assert retrieve(ledger, job, tmp_path / "f", Links(farm)).at_home == 96
