"""E5: price models, at their edges: one cent below and above, one second below and above."""

from __future__ import annotations

from decimal import Decimal

import numpy as np
import pytest

from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.farm.prices import Discount, Hardware, Price, Prices, Usage, bill, counted, discounted

BOX = Hardware("box", score=250.0, cores=16, gpus=2)


def usage(*seconds: float, starting: float = 0.0, frames: float = 10, **steps: float) -> Usage:
    working = np.array([seconds])
    return Usage(
        working, np.where(working > 0, starting, 0.0), np.array([frames]),
        {name: np.array([steps.get(name, 0.0)]) for name in ("upload", "processing", "download")},  # type: ignore[misc]
    )  # fmt: skip


def cost(price: Price, used: Usage) -> Decimal:
    (one,) = counted((price,), BOX, used)
    return Decimal(float(one.quantity[0])) * one.one


@pytest.mark.parametrize(
    ("price", "used", "amount"),
    [
        ({"per": "machine-hour", "amount": "3.6"}, usage(1000), "1.000"),
        ({"per": "machine-hour", "amount": "3.6"}, usage(1000, 500, 0), "1.500"),
        ({"per": "machine-hour", "amount": "3.6"}, usage(1000, starting=100), "1.100"),
        ({"per": "machine-hour", "amount": "3.6", "startup_billed": False}, usage(1000, starting=100), "1.000"),
        ({"per": "gpu-hour", "amount": "3.6"}, usage(1000), "2.000"),
        ({"per": "core-hour", "amount": "0.36"}, usage(1000), "1.600"),
        ({"per": "score-hour", "amount": "3.6"}, usage(1000), "2.500"),
        ({"per": "frame", "amount": "0.05"}, usage(1000, frames=48), "2.40"),
        # whole increments, for each machine by itself
        ({"per": "machine-hour", "amount": "3600", "increment_seconds": 60}, usage(60), "60"),
        ({"per": "machine-hour", "amount": "3600", "increment_seconds": 60}, usage(60.001), "120"),
        ({"per": "machine-hour", "amount": "3600", "increment_seconds": 60}, usage(59.999, 1), "120"),
        ({"per": "machine-hour", "amount": "3600", "minimum_seconds": 300}, usage(299), "300"),
        ({"per": "machine-hour", "amount": "3600", "minimum_seconds": 300}, usage(301), "301"),
        ({"per": "machine-hour", "amount": "3600", "minimum_seconds": 300}, usage(1, 0), "300"),
        # a rented machine is paid from the first step on the clock to the last, idle or not
        ({"per": "rental", "amount": "2"}, usage(3600), "2"),
        ({"per": "rental", "amount": "2"}, usage(3601), "4"),
        ({"per": "rental", "amount": "2"}, usage(3600, 1), "4"),
        ({"per": "rental", "amount": "2"}, usage(3599, starting=1), "2"),
        ({"per": "rental", "amount": "2"}, usage(3599, starting=2), "4"),
        ({"per": "rental", "amount": "2"}, usage(3600, upload=5000), "2"),
        ({"per": "rental", "amount": "2", "on_the_clock": ("upload", "render")}, usage(3600, upload=5000), "6"),
        ({"per": "rental", "amount": "30", "block_hours": 24}, usage(86400), "30"),
        ({"per": "rental", "amount": "30", "block_hours": 24}, usage(86401), "60"),
    ],
)  # fmt: skip
def test_e5_each_model_to_the_cent(price: dict[str, object], used: Usage, amount: str) -> None:
    assert cost(Price.model_validate(price), used) == pytest.approx(Decimal(amount), abs=Decimal("1e-9"))


@pytest.mark.parametrize(
    ("amount", "off"),
    [("99.99", "0"), ("100", "0"), ("100.01", "0.001"), ("200", "10"), ("200.01", "10.002"), ("300", "30")],
)
def test_e5_steps_of_a_volume_discount_count_for_the_part_above(amount: str, off: str) -> None:
    steps = (Discount(over=Decimal(100), percent=Decimal(10)), Discount(over=Decimal(200), percent=Decimal(20)))
    assert discounted(Decimal(amount), steps) == Decimal(off)


