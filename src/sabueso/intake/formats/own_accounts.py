"""Accounts that are somebody's own, such as the bank account that a wage goes to, and none of the ledger."""

from __future__ import annotations

import pyarrow as pa

from sabueso.population.table import Role

LEAST_PARTIES = 20
NEARLY = 0.9
"""Part of the pairs of a party and an account that may be fewer than either, or more."""
LONG = 6
"""Signs of a value from which it may be somebody's own."""


def leave_own_accounts(guessed: dict[Role, str], sample: pa.Table) -> None:
    """Take the role of the ledger's account from a column in which every party has one of its own.

    Many parties are posted to one account of a ledger; of what each has for itself screens by account would look
    at one party at a time.
    """
    if not {"party", "account"} <= guessed.keys():
        return
    party, account = guessed["party"], guessed["account"]
    if not {party, account} <= set(sample.column_names):
        return
    both = [
        (one, other)
        for one, other in zip(
            sample.column(party).to_pylist(), sample.column(account).to_pylist(), strict=True
        )
        if one and other
    ]
    pairs, parties, accounts = set(both), {p for p, _ in both}, {a for _, a in both}
    if len(parties) < LEAST_PARTIES or sum(len(a) >= LONG for a in accounts) < NEARLY * len(
        accounts
    ):
        return
    if min(len(parties), len(accounts)) >= NEARLY * len(pairs):
        del guessed["account"]
