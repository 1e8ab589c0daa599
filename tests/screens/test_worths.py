"""Amounts that another test of a programme holds: what is taken out of them is what the engine would give."""

from __future__ import annotations

from dataclasses import replace
from decimal import Decimal

from hypothesis import given
from hypothesis import strategies as st

from conftest import screened
from sabueso.screens.worths import Worths

cents = st.one_of(st.integers(-300, 300), st.integers(-(10**9), 10**9), st.none())
ledgers = st.lists(st.tuples(cents, st.sampled_from("abcd")), min_size=3, max_size=120)


@given(
    ledgers,
    st.sampled_from(["amount > 0", "amount between -1.5 and 2", "amount < -0.05 and amount > -1000", "amount > 1e2"]),
    st.sampled_from([[], ["account"]]),
    st.sampled_from(["amount", "log"]),
    st.sampled_from(["fences", "zscore"]),
)  # fmt: skip
def test_a_condition_on_the_amount_is_applied_to_what_is_held(
    populate, rows, where, by, scale, test
):
    settings = {"by": by, "scale": scale, "min_group": 5}
    ledger = populate(
        [{"amount": None if c is None else Decimal(c) / 100, "account": a} for c, a in rows]
        + [{"amount": Decimal(i) / 7 // Decimal("0.01") / 100, "account": "e"} for i in range(40)],
        amount="amount",
    )
    alone = screened(replace(ledger, where=where, known={}), test, **settings)
    asked, plainly = [], Worths._asked

    def counted(*given):
        asked.append(given)
        return plainly(*given)

    Worths._asked = staticmethod(counted)
    try:
        screened(ledger, "zscore", by=by, min_group=5)
        among_others = screened(replace(ledger, where=where), test, **settings)
    finally:
        Worths._asked = plainly
    assert among_others == alone
    # Twice where the condition is more than bounds, written so that one may not know.
    assert len(asked) == 1 + ("e2" in where)
