"""tidy-crate farm"""

from __future__ import annotations

import shlex
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from tidy_crate import api
from tidy_crate.cli import complete
from tidy_crate.cli.talk import Talk, command

if TYPE_CHECKING:
    from rich.console import Console

    from tidy_crate.core.farm.card import FarmCard, Machine
    from tidy_crate.core.farm.links.interface import Trial
    from tidy_crate.core.farm.new_card import Basics
    from tidy_crate.core.farm.prices import Price

CardArgument = Annotated[
    str, typer.Argument(metavar="CARD", autocompletion=complete.farms, help="A card's file or name.")
]


def register(app: typer.Typer) -> None:
    """Add the commands."""
    farm = typer.Typer(no_args_is_help=True, rich_markup_mode=None, help="Farm cards: list, show, add, test.")
    app.add_typer(farm, name="farm")

    @command(farm, "list")
    def list_(talk: Talk) -> None:
        """List the known farms.

        \b
        Examples:
          tidy-crate farm list
          tidy-crate farm list --json
        """
        from tidy_crate.core.farm.card import known_cards, read_card

        cards = [(path, read_card(path)) for path in known_cards(api.User.here().card_folders)]
        document = {"farms": [card.model_dump(mode="json") | {"card": str(path)} for path, card in cards]}
        talk.result(document, lambda console: _show_list(console, cards))

    @command(farm, "show")
    def show(
        talk: Talk,
        card: CardArgument,
    ) -> None:
        """Show one farm's card.

        \b
        Examples:
          tidy-crate farm show gullwing
          tidy-crate farm show farms/gullwing.farm.toml
        """
        found, path = api.load_card(card)
        talk.result(
            found.model_dump(mode="json") | {"card": str(path)},
            lambda console: _show_card(console, found, path),
        )

    @command(farm, "new")
    def new(
        talk: Talk,
        name: Annotated[str, typer.Argument(metavar="NAME", help="Small letters, digits, - and _.")],
        output: Annotated[
            Path | None, typer.Option("--out", "-o", metavar="FILE", help="NAME.farm.toml here if not said.")
        ] = None,
        template: Annotated[bool, typer.Option("--template", help="Ask nothing; write the card to fill in.")] = False,
    ) -> None:
        """Write a card to fill in, with every key explained. At a terminal it asks for the most important ones.

        \b
        Examples:
          tidy-crate farm new gullwing
          tidy-crate farm new gullwing --output farms/gullwing.farm.toml
        """
        from datetime import date

        from tidy_crate.core.errors import WrongUsage
        from tidy_crate.core.farm.card import SUFFIX
        from tidy_crate.core.farm.new_card import Basics, new_card
        from tidy_crate.core.files import write_bytes

        target = (output or Path(f"{name}{SUFFIX}")).absolute()
        if target.exists():
            raise WrongUsage("there is a file of this name already", target, "name another one with --output")
        # an impossible name is told before anything is asked
        new_card(name, date.today())
        text = new_card(name, date.today(), _asked(name) if talk.can_ask and not template else Basics())
        write_bytes(target, text.encode())
        talk.result(
            {"card": str(target)},
            lambda console: console.print(
                f"Written: {target}. Fill it in, then: tidy-crate farm check {target.name}",
                markup=False,
                soft_wrap=True,
            ),
        )

    @command(farm, "check")
    def check(
        talk: Talk,
        card: CardArgument,
    ) -> None:
        """Show what is wrong with a card, and what it does not state.

        \b
        Examples:
          tidy-crate farm check gullwing.farm.toml
          tidy-crate farm check gullwing
        """
        from tidy_crate.core.farm.new_card import left_open

        found, path = api.load_card(card)
        gaps = left_open(found)
        talk.result(
            {"farm": found.name, "card": str(path), "left_open": [{"key": key, "so": so} for key, so in gaps]},
            lambda console: _show_gaps(console, found, gaps),
        )

    @command(farm, "schema")
    def schema(talk: Talk) -> None:
        """Print the JSON Schema of farm cards.

        \b
        Examples:
          tidy-crate farm schema
          tidy-crate farm schema > farm-card.schema.json
        """
        import json

        from tidy_crate.core.schemas import json_schema

        content = json_schema("farm-card")
        talk.result(content, lambda console: console.print_json(json.dumps(content)))

    @command(farm, "add")
    def add(
        talk: Talk,
        card: Annotated[Path, typer.Argument(metavar="CARD", autocompletion=complete.farms, help="A card's file.")],
    ) -> None:
        """Make a farm known by its name: all commands find its card, and its token goes to this address only.

        \b
        Examples:
          tidy-crate farm add gullwing.farm.toml
          tidy-crate farm add gullwing.farm.toml --json
        """
        from tidy_crate.core.errors import WrongUsage
        from tidy_crate.core.farm.card import SUFFIX, read_card
        from tidy_crate.core.files import write_bytes

        found = read_card(card)
        if found.sign_in.token_file:
            raise WrongUsage(
                "this card names a token file beside it, so it cannot be copied",
                card,
                "name it by its path instead",
            )
        user = api.User.here()
        target = user.home / "farms" / f"{found.name}{SUFFIX}"
        if found.url:
            user.keys.bind(found, card)
        write_bytes(target, card.read_bytes())
        talk.result(
            {"farm": found.name, "card": str(target)},
            lambda console: console.print(f"{found.name} is added."),
        )

    @command(farm, "moved")
    def moved(
        talk: Talk,
        card: CardArgument,
    ) -> None:
        """Record that a farm has a new address. Its token goes there from now on.

        \b
        Examples:
          tidy-crate farm moved gullwing
          tidy-crate farm moved farms/gullwing.farm.toml
        """
        found, address = api.farm_moved(card)
        talk.result(
            {"farm": found.name, "address": address},
            lambda console: console.print(f"The token of {found.name} goes to {address} from now on.", markup=False),
        )

    @command(farm, "test")
    def test(
        talk: Talk,
        card: CardArgument,
    ) -> None:
        """Try the way to a farm out, step by step. Nothing is ordered.

        \b
        Examples:
          tidy-crate farm test gullwing
          tidy-crate farm test farms/gullwing.farm.toml
        """
        found, steps, account = api.try_farm(card)
        works = all(one.works for one in steps)
        document = {
            "farm": found.name, "works": works,
            "steps": [{"step": one.step, "works": one.works, "said": one.said} for one in steps],
        }  # fmt: skip
        if account is not None:
            document |= account.model_dump(mode="json")
        talk.result(document, lambda console: _show_trial(console, found, steps))
        if not works:
            talk.say(next(f"{found.name}: {one.said}" for one in steps if not one.works))
            raise typer.Exit(3)


