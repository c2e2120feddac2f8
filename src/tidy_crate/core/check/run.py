"""Checking a scene or a crate: gathering what the checks look at, against everything it is held to."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from datetime import date
from decimal import Decimal
from pathlib import Path

from tidy_crate.core.check.asked import Asked, as_asked, eased, not_covered
from tidy_crate.core.check.finding import Checked, OnFarm
from tidy_crate.core.check.judge import run_checks
from tidy_crate.core.check.mends import in_force
from tidy_crate.core.check.result import CheckResult
from tidy_crate.core.context.brief import Brief
from tidy_crate.core.context.outside import border_of
from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.crate.layout import lay_out
from tidy_crate.core.crate.origin import changed_since
from tidy_crate.core.crate.packing import PackingList, read_packing_list
from tidy_crate.core.crate.test_frames import probe_folder
from tidy_crate.core.errors import Blocked, TidyCrateError, UnreadableInput, WrongUsage
from tidy_crate.core.estimate.model import Quote, Wishes
from tidy_crate.core.estimate.probe_result import ProbeResult, read_probe
from tidy_crate.core.estimate.timings import PRACTICE
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.files import inside
from tidy_crate.core.scene.formats.registry import format_of
from tidy_crate.core.scene.memory_need import memory_need
from tidy_crate.core.scene.model import Asset, MemoryNeed, Status, Survey
from tidy_crate.core.scene.request import request_for
from tidy_crate.core.scene.settings import load_maps
from tidy_crate.core.scene.staging import StagingPlan
from tidy_crate.core.scene.survey_cache import kept_survey
from tidy_crate.core.work.request import RenderRequest


@dataclass(frozen=True)
class Against:
    """Everything that a scene is checked against, beside the rules of its project."""

    cards: tuple[FarmCard, ...] = ()
    brief: Brief | None = None
    """Used in place of the project's."""
    today: date = date.min
    """Needed for farm cards."""
    account: str | None = None
    """The account of a farm that pays."""
    balances: Mapping[str, Decimal] = field(default_factory=dict)
    """By farm, fresher than the card's."""
    wishes: Wishes = field(default_factory=Wishes)
    """The machine class and number of nodes for which the cost is computed."""


NOTHING = Against()


def check_scene(context: SceneContext, against: Against = NOTHING) -> CheckResult:
    """Check a scene as it would be staged now, and say what is wrong only as it was found."""
    staged, as_found = checked(context, against)
    farms = []
    if against.cards:
        layout = lay_out(staged.survey, context.plan, context.project)
        sizes = {m.path: m.bytes for asset in staged.survey.assets for m in asset.members}
        sizes.setdefault(context.scene, context.scene.stat().st_size)
        files = tuple((str(layout.crate_paths[path]), sizes.get(path, 0)) for path in layout.sources)
        memory = context.memory_need(staged.survey)
        request = _request(staged.survey)
        farms = [_on_farm(staged, card, against, request, files, memory) for card in against.cards]
    mends = in_force(context.decisions.mend, (as_found or staged).survey)
    return run_checks(staged, context.decisions.waive, as_found=as_found, farms=farms, mends=mends)


def checked(context: SceneContext, against: Against = NOTHING) -> tuple[Checked, Checked | None]:
    """Return what checks look at: the scene as staged, and as found where the two differ."""
    rules = context.project.rules()
    if against.brief is not None:
        rules = rules.model_copy(update={"brief": against.brief})
    found = context.survey_as_found()
    survey = context.survey() if context.plan.edits else found
    asked = bool(against.cards)
    staged = Checked(survey, context.project.root, rules, for_farms=asked, border=border_of(context))
    if survey is found:
        return staged, None
    return staged, replace(staged, survey=found)


def check_crate(
    crate: Path,
    against: Against = NOTHING,
    origin: Path | None = None,
    asked: Asked | None = None,
    survey_cache: Path | None = None,
) -> CheckResult:
    """Check the staged scene inside a crate, by the rules and waivers it was packed with.

    origin: where collecting noted what the crate was made from, see `origin`. asked: what a submission asks otherwise.
    survey_cache: see SceneFormat.read. Raises Blocked where frames are asked for that the crate's caches do not cover.
    """
    if asked is None:
        return _check_crate(crate, against, origin, None, survey_cache)
    packed = _check_crate(crate, NOTHING, None, None, survey_cache)
    found = _check_crate(crate, against, origin, asked, survey_cache)
    return found.model_copy(update={"findings": tuple(eased(found.findings, packed.findings))})


