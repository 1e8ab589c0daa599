"""A sample of a table's rows, drawn so that anyone draws the same rows again.

Nothing is tested and nothing flagged: the rows drawn are looked at whatever they hold, and what is found
in them is projected onto all that they were drawn of.
"""

from __future__ import annotations

from collections.abc import Sequence
from decimal import ROUND_DOWN, Decimal

import pyarrow as pa
import sqlglot.expressions as exp

from sabueso.base.errors import UserError
from sabueso.population import sql
from sabueso.population.population import Account, Population, Reason, missing, zero
from sabueso.population.table import Column, exactly_scaled
from sabueso.population.units import unit_of
from sabueso.report import numbers as num
from sabueso.screens.drawn import Evaluated, Judged
from sabueso.screens.finding import Caution, Finding, Flags
from sabueso.screens.interface import Screen
from sabueso.screens.sample.draw import draw_items, draw_money
from sabueso.screens.sample.evaluation import evaluate
from sabueso.screens.sample.frame import Drawn, Frame
from sabueso.screens.sample.result import Draw, SampleGroup
from sabueso.screens.sample.settings import BY_MONEY, SampleSettings, exact, is_share, share_of
from sabueso.screens.sample.strata import chosen_edges, draw_strata, strata_between
from sabueso.screens.sample.told import told
from sabueso.screens.sample.view import SampleView
from sabueso.stats.sample_size import attribute_size, money_size, strata_size

STRATA, TOLERABLE, FEW = 4, "5%", 30


class Sample(Screen):
    """A sample, drawn once and kept."""

    name = "sample"
    summary = "rows drawn at random, to be reviewed and projected onto all of them"
    reference = "Cochran (1977); Leslie, Teitlebaum & Anderson (1979); Neyman (1934); Dalenius & Hodges (1959)"
    settings = SampleSettings
    group = SampleGroup
    more = Draw
    view = SampleView
    place = 90
    drawn = True

    def evaluated(self, finding: Finding[SampleGroup], judged: Sequence[Judged]) -> Evaluated:
        return told(evaluate(finding, judged), finding)

    def run(self, population: Population, settings: SampleSettings) -> Finding[SampleGroup]:
        table = population.table
        measure = _measure(population, settings)
        reasons = _reasons(measure, settings)
        account = population.account(measure, reasons)
        if not account.used:
            raise UserError(f"table {table.name!r}: no row is left to draw from")
        frame = Frame(population, measure, reasons)
        done = _drawn(frame, account, settings)
        tolerable = _tolerable(account, settings)
        columns = {
            "reason": pa.array(_reasons_of(done, account, settings, measure), pa.string()),
            "direction": pa.array([settings.method] * done.rows.num_rows, pa.string()),
        }
        rows = done.rows
        for name, values in columns.items():
            rows = rows.append_column(name, values)
        if measure is None:
            rows = rows.append_column("amount", pa.nulls(rows.num_rows, pa.decimal128(18, 2)))
        return Finding(
            test=self.name,
            table=table.name,
            on=None if measure is None else measure.name,
            by=[],
            settings=settings.model_dump(),
            solved={} if settings.seed is not None else {"seed": 0},
            population=account,
            groups=done.groups,
            flags=Flags("sampled", rows),
            tests_made=0,
            subjects=account.used,
            cautions=_cautions(account, done, settings),
            not_tested=[],
            currency="" if measure is None else unit_of(table, measure),
            scale=2 if measure is None else measure.scale,
            more=Draw(
                settings.method,
                rows.num_rows,
                _solved(settings),
                done.interval,
                done.start,
                *tolerable,
            ),
        )


def _measure(population: Population, settings: SampleSettings) -> Column | None:
    """The amounts; none where the table has no such, and the method asks for none."""
    table = population.table
    if settings.on is None and settings.method not in BY_MONEY and table.role("amount") is None:
        return None
    return table.measure(settings.on)


