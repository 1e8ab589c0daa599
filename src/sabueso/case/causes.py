"""What is behind an exception, said in sentences: the most telling first, each with its figures."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from decimal import Decimal

from sabueso.case.behind import Why
from sabueso.population.driving import MONTH, Driver
from sabueso.population.peers import Peers
from sabueso.report import numbers as num
from sabueso.screens.subject import Cluster, Entity

ALPHA = 0.05
TELLING_ROLES = ("party", "preparer", "approver", "account")
MOST = 6
LEAST_PART = 0.25
"""The part of a change that one value must make to be named."""
SEVERAL, HALF = 3, 50
"""Measures of a distance that are named where two of them make less than so many per cent."""


def ranked(drivers: Sequence[Driver], roles: Mapping[str, str]) -> list[Driver]:
    """Columns by what they tell: where several tell beyond doubt, people and parties before other
    columns; then the smallest p, or the largest part of a change."""
    order = [roles.get(role) for role in TELLING_ROLES]

    def place(driver: Driver) -> tuple[float, ...]:
        first = driver.values[0] if driver.values else None
        sure = first is not None and first.p_adjusted is not None and first.p_adjusted < 1e-4
        known = order.index(driver.column) if driver.column in order else len(order)
        return (float(not sure), float(known) if sure else 0.0, -driver.strength)

    return sorted(drivers, key=place)


def sentences(found: Why) -> list[str]:
    """What is behind an exception. Nothing is said that the figures do not carry."""
    if found.change:
        said = _of_change(found)
    elif found.peers:
        said = [*_of_entity(found), *_of_row(found)]
    else:
        said = [*_of_entity(found), *_of_rows(found)]
    return [*found.reasons, *said, *_beside(found)][:MOST]


def _money(found: Why, value: Decimal | None) -> str:
    return num.amount(value, found.scale)


def _of_change(found: Why) -> list[str]:
    said = []
    if found.rate_volume is not None:
        volume, rate = found.rate_volume
        by, other = ("price", "quantity") if abs(rate) >= abs(volume) else ("quantity", "price")
        against = f", while the {other} moved the other way" if volume * rate < 0 else ""
        said.append(
            f"The {by} moved it{against}: of the change of {_signed(found, volume + rate)} "
            f"the price makes {_signed(found, rate)} and the quantity {_signed(found, volume)}."
        )
    looked_at = [driver for driver in found.drivers if driver.column != MONTH and driver.values]
    for driver in looked_at:
        value = max(driver.values, key=lambda v: v.part or 0.0)
        if value.part is not None and value.part >= LEAST_PART:
            whole = sum((v.change or Decimal(0) for v in driver.values), Decimal(0))
            rest = whole - (value.change or Decimal(0))
            said.append(
                f"{driver.column} {num.shown(value.value)} makes {num.percent(value.part)} of the change: "
                f"{_money(found, value.base)} before, {_money(found, value.amount)} after; without it the change "
                f"is {_signed(found, rest)} and not {_signed(found, whole)}."
            )
    if not said and looked_at:
        columns = ", ".join(driver.column for driver in looked_at)
        said.append(f"No one value of {columns} makes a quarter of the change: it is spread.")
    return said


def _of_row(found: Why) -> list[str]:
    """Peers first: whether it is unusual among its own kind, or in the whole alone."""
    said = []
    amount = found.amount
    assert amount is not None
    far = [p for p in found.peers if p.enough and p.stands(amount) == "far"]
    ordinary = [p for p in found.peers if p.enough and p.stands(amount) == "ordinary"]
    usual = [p for p in ordinary if p.larger]
    largest = [p for p in ordinary if not p.larger]
    few = [p for p in found.peers if not p.enough]
    if far:
        said.append(
            "Unusual among its own kind: "
            + "; ".join(_place_of(found, p, amount) for p in far)
            + "."
        )
    for peer in far:
        factor = peer.shifted(amount)
        if factor is not None:
            moved = amount / factor
            said.append(
                f"Divided by {factor:,} it is {num.amount(round(moved, found.scale), found.scale)}, within the middle "
                f"half of the rows of {peer.column} {num.shown(peer.value)}: a decimal mark may have been lost."
            )
            break
    if usual:
        said.append(
            "Ordinary among the rows of "
            + "; of ".join(
                f"{p.column} {num.shown(p.value)} ({p.larger:,} of {p.n:,} are larger)"
                for p in usual
            )
            + "."
        )
    if largest:
        said.append(
            "The largest, and not far from the others, of "
            + "; of ".join(
                f"the {p.n:,} rows of {p.column} {num.shown(p.value)}, whose median is "
                f"{num.number(p.median, found.scale)}"
                for p in largest
            )
            + "."
        )
    if few:
        said.append(
            "Too few to say what is usual: "
            + "; ".join(f"{p.column} {num.shown(p.value)} has {num.many(p.n, 'row')}" for p in few)
            + "."
        )
    if not said:
        said.append(
            "Beyond most rows of its own kind, and not far outside: "
            + "; ".join(_place_of(found, p, amount) for p in found.peers)
            + "."
        )
    return said


def _place_of(found: Why, peer: Peers, amount: Decimal) -> str:
    where = "the largest" if peer.larger == 0 else f"number {peer.larger + 1:,} by size"
    times = abs(float(amount)) / abs(peer.median) if peer.median else 0.0
    ratio = (
        f", {num.number(times, 1)} times their median of {num.number(peer.median, found.scale)}"
        if times
        else ""
    )
    return f"{where} of {peer.n:,} rows of {peer.column} {num.shown(peer.value)}{ratio}"


def _of_entity(found: Why) -> list[str]:
    among = found.among
    if among is None:
        return []
    contribution = found.contribution.get(among.measure, 0.0)
    side = "highest" if among.value >= among.median else "lowest"
    further = among.higher if side == "highest" else among.lower
    lie = num.verb(further, "lies", "lie")
    place = f"the {side}" if further == 0 else f"{further:,} {lie} further"
    return [
        f"{among.measure} is {num.number(among.value)} where the median of {among.n:,} is {num.number(among.median)}, "
        f"{place}; it makes {contribution:.0f}% of the distance.{_together(found.contribution, further)}"
    ]


def _together(contribution: Mapping[str, float], further: int) -> str:
    """What is said of the measures beside the one that makes most of a distance, than which so many lie further."""
    ordered = sorted(contribution.items(), key=lambda pair: -pair[1])
    if len(ordered) > SEVERAL and sum(share for _, share in ordered[:2]) < HALF:
        most = ordered[:SEVERAL]
        return (
            f" {_joined([name for name, _ in most])} make {sum(share for _, share in most):.0f}%: it is rather many together "
            "that are unusual than any alone."
        )
    # What is unusual of two measures that go together may be neither of them, but the two beside each other.
    (_, first), *others = ordered
    if others and others[0][1] >= 0.75 * first and further:
        name, share = others[0]
        return f" {name} makes {share:.0f}%: it is rather the two together that are unusual than either alone."
    return ""


def _of_rows(found: Why) -> list[str]:
    """Values that have more of the rows than their share of all would give."""
    said = []
    own = [
        f"{d.column} {num.shown(d.values[0].value)}" for d in found.drivers if is_its_own(found, d)
    ]
    if own:
        said.append(f"All of its rows are of {', '.join(own)}.")
    for driver in found.drivers:
        telling = [v for v in driver.values if v.p_adjusted is not None and v.p_adjusted < ALPHA]
        telling = telling[:3]
        if not telling or is_its_own(found, driver):
            continue
        rows = sum(v.rows for v in telling)
        expected = sum(v.expected for v in telling)
        worst = max(v.p_adjusted or 0.0 for v in telling)
        names = _joined([num.shown(v.value) for v in telling])
        have = "has" if len(telling) == 1 else "together have"
        amount = sum((v.amount for v in telling if v.amount is not None), Decimal(0))
        money = f" and {_money(found, amount)}" if found.amount is not None else ""
        whose, they = ("its", "it") if len(telling) == 1 else ("their", "them")
        said.append(
            f"{driver.column} {names} {have} {rows:,} of its {found.rows:,} rows{money}, where {whose} share of "
            f"all rows would give {num.expected(expected)} (adjusted {num.p_text(worst)}); without {they} "
            f"{num.many(found.rows - rows, 'row')} {num.verb(found.rows - rows, 'is', 'are')} left."
        )
    if len(said) == bool(own) and not found.contribution and not found.reasons:
        said.append(
            "No value of a column looked at has more of its rows than chance alone might give it beside its share "
            "of all rows."
        )
    return said


def is_its_own(found: Why, driver: Driver) -> bool:
    """Whether a column has one value on all rows of an entity or a cluster: a property of it, such as its
    account number or its grade, and no cause."""
    return found.exception.kind in (Entity.kind, Cluster.kind) and len(driver.values) == 1


def _beside(found: Why) -> list[str]:
    said = []
    for each in found.beside[:2]:
        listed = ", ".join(each.exceptions[:4]) + (" …" if len(each.exceptions) > 4 else "")
        many = num.many(len(each.exceptions), "other exception is", "other exceptions are")
        said.append(f"{many} of {each.column} {num.shown(each.value)} too: {listed}.")
    return said


def _joined(names: Sequence[str]) -> str:
    return names[0] if len(names) == 1 else ", ".join(names[:-1]) + " and " + names[-1]


def _signed(found: Why, value: Decimal) -> str:
    return ("+" if value > 0 else "") + _money(found, value)
