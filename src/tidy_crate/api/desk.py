"""The desk: what one user needs open for a scene on its way. Ledger, links to farms, the clock, cards."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import datetime
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from tidy_crate.api.farms import FarmLinks, load_card
from tidy_crate.api.jobs import prepare
from tidy_crate.api.plan import estimate
from tidy_crate.api.scene import open_scene
from tidy_crate.api.user import User
from tidy_crate.core.errors import TidyCrateError, WrongUsage

if TYPE_CHECKING:
    from types import TracebackType

    from tidy_crate.core.context.scene import SceneContext
    from tidy_crate.core.estimate.model import Quote
    from tidy_crate.core.farm.card import FarmCard
    from tidy_crate.core.job.ledger import Ledger
    from tidy_crate.core.work.options import SendOptions
    from tidy_crate.core.workflow.shot import Offer
    from tidy_crate.estimating import Ask


class Desk:
    """The user's files, ledger, farms and clock, opened when first needed. Use it as a context manager."""

    def __init__(
        self, user: User | None = None, tell: Callable[[str], None] | None = None, *, tidy_dir: Path | None = None
    ) -> None:
        """tell: is told of a line to a farm that is silent. tidy_dir: where decisions and caches of scenes are."""
        self.user = user or User.here()
        self._tell, self._tidy_dir = tell, tidy_dir

    @cached_property
    def ledger(self) -> Ledger:
        """The ledger, open."""
        from tidy_crate.core.job.ledger import Ledger

        return Ledger(self.user.ledger)

    @cached_property
    def links(self) -> FarmLinks:
        """The links to farms."""
        return FarmLinks(self.user, self._tell)

    def now(self) -> datetime:
        """Return the time, with its zone."""
        return datetime.now().astimezone()

    def open_scene(self, scene_file: Path) -> SceneContext:
        """Return a scene with its decisions and caches as they are now."""
        return open_scene(scene_file, tidy_dir=self._tidy_dir, user=self.user)

    def known_farms(self) -> tuple[str, ...]:
        """Return the farms that are known by name."""
        from tidy_crate.core.farm.card import known_farms

        return tuple(known_farms(self.user.card_folders))

    def card(self, farm: str) -> FarmCard:
        """Return a farm's card, by name or path."""
        return load_card(farm, user=self.user)[0]

    def origin_of(self, crate_folder: Path) -> Path:
        """Return the file in which it is noted what a crate was made from."""
        return self.user.origin_of(crate_folder)

    def proof_of(self, crate_folder: Path) -> Path:
        """Return the file in which the last proof of a crate is noted."""
        return self.user.proof_of(crate_folder)

    def offer(self, crate_folder: Path, farms: Sequence[str], options: SendOptions) -> Offer:
        """Return the way to send a crate that the estimate recommends; to the first farm where none can be made."""
        from tidy_crate.core.workflow.shot import Offer, options_of, send_line

        named = {self.card(farm).name: farm for farm in farms}
        wanted, farm = options, farms[0]
        no_estimate = ""
        ways: tuple[Quote, ...] = ()
        try:
            found = estimate(crate_folder, farms, asked_of(options), user=self.user).estimate
        except TidyCrateError as error:
            no_estimate = error.what
        else:
            at = found.pick.index if found.pick is not None else None
            if at is None:
                reasons = "; ".join(dict.fromkeys(reason for one in found.quotes for reason in one.reasons))
                raise WrongUsage("none of the farms can render it", ", ".join(named), reasons or None)
            quote, ways = found.quotes[at], found.quotes
            if not quote.shares:
                farm = named[quote.farm]
                wanted = options_of(quote).model_copy(update=options.said())
        prepared = prepare(crate_folder, farm, wanted, user=self.user)
        return Offer(
            farm=farm,
            name=prepared.card.name,
            options=wanted,
            quote=prepared.quote,
            ways=ways,
            no_quote=no_estimate or prepared.no_quote,
            errors=tuple(f"{one.subject}: {one.message}; {one.remedy}" for one in prepared.sending.errors),
            command=send_line(crate_folder, farm, wanted),
        )

    def __enter__(self) -> Desk:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, at: TracebackType | None) -> None:
        if "links" in self.__dict__:
            self.links.__exit__(kind, error, at)
        if "ledger" in self.__dict__:
            self.ledger.close()


def asked_of(options: SendOptions) -> Ask:
    """Return the same wishes for an estimate."""
    from tidy_crate.estimating import Ask as Wanted

    return Wanted(
        machine=options.machine,
        nodes=options.nodes,
        batch=options.batch,
        priority=options.priority,
        reclaimable=options.reclaimable,
    )