def _reasons(measure: Column | None, settings: SampleSettings) -> list[Reason]:
    """Why rows cannot be drawn."""
    if measure is None:
        return []
    if settings.method != "money":
        return [missing(measure)]
    negative = exp.LT(this=sql.column(measure.name), expression=sql.integer(0))
    return [missing(measure), zero(measure), Reason("negative", negative)]


def _drawn(frame: Frame, account: Account, settings: SampleSettings) -> Drawn:
    """The rows, by the method that is asked for."""
    # In a plan written by hand the seed may be left out.
    seed, n = str(settings.seed or 0), account.used
    if settings.method == "strata":
        return _stratified(frame, account, settings, seed)
    if settings.method == "money":
        size = _fit(_money_size(account, settings), n)
        return draw_money(frame, seed, size, n, _minor(frame, account))
    wanted = settings.size
    if wanted is None:
        wanted = _sized(
            attribute_size, settings.level, *_shares(account, settings), population=account.used
        )
    total = None if frame.measure is None else account.used_total
    spaced = settings.method == "systematic"
    return draw_items(frame, seed, _fit(wanted, n), n, total, spaced=spaced)


def _minor(frame: Frame, account: Account) -> int:
    assert frame.measure is not None
    assert account.used_total is not None
    return int(account.used_total.scaleb(frame.measure.scale))


def _money_size(account: Account, settings: SampleSettings) -> int:
    if settings.size is not None:
        return settings.size
    return _sized(money_size, settings.level, *_shares(account, settings))


def _sized(law, *given, **more) -> int:  # type: ignore[no-untyped-def]
    try:
        return int(law(*given, **more))
    except ValueError as error:
        raise UserError(str(error)) from None


def _fit(size: int, n: int) -> int:
    if size > n:
        raise UserError(
            f"a sample of {size:,} cannot be drawn of {num.many(n, 'row')}: ask for less, or look at them all"
        )
    return size


def _shares(account: Account, settings: SampleSettings) -> tuple[float, float]:
    """The tolerable and the expected error as shares of what there is."""
    found = []
    for text in (settings.tolerable or TOLERABLE, settings.expected or "0"):
        if is_share(text):
            found.append(float(share_of(text, "a share")))
            continue
        total = account.used_total
        assert total is not None
        found.append(float(exact(text, "an amount") / abs(total)) if total else 1.0)
    if found[0] >= 1:
        raise UserError(
            f"the tolerable error is not below what all rows add up to, {account.used_total:,}"
        )
    return found[0], found[1]


def _tolerable(account: Account, settings: SampleSettings) -> tuple[Decimal | None, float | None]:
    """The error that can be tolerated, as an amount and as a share of the items; None where not said."""
    text = settings.tolerable or (None if settings.size is not None else TOLERABLE)
    if text is None:
        return None, None
    if settings.method not in BY_MONEY:
        return None, float(share_of(text, "a share"))
    total = account.used_total
    assert total is not None
    if not is_share(text):
        return exact(text, "an amount"), None
    # To the minor unit, and down: what is tolerated is no more than that.
    cut = Decimal(1).scaleb(total.as_tuple().exponent)  # type: ignore[arg-type]
    return (abs(total) * share_of(text, "a share")).quantize(cut, ROUND_DOWN), None


def _stratified(frame: Frame, account: Account, settings: SampleSettings, seed: str) -> Drawn:
    assert frame.measure is not None
    scale = frame.measure.scale
    all_from = None if settings.take_all is None else _units(settings.take_all, scale, "take-all")
    if settings.edges:
        edges = [_units(exact(text, "an amount"), scale, "edges") for text in settings.edges]
        if all_from is not None:
            edges = [edge for edge in edges if edge < all_from]
    else:
        edges = chosen_edges(frame, settings.strata or STRATA, all_from)
    edges += [] if all_from is None else [all_from]
    strata = strata_between(frame, edges)
    spread, counts = strata.spread, [row["n"] for row in strata.rows]
    last = counts[-1] if all_from is not None else 0
    some, own = (counts[:-1], spread[:-1]) if all_from is not None else (counts, spread)
    size = settings.size
    if size is None:
        amount, _ = _tolerable(account, settings)
        assert amount is not None
        units = float(amount) * 10**scale
        size = last + _sized(strata_size, settings.level, units, some, own)
    least = last + sum(min(2, count) for count in some)
    if size < least:
        raise UserError(
            f"a sample of {size:,} is too small: {len([c for c in some if c])} strata need two items each"
            + (f", and {last:,} are taken whole" if last else "")
            + f", which are {least:,}"
        )
    size = _fit(size, account.used)
    return draw_strata(frame, seed, size, strata, last_whole=all_from is not None)