def _check_crate(
    crate: Path, against: Against, origin: Path | None, asked: Asked | None, survey_cache: Path | None
) -> CheckResult:
    crate = crate.absolute()
    content = read_packing_list(crate)
    if asked is not None:
        content = content.model_copy(update={"requests": asked.requests})
    scene = inside(crate, content.scene)
    form = format_of(scene)
    request, maps = next(iter(content.requests), None), load_maps(maps=content.settings_maps)
    kept = kept_survey(form, scene, None, request, maps, content.tokens, survey_cache)
    survey = kept.survey()
    excused = {one.path: one.because for one in content.missing if one.let_go}
    assets = tuple(_as_packed(asset, crate, excused) for asset in survey.assets)
    unsolved = {one.subject: one.unsolved for one in content.edits if one.unsolved}
    simulations = tuple(
        one.model_copy(update={"trouble": tuple(dict.fromkeys((*one.trouble, *unsolved.get(one.name, ()))))})
        for one in survey.simulations
    )
    survey = survey.model_copy(update={"assets": assets, "simulations": simulations})
    if asked is not None:
        survey = as_asked(survey, asked)
        short = next(not_covered(survey, asked), None)
        if short is not None:
            raise Blocked(short, crate, "bake that range and collect again, or ask for fewer frames")
    rules = content.rules if against.brief is None else content.rules.model_copy(update={"brief": against.brief})
    changed = changed_since(origin) if origin is not None else ()
    staged = Checked(
        survey,
        crate,
        rules,
        is_crate=True,
        original=content.original,
        for_farms=bool(against.cards),
        changed=changed,
    )
    farms = []
    if against.cards:
        files = tuple((file.path, file.bytes) for file in content.files)
        packed = survey
        memory = kept.derived(
            "memory", MemoryNeed, lambda: memory_need(form, scene, StagingPlan(), packed, survey_cache)
        )
        request = next(iter(content.requests), None)
        farms = [_on_farm(staged, card, against, request, files, memory, content, crate) for card in against.cards]
    return run_checks(staged, content.waived, farms=farms)


def _as_packed(asset: Asset, crate: Path, excused: dict[str, str]) -> Asset:
    """Return an asset with the status that it was packed with: one that was let go is still let go."""
    if asset.resolved is None or not asset.resolved.is_relative_to(crate):
        return asset
    because = excused.get(asset.resolved.relative_to(crate).as_posix())
    return asset if because is None else asset.model_copy(update={"status": Status.LET_GO, "because": because})


def _request(survey: Survey) -> RenderRequest | None:
    try:
        return request_for(survey)
    except WrongUsage:
        return None


def _on_farm(
    staged: Checked,
    card: FarmCard,
    against: Against,
    request: RenderRequest | None,
    files: tuple[tuple[str, int], ...],
    memory: MemoryNeed,
    content: PackingList | None = None,
    crate: Path | None = None,
) -> OnFarm:
    probe = _probe(crate, content, card, against) if crate is not None and content is not None else None
    quote = _quote(content, probe, card, against) if content is not None and probe is not None else None
    noted = card.account(against.account)
    if against.account is not None and card.balance and noted is None:
        names = ", ".join(one.account for one in card.balance)
        raise WrongUsage(f"{card.name} has no such account", against.account, f"its card notes {names}")
    return OnFarm(
        scene=staged,
        card=card,
        today=against.today,
        request=request,
        files=files,
        memory=memory,
        probe=probe,
        quote=quote,
        score_here=against.wishes.score_here,
        balance=against.balances.get(card.name, noted.amount if noted else None),
    )


def _probe(crate: Path, content: PackingList, card: FarmCard, against: Against) -> ProbeResult | None:
    """The timings of a crate, where they say anything about this farm."""
    if not probe_folder(crate).is_dir():
        return None
    try:
        found = read_probe(crate, content)
    except UnreadableInput:
        return None
    return None if found.basis == PRACTICE and not card.practice and not against.wishes.accept_practice else found


def _quote(content: PackingList, probe: ProbeResult, card: FarmCard, against: Against) -> Quote | None:
    # numerics are only loaded where there is something to reckon
    from tidy_crate.core.estimate.estimate import Question, estimate

    try:
        timings = probe.timings(content.to_render())
        found = estimate(Question(content, timings, (card,), against.wishes, split=False)).estimate
    except TidyCrateError:
        return None
    return found.quotes[found.front[0]] if found.front else None
