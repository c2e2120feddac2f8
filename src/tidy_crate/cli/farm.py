"""tidy-crate farm"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from tidy_crate.cli.talk import Talk, command

if TYPE_CHECKING:
    from rich.console import Console

    from tidy_crate.core.farm.card import FarmCard


def register(app: typer.Typer) -> None:
    """Add the commands."""
    farm = typer.Typer(no_args_is_help=True, rich_markup_mode=None, help="Farm cards: list, show, add, test.")
    app.add_typer(farm, name="farm")

    @command(farm, "list")
    def list_(talk: Talk) -> None:
        """List the farms that are known by name."""
        from tidy_crate.cli.places import card_folders
        from tidy_crate.core.farm.card import SUFFIX, read_card

        paths = sorted(path for folder in card_folders() for path in folder.glob(f"*{SUFFIX}"))
        cards = [(path, read_card(path)) for path in paths]
        document = {"farms": [card.model_dump(mode="json") | {"card": str(path)} for path, card in cards]}
        talk.result(document, lambda console: _show_list(console, cards))

    @command(farm, "show")
    def show(talk: Talk, card: Annotated[str, typer.Argument(metavar="CARD", help="A card's file or name.")]) -> None:
        """Show one farm's card."""
        from tidy_crate.cli.places import load_card

        found, path = load_card(card)
        talk.result(
            found.model_dump(mode="json") | {"card": str(path)},
            lambda console: _show_card(console, found, path),
        )

    @command(farm, "add")
    def add(talk: Talk, card: Annotated[Path, typer.Argument(metavar="CARD", help="A card's file.")]) -> None:
        """Make a farm known by its name: its card is copied to where all commands find it."""
        from tidy_crate.cli.places import home
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
        target = home() / "farms" / f"{found.name}{SUFFIX}"
        write_bytes(target, card.read_bytes())
        talk.result(
            {"farm": found.name, "card": str(target)},
            lambda console: console.print(f"{found.name} is known now."),
        )

    @command(farm, "test")
    def test(talk: Talk, card: Annotated[str, typer.Argument(metavar="CARD", help="A card's file or name.")]) -> None:
        """Sign in to a farm and show the balance."""
        from tidy_crate.cli.places import Links, load_card

        found, path = load_card(card)
        link = Links.to(found, path)
        try:
            account = link.account()
        finally:
            link.close()
        talk.result(
            account.model_dump(mode="json") | {"farm": found.name},
            lambda console: console.print(
                f"{found.name} answers: signed in as {account.user}, {account.balance} {account.currency} left.",
                markup=False,
            ),
        )


def _show_list(console: Console, cards: list[tuple[Path, FarmCard]]) -> None:
    from tidy_crate.cli.show import cell, money, table

    if not cards:
        console.print("No farm is known by name yet: farm add CARD makes one known.")
        return
    rows = table("farm", "title", "address", "machines", "from", right=("from",))
    for _, card in cards:
        price = min(machine.price_per_hour for machine in card.machine)
        machines = ", ".join(f"{machine.nodes} x {machine.name}" for machine in card.machine)
        rows.add_row(
            cell(card.name),
            cell(card.title),
            cell(card.url),
            cell(machines),
            f"{money(price, card.currency)}/h",
        )
    console.print(rows)


def _show_card(console: Console, card: FarmCard, path: Path) -> None:
    from tidy_crate.cli.show import cell, duration, facts, money, table

    facts(
        console,
        [
            ("farm", card.title or card.name),
            ("card", path),
            ("address", card.url),
            ("rates from", card.rates_from),
            ("upload", f"{card.transfer.upload_mbit:g} Mbit/s"),
        ],
    )
    rows = table(
        "machine",
        "nodes",
        "score",
        "memory",
        "price",
        "billed in",
        "starts in",
        right=("nodes", "score", "price"),
    )
    for one in card.machine:
        rows.add_row(
            cell(one.name), str(one.nodes), f"{one.score:g}", f"{one.memory_gb:g} GB",
            f"{money(one.price_per_hour, card.currency)}/h",
            duration(one.billing_increment_seconds), duration(one.startup_seconds),
        )  # fmt: skip
    console.print()
    console.print(rows)