def _units(value: Decimal, scale: int, name: str) -> int:
    if -int(value.normalize().as_tuple().exponent) > scale:
        raise UserError(f"{name}: {value} has more decimals than the amounts, which have {scale}")
    return int(exactly_scaled(value.normalize() + 0, scale).scaleb(scale)) if value else 0


def _solved(settings: SampleSettings) -> str:
    """What the size was solved from, in words; empty where it was given."""
    if settings.size is not None:
        return ""
    tolerable = settings.tolerable or TOLERABLE
    if settings.method == "strata":
        return f"{settings.confidence} confidence, {tolerable} either way"
    expected = settings.expected or "0"
    return f"{settings.confidence} confidence, {tolerable} tolerable, {expected} expected"


def _reasons_of(
    done: Drawn, account: Account, settings: SampleSettings, measure: Column | None
) -> list[str]:
    """Why each of the rows drawn is one of them."""
    rows, scale = done.rows, 2 if measure is None else measure.scale
    whole = rows.column("whole").to_pylist()
    if settings.method == "money":
        counted = next((g.total for g in done.groups if not g.whole), None)
        total = num.amount(counted, scale)
        return [
            "as large as the interval, or larger: taken whole"
            if full
            else f"holds unit {num.amount(unit, scale)} of the {total} counted row by row"
            for full, unit in zip(whole, rows.column("unit").to_pylist(), strict=True)
        ]
    places = rows.column("place").to_pylist()
    if settings.method == "strata":
        groups = {g.group["stratum"]: g for g in done.groups}
        told = []
        for place, stratum, full in zip(
            places, rows.column("stratum").to_pylist(), whole, strict=True
        ):
            g = groups[stratum + 1]
            how = "all are taken" if full else f"number {place:,}, drawn at random"
            told.append(f"stratum {stratum + 1}, {num.many(g.n, 'row')}: {how}")
        return told
    way = "at equal intervals" if settings.method == "systematic" else "drawn at random"
    return [
        f"row {place:,} of {account.used:,}: {'all are taken' if full else way}"
        for place, full in zip(places, whole, strict=True)
    ]


def _cautions(account: Account, done: Drawn, settings: SampleSettings) -> list[Caution]:
    found = []
    apart = {code: account.left_out.get(code, 0) for code in ("zero", "negative")}
    if settings.method == "money" and any(apart.values()):
        amount = account.left_out_totals.get("negative", Decimal(0))
        found.append(
            Caution(
                "not_drawn_from",
                f"{num.many(apart['zero'], 'row')} of amount 0 and {num.many(apart['negative'], 'row')} below "
                f"0 ({num.amount(amount)} in all) hold no money unit that could be drawn: this sample says "
                "nothing of them",
                {**apart, "negative_total": format(amount, "f")},
            )
        )
    if settings.method == "systematic":
        found.append(
            Caution(
                "equal_intervals",
                "limits and intervals suppose that what recurs in the order of the rows does not recur with "
                "the interval",
                {},
            )
        )
    few = sum(1 for g in done.groups if not g.whole and g.size < FEW)
    if few and settings.method in ("random", "systematic"):
        found.append(
            Caution("too_few", f"fewer than {FEW} items are drawn: the limits will be wide", {})
        )
    return found
