"""What level, growth and season of the periods before lead one to expect of the next."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

HUBER = 1.345
"""The tuning constant that keeps 95 % of the efficiency on normal errors (Huber 1964)."""
MOST_STEPS = 60
NORMAL = 0.6744897501960817
"""Third quartile of the standard normal: the median absolute residual over it estimates sigma."""


@dataclass(frozen=True)
class Season:
    """An expectation on the log scale: ``log_expected``, the standard error of a new value about it
    (``error``, that of the fit in it), the slope of a period (``growth``), and the degrees of freedom."""

    log_expected: float
    error: float
    growth: float
    df: int

    @property
    def expected(self) -> float:
        return float(np.exp(self.log_expected))

    def deviate(self, value: float) -> float | None:
        """How many standard errors the log of a value lies from the expectation; None where the periods
        before follow it without any error."""
        return float(np.log(value) - self.log_expected) / self.error if self.error > 0 else None

    def band(self, deviates: float) -> tuple[float, float]:
        """Values so many standard errors to both sides."""
        away = deviates * self.error
        return float(np.exp(self.log_expected - away)), float(np.exp(self.log_expected + away))


def seasonal_expectation(values: np.ndarray, a_year: int) -> Season | None:
    """Expect the period after some others, from their logs.

    ln y = level + growth * t + factor of the part of the year, fitted by Huber's M-estimate with the
    median absolute residual as its scale, corrected for the fitted parameters by sqrt(n / (n - p)).

    Parameters
    ----------
    values : array of float, shape (n,)
        Amounts of n periods in a row, n at least two years; the expected one comes next.
    a_year : int
        Periods of a year: 12 or 4.

    Returns
    -------
    Season or None
        None where a value is not positive, so that it has no log.

    Raises
    ------
    ValueError
        If there are fewer than two years of periods.

    References
    ----------
    Huber, P. J. (1964). Robust estimation of a location parameter. Annals of Mathematical
    Statistics 35, 73-101.

    Examples
    --------
    >>> months = np.array([100, 200, 300, 400] * 3) * 1.1 ** np.repeat([0, 1, 2], 4)
    >>> round(seasonal_expectation(months, 4).expected, 6)
    133.1
    """
    n = len(values)
    if n < 2 * a_year:
        raise ValueError(f"a season needs two years of {a_year} periods")
    if not (values > 0).all():
        return None
    when = np.arange(-n, 0)
    design = np.zeros((n, a_year + 1))
    design[:, 0] = when
    design[np.arange(n), 1 + when % a_year] = 1.0
    nxt = np.zeros(a_year + 1)
    nxt[1] = 1.0  # the period 0 is of the same part of the year as -a_year
    logs = np.log(values)
    weights = np.ones(n)
    fitted = np.zeros(a_year + 1)
    scale = 0.0
    df = n - (a_year + 1)
    for _ in range(MOST_STEPS):
        root = np.sqrt(weights)
        before = fitted
        fitted = np.linalg.lstsq(design * root[:, None], logs * root, rcond=None)[0]
        residuals = logs - design @ fitted
        scale = float(np.median(np.abs(residuals))) / NORMAL * float(np.sqrt(n / df))
        if scale <= 1e-12 * max(1.0, float(np.abs(logs).max())):
            scale = 0.0
            break
        weights = np.minimum(1.0, HUBER * scale / np.maximum(np.abs(residuals), 1e-300))
        if float(np.abs(fitted - before).max()) < 1e-12:
            break
    inverse = np.linalg.pinv(design.T @ (design * weights[:, None]))
    leverage = float(nxt @ inverse @ nxt)
    return Season(
        log_expected=float(nxt @ fitted),
        error=scale * float(np.sqrt(1 + leverage)),
        growth=float(fitted[0]),
        df=df,
    )
