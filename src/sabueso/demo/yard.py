"""Materials of the yard: orders, receipts and invoices with their lines, and the payments of these."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, timedelta

import numpy as np

from sabueso.demo.payments import Payment
from sabueso.demo.world import USERS, World, payment_days

ORDERS = 240
OVER_QUANTITY, OVER_PRICE = 5, 4
ARTICLES = (
    ("Chapa naval 8 mm", 94.50), ("Electrodo 3,2 mm", 4.35), ("Pintura antiincrustante", 38.20),
    ("Cabo de amarre 48 mm", 21.75), ("Ánodo de cinc", 16.90), ("Disco de corte", 2.15),
)  # fmt: skip


@dataclass(frozen=True)
class Order:
    """An order with what came of it: quantities, prices in cents, the days of each."""

    number: str
    supplier: str
    article: str
    day: date
    quantity: int
    price: int
    received: tuple[tuple[date, int], ...]
    invoice: str
    invoiced_on: date
    invoiced: int
    invoiced_price: int
    note: str = ""

    @property
    def cents(self) -> int:
        return self.invoiced * self.invoiced_price


def make_orders(world: World) -> list[Order]:
    """Orders over both years. Of some more is invoiced than came, of others at another price (kind 15)."""
    rng = world.rng("yard")
    days = [d for d in payment_days()[0] if d < date(2025, 11, 15)]
    n = world.rows(ORDERS)
    when = sorted(int(place) for place in rng.choice(len(days), size=n))
    odd = rng.choice(n, size=min(OVER_QUANTITY + OVER_PRICE, n), replace=False).tolist()
    odd = odd if world.planted else []
    found = []
    for i, place in enumerate(when):
        article, euros = ARTICLES[int(rng.integers(len(ARTICLES)))]
        day = days[place]
        quantity = max(2, round(float(rng.lognormal(np.log(30), 0.7))))
        price = round(euros * 100 * float(rng.uniform(0.97, 1.03)))
        # Some orders come in two parts, a few are not delivered whole and are invoiced as they came.
        came = quantity if rng.random() > 0.06 else max(1, quantity - int(rng.integers(1, 4)))
        first = came if rng.random() < 0.7 or came < 4 else came // 2
        parts = [(day + timedelta(days=int(rng.integers(3, 12))), first)]
        if first < came:
            parts.append((parts[0][0] + timedelta(days=int(rng.integers(2, 9))), came - first))
        invoiced, at, note = came, price, ""
        if i in odd[:OVER_QUANTITY]:
            invoiced = came + max(2, round(came * float(rng.uniform(0.2, 0.45))))
            note = "more invoiced than ordered and received"
        elif i in odd[OVER_QUANTITY:]:
            at = round(price * float(rng.uniform(1.14, 1.28)))
            note = "invoiced above the price of the order"
        found.append(
            Order(
                f"PO-{i + 1:04d}", world.special[f"yard {i % 3 + 1}"], article, day, quantity, price,
                tuple(parts), f"Y{day:%y}-{i + 1:05d}",
                parts[-1][0] + timedelta(days=int(rng.integers(1, 10))), invoiced, at, note,
            )
        )  # fmt: skip
    return found


def yard_payments(world: World, orders: list[Order]) -> list[Payment]:
    """A payment of each invoice, a month after it."""
    rng = world.rng("yard payments")
    days = payment_days()[0]
    found = []
    for order in orders:
        due = order.invoiced_on + timedelta(days=30)
        day = next((d for d in days if d >= due), days[-1])
        user = str(rng.choice(USERS))
        found.append(
            Payment(
                day, order.invoice, order.supplier, "62250", order.cents, user, "Material de varada",
            )
        )  # fmt: skip
    return found
