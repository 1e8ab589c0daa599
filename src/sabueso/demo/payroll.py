"""Two years of payroll: base pay, sea allowance, overtime, net."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from sabueso.demo.world import World

GRADES = (("oficial", 34, 2_950, 240), ("marinero", 78, 1_760, 130), ("máquinas", 32, 2_150, 180),
          ("tierra", 36, 1_690, 210))  # fmt: skip
FAR = (3, 11, 19)  # officers whose allowance is plainly too high
JOINT = 26  # the one whose allowance only does not fit the base pay


@dataclass(frozen=True)
class Pay:
    """One employee's month, money in minor units."""

    employee: str
    grade: str
    month: str
    base: int
    allowance: int
    hours: int
    overtime: int
    net: int
    bank: str
    kind: str = ""


def make_payroll(world: World) -> list[Pay]:
    """4,320 months: 180 employees, 24 months."""
    rng = world.rng("payroll")
    found = []
    number = 0
    for grade, size, level, spread in GRADES:
        for i in range(size):
            number += 1
            planted = world.planted and grade == "oficial" and i in (*FAR, JOINT)
            base = level + spread * float(np.clip(rng.normal(), -2.2, 2.2))
            share = {"oficial": 0.36, "marinero": 0.28, "máquinas": 0.31, "tierra": 0.0}[grade]
            noise = rng.normal(0, 28)
            if planted and i == JOINT:
                # Base pay low and allowance high, each within what officers get.
                base, noise = level - 1.25 * spread, 255.0
            elif planted:
                base = level + 0.3 * spread * float(rng.normal())
            allowance = share * base + noise if share else 0.0
            if planted and i in FAR:
                allowance += float(rng.uniform(780, 990))
            hours = max(0.0, rng.normal(11, 3) + (base - level) / spread)
            bank = f"ES{rng.integers(10, 99)} {' '.join(f'{v:04d}' for v in rng.integers(0, 10_000, 5))}"
            for month in range(24):
                found.append(
                    _month(rng, f"E{number:03d}", grade, month, base, allowance, hours, bank,
                           "4" if planted else "")
                )  # fmt: skip
    return found


def _month(
    rng: np.random.Generator, employee: str, grade: str, month: int, base: float,
    allowance: float, hours: float, bank: str, kind: str,
) -> Pay:  # fmt: skip
    rise = 1.03 if month >= 12 else 1.0
    cents = round(base * rise) * 100
    sea = max(0, round(allowance * rise * rng.uniform(0.97, 1.03) * 100)) if allowance > 0 else 0
    extra = int(rng.poisson(hours))
    overtime = round(extra * base / 160 * 1.4 * 100)
    net = round((cents + sea + overtime) * 0.78)
    name = f"{2024 + month // 12}-{month % 12 + 1:02d}"
    return Pay(employee, grade, name, cents, sea, extra, overtime, net, bank, kind)
