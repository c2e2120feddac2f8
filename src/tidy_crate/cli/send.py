"""tidy-crate send, handover"""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from tidy_crate import api
from tidy_crate.cli import complete
from tidy_crate.cli.collect import CrateArgument
from tidy_crate.cli.talk import Talk, YesOption, command
from tidy_crate.cli.text import named_values

if TYPE_CHECKING:
    from collections.abc import Sequence

    from tidy_crate.core.work.options import SendOptions
    from tidy_crate.sending import Prepared

FarmsOption = Annotated[
    list[str],
    typer.Option(
        "--farm",
        metavar="CARD",
        autocompletion=complete.farms,
        help="A farm card's file or name; several share the frames out.",
    ),
]
HERE, PICTURE, WAY = "Machines", "What is rendered", "Way of sending"


def _option(text: str, *names: str, group: str, **more: Any) -> Any:
    return typer.Option(*names, help=text, rich_help_panel=group, **more)


def register(app: typer.Typer) -> None:
    """Add the commands."""

    @command(app, "send")
    def send(
        talk: Talk,
        crate: CrateArgument,
        farms: FarmsOption,
        machine: Annotated[
            str | None,
            _option(
                "Machine class, by the card's name.",
                "--machine",
                group=HERE,
                metavar="CLASS",
                autocompletion=complete.machines,
            ),
        ] = None,
        nodes: Annotated[int | None, _option("Number of machines.", "--nodes", group=HERE, min=1)] = None,
        batch: Annotated[
            int | None, _option("Frames that a node takes at a time.", "--batch", group=HERE, min=1)
        ] = None,
        gpus: Annotated[int | None, _option("GPUs that a node uses.", "--gpus", group=HERE, min=1)] = None,
        devices: Annotated[
            list[str] | None, _option("Kind of device that may be used: cpu, gpu.", "--device", group=HERE)
        ] = None,
        memory: Annotated[
            float | None, _option("Least main memory of a node, in GiB.", "--memory", group=HERE, min=0.1)
        ] = None,
        reclaimable: Annotated[
            bool | None,
            _option("Use machines that the farm may reclaim.", "--reclaimable/--not-reclaimable", group=HERE),
        ] = None,
        programs: Annotated[
            list[str] | None,
            _option("Exact version of a program.", "--program", group=HERE, metavar="NAME=VERSION"),
        ] = None,
        frames: Annotated[
            str | None, _option("Other frames than the crate's: 1001-1010.", "--frames", group=PICTURE, metavar="LIST")
        ] = None,
        order: Annotated[
            str | None,
            _option("sequence, spread, or tests-first.", "--order", group=PICTURE, metavar="ORDER"),
        ] = None,
        spread: Annotated[
            int | None, _option("For the order spread: every n-th frame first.", "--spread", group=PICTURE, min=1)
        ] = None,
        cameras: Annotated[
            list[str] | None,
            _option("Another camera; several make several views.", "--camera", group=PICTURE, metavar="PATH"),
        ] = None,
        variants: Annotated[
            list[str] | None,
            _option("A view: PRIM:SET=CHOICE,...; * for every choice.", "--variant", group=PICTURE, metavar="CHOICE"),
        ] = None,
        apart: Annotated[bool, _option("A job of its own for each view.", "--each-view-apart", group=PICTURE)] = False,
        size: Annotated[
            str | None, _option("1920x1080, or a share: 50%.", "--size", group=PICTURE, metavar="SIZE")
        ] = None,
        samples: Annotated[int | None, _option("Samples per pixel.", "--samples", group=PICTURE, min=1)] = None,
        outputs: Annotated[
            list[str] | None, _option("Only this output.", "--output", group=PICTURE, metavar="NAME")
        ] = None,
        format_: Annotated[
            str | None, _option("Another file format: exr.", "--format", group=PICTURE, metavar="FORMAT")
        ] = None,
        compression: Annotated[
            str | None, _option("Another compression: zip, piz.", "--compression", group=PICTURE, metavar="NAME")
        ] = None,
        tiles: Annotated[
            str | None, _option("Split each picture: 4x2.", "--tiles", group=PICTURE, metavar="COLUMNSxROWS")
        ] = None,
        shares: Annotated[
            int | None, _option("Split the samples of each picture.", "--sample-shares", group=PICTURE, min=1)
        ] = None,
        priority: Annotated[
            str | None, _option("Priority, by the card's name.", "--priority", group=WAY, metavar="NAME")
        ] = None,
        retries: Annotated[
            int | None, _option("How often a frame that fails is tried again.", "--retries", group=WAY, min=0)
        ] = None,
        hold: Annotated[bool, _option("Start only after resume.", "--hold", group=WAY)] = False,
        tests_first: Annotated[
            bool, _option("Render test frames, and the rest only after resume.", "--test-first", group=WAY)
        ] = False,
        test_frames: Annotated[
            str | None,
            _option("Which ones; those tested here if not said.", "--test-frames", group=WAY, metavar="LIST"),
        ] = None,
        cap: Annotated[
            str | None,
            _option("Pause before the job costs more at a farm.", "--cap", group=WAY, metavar="AMOUNT"),
        ] = None,
        weights: Annotated[
            list[str] | None,
            _option("Share of a farm among several; by speed if not said.", "--share", group=WAY, metavar="FARM=N"),
        ] = None,
        plan: Annotated[bool, _option("Show what would be sent and cost; send nothing.", "--plan", group=WAY)] = False,
        show_defaults: Annotated[
            bool, _option("Show all options and where each comes from; send nothing.", "--show-defaults", group=WAY)
        ] = False,
        again: Annotated[
            bool, _option("Send it although the farm has the same crate and frames.", "--again", group=WAY)
        ] = False,
        yes: YesOption = False,
    ) -> None:
        """Upload what the farm lacks, and start the job.

        Before it starts, what the farm understood of the crate is compared with the survey. Another range, camera,
        variant, size or format is sent without uploading the crate again. Several farms share one job out.

        \b
        Examples:
          tidy-crate send quay.crate --farm gullwing --test-first --cap "40 EUR"
          tidy-crate send quay.crate --farm gullwing --farm ninepins --order spread --yes
        """
        from tidy_crate.cli.send_view import show_sent, show_wishes

        wanted = _options(
            machine=machine, nodes=nodes, batch=batch, gpus=gpus, devices=devices, memory_gb=memory,
            reclaimable=reclaimable, programs=named_values(programs, "--program") or None, frames=frames, order=order,
            spread=spread,
            cameras=cameras, variants=variants, size=size, samples=samples, outputs=outputs, format=format_,
            compression=compression, tiles=tiles, shares=shares, priority=priority, retries=retries,
            start="tested" if tests_first or test_frames else "held" if hold else None, test_frames=test_frames,
            cap=_amount(cap, farms),
        )  # fmt: skip
        prepared = _prepared(crate, farms, wanted, _shares(weights))
        if show_defaults:
            talk.result(
                {"wishes": [one.model_dump(mode="json") for one in prepared[0].sending.wishes]},
                lambda console: show_wishes(console, prepared[0]),
            )
            return
        if plan:
            _show_plan(talk, prepared)
            return
        jobs = _apart(crate, farms, wanted, prepared) if apart else [prepared]
        _refuse_repetition(jobs, again)
        names = " and ".join(one.card.name for one in prepared)
        if not talk.as_json:
            _describe(talk, prepared)
            if apart:
                talk.say(f"That is {len(jobs)} jobs, one for each view.")
        talk.agree(f"Send {'this job' if len(jobs) == 1 else f'these {len(jobs)} jobs'} to {names}?", yes)
        sent = []
        with talk.progress("uploading") as progress:
            for each in jobs:
                sent.append(api.send(each, again=again, tell=talk.warn, progress=progress))
        if len(sent) == 1:
            talk.result(sent[0], lambda console: show_sent(console, sent))
        else:
            talk.result({"jobs": [one.model_dump(mode="json") for one in sent]}, lambda c: show_sent(c, sent))

    @command(app, "handover")
    def handover(
        talk: Talk,
        job: Annotated[str, typer.Argument(metavar="JOB", autocompletion=complete.jobs, help="The job's name.")],
        to: Annotated[
            str,
            typer.Option("--to", metavar="CARD", autocompletion=complete.farms, help="The farm that takes the rest."),
        ],
        given_up: Annotated[
            list[str] | None,
            typer.Option("--from", metavar="FARM", help="A farm that is given up: the job is called off there."),
        ] = None,
        machine: Annotated[
            str | None,
            typer.Option("--machine", metavar="CLASS", autocompletion=complete.machines, help="Machine class."),
        ] = None,
        nodes: Annotated[int | None, typer.Option("--nodes", min=1, help="Number of machines.")] = None,
        batch: Annotated[int | None, typer.Option("--batch", min=1, help="Frames that a node takes at a time.")] = None,
        yes: YesOption = False,
    ) -> None:
        """Send the rest of a job to another farm: what no farm renders, and what a given-up one has not delivered.

        Every frame is rendered once. What the given-up farm has rendered can still be brought home.

        \b
        Examples:
          tidy-crate handover quay-3 --from ninepins --to gullwing
          tidy-crate handover quay-3 --to gullwing --yes
        """
        from tidy_crate.cli.send_view import show_sent

        wanted = _options(machine=machine, nodes=nodes, batch=batch)
        prepared = api.prepare_rest(job, to, wanted, given_up=tuple(given_up or ()))
        if not talk.as_json:
            _describe(talk, [prepared])
        talk.agree(f"Send the rest of {job} to {prepared.card.name}?", yes)
        with talk.progress("uploading") as progress:
            sent, trouble = api.hand_over(prepared, job, given_up=tuple(given_up or ()), progress=progress)
        for farm, why in trouble.items():
            talk.say(f"{farm} could not be reached ({why}); track {job} tells it once it answers.")
        talk.result(sent, lambda console: show_sent(console, [sent]))