def _asked(name: str) -> Basics:
    """Ask a person for the most important facts. Enter takes what is in brackets."""
    from tidy_crate.core.farm.new_card import Basics

    usual = Basics(title=name.replace("-", " ").title())
    return Basics(
        title=typer.prompt("Its name for people", default=usual.title, err=True),
        url=typer.prompt("Address (https:, sftp:, s3:, file:, dasks:, here:; empty: quotes only)", default="",
                         show_default=False, err=True),
        currency=typer.prompt("Currency of its prices", default=usual.currency, err=True),
        machine=typer.prompt("Its usual machine class", default=usual.machine, err=True),
        nodes=typer.prompt("How many of these machines you can get", default=usual.nodes, type=int, err=True),
        memory_gb=typer.prompt("Memory of one, in GiB", default=usual.memory_gb, type=float, err=True),
        price_per_hour=typer.prompt("Price of one for an hour", default=usual.price_per_hour, err=True),
    )  # fmt: skip


def _show_trial(console: Console, card: FarmCard, steps: tuple[Trial, ...]) -> None:
    from tidy_crate.cli.show import cell, table

    rows = table("step", "works", "found")
    for one in steps:
        rows.add_row(cell(one.step), "yes" if one.works else "no", cell(one.said))
    console.print(cell(card.title or card.name))
    console.print(rows)


def _show_gaps(console: Console, card: FarmCard, gaps: list[tuple[str, str]]) -> None:
    from tidy_crate.cli.show import cell, table

    if not gaps:
        console.print(f"{card.name} is valid and complete.")
        return
    console.print(f"{card.name} is valid. What it does not state is not checked:\n")
    rows = table("key", "so it is unknown")
    for key, so in gaps:
        rows.add_row(cell(key), cell(so))
    console.print(rows)


def _show_list(console: Console, cards: list[tuple[Path, FarmCard]]) -> None:
    from tidy_crate.cli.show import cell, next_command, table

    if not cards:
        console.print("No farm is known yet.")
        next_command(console, "farm", "new", "NAME")
        console.print("To practise first: tidy-crate practice start", style="dim")
        return
    rows = table("farm", "title", "address", "machines", "from", right=("from",))
    for _, card in cards:
        price = _cheapest(card)
        machines = ", ".join(f"{machine.nodes} x {machine.name}" for machine in card.machine)
        rows.add_row(
            cell(card.name),
            cell(card.title),
            cell(card.url),
            cell(machines),
            cell(price),
        )
    console.print(rows)