@pytest.mark.parametrize(("amount", "off"), [("100", "0"), ("100.01", "10.001"), ("300", "60")])
def test_e5_a_discount_on_the_whole_sum(amount: str, off: str) -> None:
    steps = (
        Discount(over=Decimal(100), percent=Decimal(10), whole=True),
        Discount(over=Decimal(200), percent=Decimal(20), whole=True),
    )
    assert discounted(Decimal(amount), steps) == Decimal(off)


def test_e5_a_bill_adds_up() -> None:
    rules = Prices.model_validate({
        "discount": [{"over": "10", "percent": "50"}], "storage": {"per_gb_day": "0.10", "days": 5, "free_gb": 1},
        "egress": {"per_gb": "0.20"}, "tax_percent": "19",
    })  # fmt: skip
    found = bill(rules, Decimal(20), factor=1.5, stored_bytes=3 * 2**30, home_bytes=2 * 2**30)
    assert (found.rendering, found.discount, found.storage, found.egress) == (30, 10, 1, Decimal("0.4"))
    assert found.total == (30 - 10 + 1 + Decimal("0.4")) * Decimal("1.19")
    # what was paid earlier counts for the discount, and is not paid again
    assert bill(rules, Decimal(20), earlier=Decimal(10)).discount == 10


@pytest.mark.parametrize(("amount", "total"), [("4.99", "5"), ("5", "5"), ("5.01", "5.01")])
def test_e5_the_least_bill(amount: str, total: str) -> None:
    assert bill(Prices(minimum_charge=Decimal(5)), Decimal(amount)).total == Decimal(total)


def test_e5_credits_are_bought_in_packs() -> None:
    rules = Prices.model_validate({"credits": {"price": "0.02", "pack": 100}})
    assert bill(rules, Decimal(100)).total == Decimal("2.00") and bill(rules, Decimal("100.01")).total == Decimal(
        "4.00"
    )


MACHINE = {"name": "m", "nodes": 4, "score": 100, "memory_gb": 8}
CARD = {"name": "f", "currency": "EUR", "rates_from": "2026-11-01"}


@pytest.mark.parametrize(
    ("changes", "message"),
    [
        ({"machine": [MACHINE]}, "has no price"),
        ({"machine": [MACHINE], "price": [{"per": "gpu-hour", "amount": "1"}]}, "add gpus"),
        ({"machine": [MACHINE], "price": [{"per": "core-hour", "amount": "1"}]}, "add cores"),
        ({"machine": [MACHINE], "price": [{"per": "frame", "amount": "1", "machines": ["n"]}]}, "does not have"),
        ({"machine": [MACHINE], "price": [{"per": "frame", "amount": "-1"}]}, "greater than or equal to 0"),
        ({"machine": [{**MACHINE, "price_per_hour": "1", "usually_free": [1, 5, 4]}]}, "goes up from 1 to 4"),
        ({"machine": [{**MACHINE, "price_per_hour": "1"}], "queue_seconds": [5, 1, 9]}, "go up"),
        ({"machine": [{**MACHINE, "price_per_hour": "1", "score": float("inf")}]}, "finite|less than"),
        ({"machine": [{**MACHINE, "price_per_hour": "1", "score": 1e-300}]}, "greater than"),
        ({"machine": [{**MACHINE, "price_per_hour": "1", "billing_increment_seconds": 10**400}]}, "less than"),
        ({"machine": [{**MACHINE, "price_per_hour": "1"}], "transfer": {"upload_mbit": float("nan")}}, "finite"),
    ],
)  # fmt: skip
def test_a_card_whose_prices_do_not_hold_together_is_refused(changes: dict[str, object], message: str) -> None:
    with pytest.raises(ValueError, match=message):
        FarmCard.model_validate(CARD | changes)