def _options(**said: Any) -> SendOptions:
    """Wishes from a command line. Raises WrongUsage in plain words."""
    from pydantic import ValidationError

    from tidy_crate.core.errors import WrongUsage
    from tidy_crate.core.work.options import SendOptions

    try:
        return SendOptions.model_validate({name: value for name, value in said.items() if value not in (None, [])})
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        name = str(first["loc"][0]).replace("_", "-") if first["loc"] else ""
        raise WrongUsage(f"--{name}: {first['msg'].lower()}", repr(first["input"])[:60]) from error


def _shares(texts: list[str] | None) -> dict[str, float]:
    from tidy_crate.core.errors import WrongUsage

    found = {}
    for name, value in named_values(texts, "--share").items():
        try:
            found[name] = float(value)
        except ValueError:
            found[name] = -1.0
        if not 0 < found[name] < 1e9:
            raise WrongUsage("a share is a number above 0", repr(f"{name}={value}"[:60]))
    return found


def _amount(text: str | None, farms: Sequence[str]) -> Any:
    """An amount in the currency of the farms. Raises WrongUsage for another currency."""
    if text is None:
        return None
    from tidy_crate.core.errors import WrongUsage
    from tidy_crate.core.money import parse_money

    currencies = {api.load_card(farm)[0].currency for farm in farms}
    if len(currencies) > 1:
        raise WrongUsage("the farms bill in several currencies", ", ".join(sorted(currencies)), "send to one at a time")
    own = next(iter(currencies))
    amount, currency = parse_money(text, own)
    if currency != own:
        raise WrongUsage(f"the farm bills in {own}, the cap is in {currency}", text, f"give the cap in {own}")
    return amount


