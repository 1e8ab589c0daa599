"""Every test with settings drawn at random: a finding that keeps its promises, or one sentence."""

from __future__ import annotations

import typing
from datetime import date, datetime, timedelta
from decimal import Decimal
from types import UnionType

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from conftest import screened, table_of
from sabueso.base.errors import UserError
from sabueso.population.engines import EngineSettings, open_engine
from sabueso.population.population import Population
from sabueso.screens import find_screen, screen_names

ROLES = {
    "id": "id", "date": "day", "entered": "made", "account": "account", "party": "who", "preparer": "by",
    "approver": "okay", "amount": "amount", "quantity": "units", "document": "number", "text": "what",
}  # fmt: skip
COLUMNS = [
    "id",
    "day",
    "account",
    "who",
    "by",
    "amount",
    "units",
    "number",
    "what",
    "price",
    "nothing",
]
TEXTS = [
    *COLUMNS, "month", "year", "weekday", "quarter", "2024", "2025", "2024-07", "2024-05-01", "sum(amount)", "count(*)",
    "avg(price)", "units * price", "amount > 0", "account = '61'", "ledger", "other", "5%", "0.1", "12", "", "a,b", "who.name",
]  # fmt: skip
USUAL = {
    "crosstab": [{"of": ["account"]}, {"by": ["who"], "beside": "other"}, {"beside": "ledger", "where": "amount > 0"}],
    "distance": [{"measures": ["units", "price"]}, {"measures": ["amount", "units", "price"]},
                 {"measures": ["sum(amount)", "count(*)"], "per": ["who"]}],
    "event": [{"at": "2024-12-01"}, {"at": "2024-12-01", "per": "who", "window": "60"}, {"at": "2024-06-01,2025-06-01"}],
    "match": [{"other": "other", "on": ["who"]}, {"other": "ledger", "on": ["number"]}, {"other": "other", "on": ["id=id"]}],
    "periods": [{"per": ["account"], "base": "2024", "current": "2025"}, {"per": ["who"], "base": "2024-07", "current": "2025-07"}],
    "relation": [{"measures": ["units", "price"]}, {"measures": ["amount", "units", "price"]}, {"measures": ["sum(amount)", "count(*)"], "per": ["month"]}],
    "recompute": [{"expect": "units * price"}, {"what": "totals", "by": ["account"], "equals": "sum(amount)", "expect": "sum(price)", "other": "other"}],
    "range": [{"least": "0"}, {"greatest": "100", "on": "price"}, {"required": ["account", "what"]}],
    "payees": [{"per": "who"}], "split": [{"limit": "500"}], "traits": [{"per": ["number"]}], "sequence": [{"of": "number"}],
}  # fmt: skip
"""Settings that fit, so that most of what is drawn beside them is looked at."""
NUMBERS = [0, 1, 2, 3, 5, 12, 40, 0.001, 0.05, 0.5, 0.9, 1.5, -1, 1000, 10**9]


def _rows(n: int, seed: int) -> list[dict]:
    """A small ledger with gaps, ties, credits, repeats and a column that is empty."""
    rng = np.random.default_rng(seed)
    rows = []
    for i in range(n):
        day = date(2024, 1, 1) + timedelta(days=int(rng.integers(0, 700)))
        units, price = int(rng.integers(1, 60)), Decimal(int(rng.integers(100, 9000))).scaleb(-2)
        amount = Decimal(int(rng.lognormal(8, 1.4))).scaleb(-2) * (1 if i % 9 else -1)
        rows.append(
            {
                "id": f"R{i:04d}" if i % 53 else "R0007",
                "day": None if i % 61 == 5 else day,
                "made": datetime(day.year, day.month, day.day, int(rng.integers(0, 24)), 7),
                "account": None if i % 47 == 3 else f"6{i % 4}",
                "who": f"S{int(rng.integers(0, 12)):02d}",
                "by": "abc"[i % 3],
                "okay": "boss" if i % 7 else "a",
                "amount": None if i % 71 == 9 else amount,
                "units": Decimal(units),
                "price": price,
                "number": f"F-{i // 2:05d}",
                "what": ["rent", "fuel for the port", "regular", ""][i % 4],
                "nothing": None,
            }
        )
    return rows + rows[10:14]


@pytest.fixture(scope="module")
def populations(tmp_path_factory):
    """The same table with many rows, with few, and with one; another one to match with."""
    folder = tmp_path_factory.mktemp("settings")
    engine = open_engine(EngineSettings())
    found = {}
    for name, n in (("ledger", 400), ("few", 9), ("one", 1), ("other", 150)):
        table = table_of(_rows(n, len(name))[: max(n, 1)], folder / f"{name}.parquet", **ROLES)
        found[name] = type(table)(
            name, name[:3].upper(), table.columns, table.parts, table.roles, table.currency
        )
        engine.attach(found[name])
    yield {name: Population(engine, table, tables=found) for name, table in found.items()}
    engine.close()


def _strategy(annotation: object) -> st.SearchStrategy:
    """Values that a setting of this type might be given, right or wrong."""
    origin, inside = typing.get_origin(annotation), typing.get_args(annotation)
    if origin is typing.Annotated:
        return _strategy(inside[0])
    if origin is typing.Literal:
        return st.sampled_from(inside)
    if origin in (typing.Union, UnionType):
        return st.one_of(*(_strategy(each) for each in inside if each is not type(None)))
    if origin in (list, tuple):
        return st.lists(_strategy(inside[0]), min_size=1, max_size=3)
    if annotation is bool:
        return st.booleans()
    if annotation in (int, float, Decimal):
        return st.sampled_from(NUMBERS).map(str)
    return st.sampled_from(TEXTS)


@pytest.mark.parametrize("test", screen_names())
@settings(suppress_health_check=list(HealthCheck))
@given(data=st.data())
def test_any_settings_give_a_finding_or_a_sentence(populations, test, data):
    screen = find_screen(test)
    fields = screen.settings.model_fields
    required = [name for name, field in fields.items() if field.is_required()]
    names = st.lists(st.sampled_from(sorted(fields)), max_size=4, unique=True)
    usual = data.draw(st.sampled_from([*USUAL.get(test, [{}]), {}]), label="usual")
    given_ = {
        name: data.draw(_strategy(fields[name].annotation), label=name)
        for name in dict.fromkeys([*required, *data.draw(names, label="settings")])
        if name not in usual
    }
    given_ |= usual
    where = data.draw(
        st.sampled_from([None, None, None, "amount > 0", "amount > 1e9", "who = 'S03'"])
    )
    table = data.draw(st.sampled_from(["ledger", "ledger", "few", "one"]))
    if where is not None:
        given_["where"] = where
    whole = populations[table]
    population = Population(whole.engine, whole.table, where, tables=whole.tables)
    try:
        found = screened(population, test, **given_)
    except UserError as error:
        assert str(error) and "\n" not in str(error)
        return
    assert found["flag_count"] == len(found["flags"])
    assert 0 <= found["flags_with_p"] <= found["flag_count"]
    for flag in found["flags"]:
        p, adjusted = flag.get("p"), flag.get("p_adjusted")
        assert p is None or 0 <= p <= 1
        assert adjusted is None or p <= adjusted * (1 + 1e-9) <= 1 + 1e-9
    for caution in found["cautions"]:
        assert caution["code"] and caution["text"] and "nan" not in caution["text"].lower().split()
    by_chance = found["flags_by_chance"]
    assert by_chance is None or by_chance >= 0
