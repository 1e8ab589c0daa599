"""What is proposed of a tape of loans: instalments that are the annuity of what was lent, at its rate and over its term."""

from __future__ import annotations

import random
from decimal import Decimal, localcontext

import pytest

from folders import asked_for, taken_in

N, PLANTED = 400, 5


def _annuity(lent, yearly, months):
    """By the definition: what all instalments are worth on the day of the loan is what was lent."""
    with localcontext() as exact:
        exact.prec = 40
        each = yearly / 12
        worth = sum((1 + each) ** -n for n in range(1, months + 1))
        return (Decimal(lent) / worth).quantize(Decimal("0.01"))


@pytest.mark.parametrize(
    ("term", "rate", "told"),
    [
        (lambda n: f" {n} months", lambda y: f"{100 * y:.2f}%", "at rate per cent over term"),
        (lambda n: n, lambda y: f"{100 * y:.2f}", "at rate per cent over term months"),
        (lambda n: n // 12, lambda y: f"{y:.4f}", "at rate over term years"),
        (lambda n: f"{n // 12} Jahre", lambda y: f"{100 * y:.2f}", "at rate per cent over term"),
    ],
)
def test_an_instalment_is_the_annuity_of_its_loan(tmp_path, term, rate, told):
    rng = random.Random(7)
    rows = []
    for n in range(N):
        lent, yearly = rng.randrange(1_000, 40_000, 25), Decimal(rng.randrange(301, 2_999)) / 10_000
        months = rng.choice((24, 36, 60))
        rows.append({
            "id": 70_000_000 + 7 * n, "amount": lent, "term": term(months), "rate": rate(yearly),
            "instalment": _annuity(lent, yearly, months), "income": rng.randrange(20_000, 90_000),
            "owed": Decimal(rng.randrange(100, 900_000)) / 100,
        })  # fmt: skip
    odd = rng.sample(range(N), PLANTED)
    for n in odd:
        rows[n]["instalment"] += Decimal("1.50")
    case, screens = taken_in(tmp_path, {"tape": rows})
    name = "instalment of tape is the annuity of amount"
    assert screens[name]["because"].startswith(told)
    found = asked_for(case)[name]
    assert {item["subject"]["id"] for item in found} == {str(rows[n]["id"]) for n in odd}