def _prepared(
    crate: Any, farms: Sequence[str], wanted: SendOptions, weights: dict[str, Any], views: tuple[str, ...] = ()
) -> list[Prepared]:
    prepared = [api.prepare(crate, farm, wanted, views=views) for farm in farms]
    return api.split(prepared, weights) if len(prepared) > 1 else prepared


def _apart(crate: Any, farms: Sequence[str], wanted: SendOptions, prepared: list[Prepared]) -> list[list[Prepared]]:
    from tidy_crate.core.errors import WrongUsage

    names = list(dict.fromkeys(view.name for r in prepared[0].sending.packing.requests for view in r.views))
    if len(names) < 2:
        raise WrongUsage("there is only one view, so there is nothing to send apart", None, "name some with --variant")
    return [_prepared(crate, farms, wanted, {}, (name,)) for name in names]


def _refuse_repetition(jobs: list[list[Prepared]], again: bool) -> None:
    from tidy_crate.core.job.send import repeated

    for each in jobs:
        for one in each:
            if one.earlier is not None and one.earlier.confirmed and not again and not api.is_other_account(one):
                raise repeated(one.earlier, one.card.name)


def _describe(talk: Talk, prepared: list[Prepared]) -> None:
    from tidy_crate.cli.send_view import show_prepared

    for one in prepared:
        show_prepared(talk.err, one)
        if one.earlier is not None and not one.earlier.confirmed:
            talk.say(f"{one.earlier.job} was never confirmed by the farm: this continues it.")


def _show_plan(talk: Talk, prepared: list[Prepared]) -> None:
    from tidy_crate.cli.send_view import plan_document, show_prepared, show_upload
    from tidy_crate.core.errors import FarmError

    uploads: list[int | None] = []
    for one in prepared:
        try:
            uploads.append(api.to_send(one))
        except FarmError as error:
            uploads.append(None)
            talk.say(f"{one.card.name} cannot be asked what it has: {error.what}")

    def show(console: Any) -> None:
        for one, size in zip(prepared, uploads, strict=True):
            show_prepared(console, one)
            show_upload(console, one, size)

    talk.result(plan_document(prepared, uploads), show)
    if any(one.sending.errors for one in prepared):
        raise typer.Exit(1)
