"""What a user's expression may contain, and what it means."""

from __future__ import annotations

from dataclasses import replace
from datetime import date
from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sabueso.base.errors import UserError
from sabueso.population.drill import rows
from sabueso.population.expressions import condition, quoted_name, split_list

ROWS = [
    {"id": "a", "day": date(2024, 3, 31), "amount": Decimal("4900.00"), "who": "Ana"},
    {"id": "b", "day": date(2024, 4, 1), "amount": Decimal("-49.10"), "who": None},
    {"id": "c", "day": date(2025, 1, 6), "amount": Decimal("0.07"), "who": "Luis"},
    {"id": "d", "day": date(2025, 12, 31), "amount": Decimal("0.00"), "who": "ana"},
]


def _ids(populate, where):
    population = populate(ROWS, where=where, id="id", date="day", amount="amount")
    return sorted(row["id"] for row in rows(population, limit=10).rows)


@pytest.mark.parametrize(
    ("where", "expected"),
    [
        ("amount > 0", "ac"),
        ("amount between -50 and 1 and who is not null", "cd"),
        ("first_two(amount) = 49", "ab"),
        ("first_digit(amount) = 7", "c"),
        ("last_two(amount) = 0", "ad"),
        ("lower(who) in ('ana', 'eva')", "ad"),
        ("day >= '2025-01-01'", "cd"),
        ("year = '2025' and month <> '2025-01'", "d"),
        ("weekday = 'Mon'", "bc"),
        ("weekday_of(date) = 'Mon'", "bc"),
        ("quarter = '2024-Q2'", "b"),
        ("preparer is null or amount = 0.07", None),
        ("not (who like 'A%')", "cd"),
        ("case when amount < 0 then 1 else 2 end = 1", "b"),
        ("id = 'a;b' or id = 'd'", "d"),
        ("_line = 4", "c"),
    ],
)
def test_conditions(populate, where, expected):
    if expected is None:
        with pytest.raises(UserError, match="no column 'preparer'"):
            _ids(populate, where)
    else:
        assert "".join(_ids(populate, where)) == expected


@pytest.mark.parametrize(
    ("where", "message"),
    [
        ("amount > 0; drop table ledger", "2 expressions"),
        ("amount", "not a condition"),
        ("amount + 1", "not a condition"),
        ("select 1", "statement"),
        ("amount > (select max(amount) from ledger)", "not allowed"),
        ("exists (select 1 from read_csv('/etc/passwd'))", "not"),
        ("read_text('/etc/passwd') = 'x'", "not allowed"),
        ("getenv('HOME') = 'x'", "not allowed"),
        ("id in (select id from ledger)", "not allowed"),
        ("count(*) > 1", "not allowed"),
        ("row_number() over () = 1", "not allowed"),
        ("other.amount > 0", "has no link 'other'"),
        ("amuont > 0", "did you mean 'amount'"),
        ("amount >", "cannot be read"),
        ("cast(id as blob) = 'x'", "not allowed"),
        ("who > 5", "who|convert|compare"),
        ("amount > 'abc'", "convert|abc"),
        ("", "0 expressions"),
        ("copy ledger to 'x.csv'", "statement|not"),
        ("pragma version", "statement|not"),
        ("first_two(who) = 1", "not numbers"),
    ],
)
def test_what_is_refused(populate, where, message):
    with pytest.raises(UserError, match=message) as error:
        _ids(populate, where or " ")
    assert "\n" not in str(error.value)


@given(st.text(max_size=40))
def test_any_text_is_read_or_refused_in_one_sentence(populate, text):
    population = populate(ROWS, where=text or None, id="id", date="day", amount="amount")
    try:
        found = rows(population, limit=10)
        assert found.population.used <= 4
    except UserError as error:
        assert str(error)


def test_lists_split_outside_brackets_and_quotes():
    assert split_list("sum(amount), count(*),greatest(a, b), 'x,y'") == [
        "sum(amount)",
        "count(*)",
        "greatest(a, b)",
        "'x,y'",
    ]


WORDS = ("comment", "load", "use", "set", "grant", "drop", "update", "show", "call", "order", "case", "describe", "if",
         "select", "from", "Alter", "begin", "kill", "amount due")  # fmt: skip


@pytest.mark.parametrize("word", WORDS)
def test_a_column_called_as_a_statement_begins_is_a_column(populate, word, caplog):
    """Bare where that can be read, else in quotes, which is said; and no library speaks of it."""
    population = populate([{"id": f"R{i}", word: "xy"[i % 2]} for i in range(4)], id="id")
    where = f"{quoted_name(word)} = 'x' and {quoted_name(word)} <> 'y'"
    assert [row["id"] for row in rows(replace(population, where=where), limit=9).rows] == [
        "R0",
        "R2",
    ]
    try:
        assert condition(f"id is not null and {word} = 'x'", population.table)
        assert condition(f"{word} = 'x'", population.table)
    except UserError as error:
        assert f'the column is written "{word}", in double quotes' in str(error)
        assert quoted_name(word) == f'"{word}"'
    with pytest.raises(UserError, match=r"is a statement|cannot be read"):
        condition("create table t as select 1", population.table)
    assert not caplog.records