def _show_card(console: Console, card: FarmCard, path: Path) -> None:
    from tidy_crate.cli.show import cell, duration, facts, money, table

    facts(
        console,
        [
            ("farm", card.title or card.name),
            ("card", path),
            ("address", card.url or "none: quotes and checks only"),
            *_own_machines(card),
            ("run by", _operator(card)),
            ("prices of", card.rates_from),
            ("upload", f"{card.transfer.upload_mbit:g} Mbit/s"),
            ("outputs", _outputs(card)),
            ("limits", _limits(card)),
            *_terms(card),
        ],
    )
    rows = table(
        "machine",
        "nodes",
        "score",
        "memory",
        "GPUs",
        "disk",
        "price",
        "billed in",
        "starts in",
        right=("nodes", "score", "memory", "price"),
    )
    for one in card.machine:
        rows.add_row(
            cell(one.name), str(one.nodes), f"{one.score:g}", f"{one.memory_gb:g} GB", _gpus(one),
            f"{one.disk_gb:g} GB" if one.disk_gb else "?",
            cell(", ".join(price_words(price, card) for price in card.prices_of(one))),
            duration(one.billing_increment_seconds), duration(one.startup_seconds),
        )  # fmt: skip
    console.print()
    console.print(rows)
    if card.program:
        console.print()
        rows = table("program", "role", "versions", "features, and since when")
        for program in card.program:
            features = ", ".join(f"{name} {since}" for name, since in program.features.items())
            rows.add_row(cell(program.name), program.role, cell(", ".join(program.versions)), cell(features))
        console.print(rows)
    for balance in card.balance:
        console.print(f"\n{money(balance.amount, card.currency)} on account {balance.account}, on {balance.on}")


def price_words(price: Price, card: FarmCard) -> str:
    """A price in a few words."""
    from tidy_crate.cli.show import money

    amount = f"{price.amount} credits" if card.credits is not None else money(price.amount, card.currency)
    units = {
        "machine-hour": "h", "gpu-hour": "GPU and h", "core-hour": "core and h", "score-hour": "h at a score of 100",
        "frame": "frame", "rental": f"block of {price.block_hours:g} h",
    }  # fmt: skip
    return f"{amount}/{units[price.per]}"


def _cheapest(card: FarmCard) -> str:
    """The least price of an hour where all are by the hour, else the first price."""
    from tidy_crate.cli.show import money

    hours = [machine.price_per_hour for machine in card.machine if machine.price_per_hour is not None]
    return f"{money(min(hours), card.currency)}/h" if hours else price_words(card.prices_of(card.machine[0])[0], card)


def _gpus(machine: Machine) -> str:
    if not machine.gpus:
        return "none"
    memory = f" of {machine.gpu_memory_gb:g} GB" if machine.gpu_memory_gb else ""
    return f"{machine.gpus}{memory}"


def _operator(card: FarmCard) -> str:
    operator = card.operator
    where = f" in {', '.join(operator.places)}" if operator.places else ", location not stated"
    agreement = ", agreement signed" if operator.agreement else ""
    return f"{operator.name or 'not stated'} ({operator.kind or 'of unknown kind'}){where}{agreement}"


def _outputs(card: FarmCard) -> str:
    rules = card.outputs
    form = {"any": "any path", "name": "names only", "relative": "relative paths", "share": f"on {rules.share}"}
    formats = f"; {', '.join(rules.formats)}" if rules.formats else ""
    return form[rules.path] + formats + ("; numbered from 0" if rules.from_zero else "")


def _terms(card: FarmCard) -> list[tuple[str, object]]:
    """Return what the card says of queue, priorities and the bill; nothing where it says nothing."""
    from tidy_crate.cli.show import duration, money

    found: list[tuple[str, object]] = []
    if any(card.queue_seconds):
        short, usual, long = (duration(seconds) for seconds in card.queue_seconds)
        found.append(("queue", f"{usual} usually, {short} to {long}"))
    if len(card.priority) > 1:
        names = [f"{one.name} (price x {one.price:g}, queue x {one.wait:g})" for one in card.priority]
        found.append(("priorities", ", ".join(names)))
    taken_back = [one.name for one in card.machine if one.reclaimable is not None]
    if taken_back:
        found.append(("reclaimable", ", ".join(taken_back)))
    bill = [
        f"tax {card.tax_percent} %" if card.tax_percent else "",
        f"at least {money(card.minimum_charge, card.currency)}" if card.minimum_charge else "",
        *(f"{one.percent} % off over {money(one.over, card.currency)}" for one in card.discount),
        f"{money(card.storage.per_gb_day, card.currency)} a GiB and day" if card.storage is not None else "",
        f"{money(card.egress.per_gb, card.currency)} a GiB brought home" if card.egress is not None else "",
        f"a credit is {card.credits.price} {card.currency}" if card.credits is not None else "",
    ]
    said = ", ".join(one for one in bill if one)
    return [*found, ("bill", said)] if said else found


def _own_machines(card: FarmCard) -> list[tuple[str, object]]:
    """Facts of one's own machines: their storage, and every command that the card brings."""
    from tidy_crate.core.farm.sign_in import commands_of

    if card.cluster.shared is None:
        return []
    nodes = card.cluster.shared_on_nodes
    found: list[tuple[str, object]] = [("share", f"{card.cluster.shared}{f', on nodes {nodes}' if nodes else ''}")]
    return found + [("runs", shlex.join(line)) for line in commands_of(card)]


def _limits(card: FarmCard) -> str:
    units = {"minutes_per_frame": "minutes a frame", "upload_gb": "GiB of upload", "path_length": "characters of path"}
    found = {units.get(name, name): value for name, value in card.limits.model_dump(exclude_none=True).items()}
    return ", ".join(f"{value:,.10g} {name}" for name, value in found.items()) or "none known"
