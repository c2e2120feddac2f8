"""The stages as plain functions on the models of `core`: the one place that joins them.

The command line and the demo are its clients. Each function takes what it needs as arguments, returns a model, raises a
subclass of TidyCrateError, and reports progress to a callback. Heavy libraries load in the function that needs them.

    from pathlib import Path
    from tidy_crate import api

    scene = Path("shots/q010/scene_v003.usda")
    api.trust(scene)
    api.bake(scene)
    crate = api.collect(scene).crate
    assert api.prove(crate).whole
    job = api.send(api.prepare(crate, "harbour")).job
    api.retrieve(job, Path("frames"), follow=True)
    print(api.review(job).clean)
"""

from __future__ import annotations

from tidy_crate.api.checks import against, check, mend, take_back, waive
from tidy_crate.api.crate import archive, collect, prove, unsolved
from tidy_crate.api.desk import Desk
from tidy_crate.api.farms import FarmLinks, agree_to_address, balances, farm_moved, ledger, load_card, try_farm
from tidy_crate.api.frames import (
    decide,
    deliver,
    judged_products,
    prepare_again,
    record,
    render_pair,
    rerender,
    retrieve,
    review,
    stitch,
    to_rerender,
    tone,
)
from tidy_crate.api.jobs import (
    act,
    cancel,
    first_request,
    frame_grid,
    hand_over,
    is_other_account,
    jobs,
    log,
    need_trust,
    prepare,
    prepare_rest,
    refunds,
    release,
    resubmit_failed,
    send,
    split,
    to_send,
    track,
)
from tidy_crate.api.night import carry_night, outcomes, purse_of, read_list, tell_others
from tidy_crate.api.plan import estimate, estimate_accuracy, examine_installation, probe, take_timings
from tidy_crate.api.scene import (
    Choose,
    Relinked,
    Trusting,
    bake,
    commands_of,
    distrust,
    let_go,
    open_scene,
    own_commands,
    plan_bake,
    prove_order,
    relink,
    survey,
    trust,
    trust_commands,
    verify_caches,
)
from tidy_crate.api.user import AT_ONCE, HOME, LEDGER, MOST_REMEMBERED, SCORE_HERE, USUAL_BATCH, User
from tidy_crate.api.workflow import Doing, carry, next_standing, shot_for, standings

__all__ = [
    "AT_ONCE",
    "HOME",
    "LEDGER",
    "MOST_REMEMBERED",
    "SCORE_HERE",
    "USUAL_BATCH",
    "Choose",
    "Desk",
    "Doing",
    "FarmLinks",
    "Relinked",
    "Trusting",
    "User",
    "act",
    "against",
    "agree_to_address",
    "archive",
    "bake",
    "balances",
    "cancel",
    "carry",
    "carry_night",
    "check",
    "collect",
    "commands_of",
    "decide",
    "deliver",
    "distrust",
    "estimate",
    "estimate_accuracy",
    "examine_installation",
    "farm_moved",
    "first_request",
    "frame_grid",
    "hand_over",
    "is_other_account",
    "jobs",
    "judged_products",
    "ledger",
    "let_go",
    "load_card",
    "log",
    "mend",
    "need_trust",
    "next_standing",
    "open_scene",
    "outcomes",
    "own_commands",
    "plan_bake",
    "prepare",
    "prepare_again",
    "prepare_rest",
    "probe",
    "prove",
    "prove_order",
    "purse_of",
    "read_list",
    "record",
    "refunds",
    "release",
    "relink",
    "render_pair",
    "rerender",
    "resubmit_failed",
    "retrieve",
    "review",
    "send",
    "shot_for",
    "split",
    "standings",
    "stitch",
    "survey",
    "take_back",
    "take_timings",
    "tell_others",
    "to_rerender",
    "to_send",
    "tone",
    "track",
    "trust",
    "trust_commands",
    "try_farm",
    "unsolved",
    "verify_caches",
    "waive",
]
