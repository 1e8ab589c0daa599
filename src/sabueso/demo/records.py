"""Records beside the books: the traffic of each route, and the loan on the *Garceta*."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date
from decimal import ROUND_HALF_EVEN, Decimal

import numpy as np

from sabueso.demo.world import NEW_ROUTE_FROM, ROUTES, World

PRINCIPAL, RATE, INSTALMENTS = Decimal("1200000.00"), Decimal("0.042"), 24
RAISED_FROM, RAISED_BY = 14, Decimal("385.40")
TERMS = f"""Préstamo hipotecario naval, buque Garceta (muestra)

Principal {PRINCIPAL} EUR, interés nominal anual {RATE * 100} %, {INSTALMENTS} cuotas mensuales constantes,
pagaderas al final de cada mes desde enero de 2024. Documento inventado para el caso de muestra.
"""


def make_traffic(world: World) -> Iterator[list[object]]:
    """Route, month, sailings, passengers, fare revenue, fuel litres."""
    rng = world.rng("traffic")
    for year in (2024, 2025):
        for month in range(1, 13):
            season = 1 + 0.55 * np.sin((month - 4) / 12 * 2 * np.pi)
            for route, size in zip(ROUTES, (1.0, 0.7, 0.45), strict=True):
                if route == ROUTES[2] and date(year, month, 1) < NEW_ROUTE_FROM:
                    continue
                growth = 1.04 if year == 2025 else 1.0
                sailings = round(118 * size * (0.7 + 0.3 * season) * growth)
                passengers = round(sailings * 71 * season * rng.uniform(0.93, 1.07))
                cents = round(passengers * (1_150 + 430 * size) * rng.uniform(0.98, 1.02))
                litres = round(sailings * 212 * (0.8 + 0.4 * size) * rng.uniform(0.97, 1.03))
                revenue = f"{cents // 100}.{cents % 100:02d}"
                yield [route, f"{year}-{month:02d}", sailings, passengers, revenue, litres]


def instalment() -> Decimal:
    """The constant payment of the terms: principal · i / (1 − (1 + i)^−n), to the cent."""
    monthly = RATE / 12
    exact = PRINCIPAL * monthly / (1 - (1 + monthly) ** -INSTALMENTS)
    return exact.quantize(Decimal("0.01"), ROUND_HALF_EVEN)


def make_loan(*, planted: bool = True) -> Iterator[list[object]]:
    """Number, date and amount of each instalment as recorded: too high from the 14th (kind 11)."""
    for number in range(1, INSTALMENTS + 1):
        year, month = 2024 + (number - 1) // 12, (number - 1) % 12 + 1
        last = date(year + month // 12, month % 12 + 1, 1).toordinal() - 1
        raised = RAISED_BY if planted and number >= RAISED_FROM else Decimal(0)
        yield [number, date.fromordinal(last).isoformat(), instalment() + raised]
