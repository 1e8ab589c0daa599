"""Amounts as people type them, read back or refused."""

from __future__ import annotations

from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sabueso.base.errors import UserError
from sabueso.base.typed import typed_amount


@given(
    st.integers(-(10**12), 10**12), st.sampled_from([".", ","]), st.sampled_from(["", ".", ",", "'", " "]),
    st.sampled_from([0, 2, 3]),
)  # fmt: skip
def test_an_amount_is_read_back_or_refused_and_never_another(units, decimal, thousands, places):
    value = Decimal(units).scaleb(-places)
    if thousands == decimal:
        return
    text = f"{value:,.{places}f}".replace(",", "\0").replace(".", decimal).replace("\0", thousands)
    try:
        read = typed_amount(text, "--amount")
    except UserError as error:
        marks = sum(text.count(mark) for mark in ".,")
        assert "may be" in str(error) and marks == 1 and len(text) - max(map(text.rfind, ".,")) == 4
    else:
        assert read == value


@pytest.mark.parametrize(
    "text", ["", "abc", "1,2,3", "12.34.56", "1.234,567.8", ",5", "1e5", "NaN", "--5"]
)
def test_what_is_no_amount_is_told(text):
    with pytest.raises(UserError, match="is no amount"):
        typed_amount(text, "--amount")
