"""What must be known before distances are read."""

from __future__ import annotations

from collections.abc import Sequence

from sabueso.base.plain import ByColumn
from sabueso.report import numbers as num
from sabueso.screens.distance.fitted import Result
from sabueso.screens.finding import Caution, NotTested


def cautions_of(
    results: Sequence[tuple[ByColumn, Result]],
    not_tested: Sequence[NotTested],
) -> list[Caution]:
    found = []

    def of(key: ByColumn) -> str:
        return "".join(f" in {each}" for each in num.named(key))

    for key, r in results:
        n, p = r.n, len(r.measures)
        if r.dropped:
            found.append(
                Caution("singular", f"left out{of(key)}: {'; '.join(r.dropped)}", {"group": key})
            )
        if n <= 5 * p:
            found.append(
                Caution(
                    "too_few",
                    f"{n} subjects for {p} measures{of(key)}; more than {5 * p} are wanted",
                    {"n": n, "measures": p, "group": key},
                )
            )
        if r.mardia and min(r.mardia.skewness_p, r.mardia.kurtosis_p) < 0.01:
            found.append(
                Caution(
                    "not_normal",
                    f"the measures{of(key)} are not jointly normal (Mardia's skewness p "
                    f"{num.p_value(r.mardia.skewness_p)}, kurtosis p {num.p_value(r.mardia.kurtosis_p)}): "
                    "p ranks and does not prove",
                    {"group": key},
                )
            )
        if r.fitted_on is not None:
            found.append(
                Caution(
                    "sampled_fit",
                    f"the centre and spread of the robust distance and Mardia's tests are of {r.fitted_on:,} of "
                    f"the {n:,} rows, chosen by the numbers of their lines; mean and covariance of the "
                    "classical distance, and the distance of each row, are of all",
                    {"fitted_on": r.fitted_on, "n": n},
                )
            )
        if r.masked:
            found.append(
                Caution(
                    "masking",
                    f"{r.masked} subject{'s' if r.masked != 1 else ''}{of(key)} far by the robust "
                    "distance, also after adjustment, lie within the classical limit: outliers that "
                    "hide one another",
                    {"masked": r.masked, "group": key},
                )
            )
    singular = [t for t in not_tested if t.reason.startswith("singular")]
    if singular:
        found.append(
            Caution(
                "singular",
                f"{num.many(len(singular), 'group')} {num.verb(len(singular))} no spread to measure by",
                {"groups": len(singular)},
            )
        )
    return found
