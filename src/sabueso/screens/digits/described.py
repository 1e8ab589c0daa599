"""The classes of a digit test with all their figures, group by group."""

from __future__ import annotations

from typing import Any

import numpy as np

from sabueso.population.table import money
from sabueso.screens.digits.classes import Counted, class_text
from sabueso.screens.digits.result import DigitClass, DigitGroup
from sabueso.stats.adjust import adjust
from sabueso.stats.digits import DigitFit
from sabueso.stats.significand import SignificandFit, mantissa_arc, significand_test

NORMAL_95 = 1.959963984540054
"""The quantile of the normal law between whose signs 95 % lie."""


def described_groups(
    counted: Counted, fit: DigitFit, scale: int, few: dict[tuple[Any, ...], int] | None = None
) -> list[DigitGroup]:
    """The groups and their classes.

    Parameters
    ----------
    scale : int
        Decimals of the amount.
    few : dict, optional
        By group, the differences that are too small for the test.
    """
    described = []
    for i, key in enumerate(counted.keys):
        n = int(fit.n[i])
        l2, l2_p = mantissa_arc(n, *counted.mantissa[i].tolist())
        held = None
        if counted.significands is not None:
            held = significand_test(counted.significands[i], n, fit.test)
        excess = float(fit.mad[i] - fit.mad_expected[i])
        reach = NORMAL_95 * float(fit.mad_error[i])
        described.append(
            DigitGroup(
                group=key,
                n=n,
                chi_square=float(fit.chi_square[i]),
                chi_square_df=fit.chi_square_df,
                chi_square_p=float(fit.chi_square_p[i]),
                mad=float(fit.mad[i]),
                mad_expected=float(fit.mad_expected[i]),
                mad_excess=excess,
                mad_excess_low=excess - reach,
                mad_excess_high=excess + reach,
                mad_range=fit.mad_range[i],
                conformity=fit.verdict[i],
                ks=float(fit.ks[i]),
                ks_limit=float(fit.ks_limit[i]),
                mantissa_l2=l2,
                mantissa_p=l2_p,
                summation_mad=None
                if held is None
                else float(np.abs(held.share - held.expected).mean()),
                classes=_classes(counted, fit, i, held, scale),
                few_digits=None if few is None else few.get(tuple(key.values()), 0),
            )
        )
    return described


def _classes(
    counted: Counted, fit: DigitFit, i: int, held: SignificandFit | None, scale: int
) -> list[DigitClass]:
    """The classes of the i-th group."""
    count = counted.classes[i]
    amounts, sizes = counted.amounts[i].tolist(), counted.sizes[i].tolist()
    total, size = sum(amounts), sum(sizes)
    columns = [
        count, fit.share[i], fit.expected, 100 * (fit.share[i] - fit.expected),
        fit.share[i] / fit.expected, fit.z[i], fit.p[i], fit.p_adjusted[i], fit.band_low[i],
        fit.band_high[i], fit.flagged[i],
    ]  # fmt: skip
    none = [None] * len(count)
    significands: list[Any] = [none] * 4
    if held is not None:
        adjusted = adjust(held.p, "holm")
        significands = [v.tolist() for v in (held.share, held.z, held.p, adjusted)]
    rows = zip(*(c.tolist() for c in columns), amounts, sizes, *significands, strict=True)
    return [
        DigitClass(
            digits=class_text(fit.test, label),
            count=row[0],
            share=row[1],
            expected=row[2],
            difference=row[3],
            ratio=row[4],
            z=row[5],
            p=row[6],
            p_adjusted=row[7],
            band_low=row[8],
            band_high=row[9],
            amount=money(row[11], scale),
            amount_share=row[11] / total if total else None,
            magnitude_share=row[12] / size,
            flagged=row[10],
            significand_share=row[13],
            significand_z=row[14],
            significand_p=row[15],
            significand_p_adjusted=row[16],
        )
        for label, row in zip(fit.labels.tolist(), rows, strict=True)
    ]
