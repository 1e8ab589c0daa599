"""Classical Mahalanobis distance, its exact law, and the share of each measure in it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.special import betainc, betaincinv, chdtrc, chdtri

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Location:
    """A centre (p,) and a covariance matrix (p, p), in units of the measures."""

    center: Floats
    covariance: Floats


def classical(x: ArrayLike) -> Location:
    """Mean and sample covariance (n - 1) of x, shape (n, p).

    Raises
    ------
    ValueError
        If there are fewer than two subjects or x is not two-dimensional and finite.
    """
    values = as_measures(x)
    return Location(values.mean(axis=0), np.atleast_2d(np.cov(values, rowvar=False)))


def as_measures(x: ArrayLike) -> Floats:
    """x as a finite (n, p) float array with n >= 2, or ValueError."""
    values = np.asarray(x, dtype=np.float64)
    if values.ndim != 2 or values.shape[0] < 2 or not np.isfinite(values).all():
        raise ValueError("distances need at least two subjects with finite measures")
    return values


def squared_distances(x: ArrayLike, at: Location) -> Floats:
    """d² = (x - m)ᵀ S⁻¹ (x - m) of each of n subjects, shape (n,).

    Raises
    ------
    ValueError
        If the covariance matrix is singular.

    References
    ----------
    Mahalanobis, P. C. (1936), Proceedings of the National Institute of Sciences of India 2, 49-55.

    Examples
    --------
    >>> at = classical([[0.0], [1.0], [2.0], [5.0]])
    >>> squared_distances([[5.0]], at).round(4).tolist()
    [1.9286]
    """
    white = whitened(np.asarray(x, dtype=np.float64), at)
    return np.asarray(np.einsum("ij,ij->i", white, white))


def whitened(x: Floats, at: Location) -> Floats:
    """(x - m) turned so that its covariance is the identity, shape (n, p)."""
    try:
        root = np.linalg.cholesky(at.covariance)
    except np.linalg.LinAlgError:
        raise ValueError("the covariance matrix is singular") from None
    inverse = np.linalg.inv(root)
    return np.asarray((x - at.center) @ inverse.T)


def contributions(x: ArrayLike, at: Location) -> Floats:
    """Share of each measure in d², shape (n, p), none of them negative; they sum to d².

    Measures are turned into uncorrelated ones, each of which goes with its own as closely as may be (corr-max):
    R^(-1/2) z, squared, of the deviates z and the correlation matrix R. Where measures do not go together a share
    is its deviate squared; of two that nearly tell each other, such as net and gross, a break between them is
    shared by both.

    Raises
    ------
    ValueError
        If the covariance matrix is singular.

    References
    ----------
    Garthwaite, P. H. and Koch, I. (2016). Evaluating the contributions of individual variables to a quadratic
    form. Australian & New Zealand Journal of Statistics 58, 99-119.

    Examples
    --------
    >>> at = Location(np.zeros(2), np.array([[4.0, 0.0], [0.0, 9.0]]))
    >>> contributions([[2.0, 6.0]], at).round(6).tolist()
    [[1.0, 4.0]]
    >>> near = Location(np.zeros(2), np.array([[1.0, 0.999], [0.999, 1.0]]))
    >>> (contributions([[0.1, -0.1]], near) / squared_distances([[0.1, -0.1]], near)).round(6).tolist()
    [[0.5, 0.5]]
    """
    spread = np.sqrt(np.diag(at.covariance))
    if not (spread > 0).all():
        raise ValueError("the covariance matrix is singular")
    sizes, axes = np.linalg.eigh(at.covariance / np.outer(spread, spread))
    if sizes[0] <= 0:
        raise ValueError("the covariance matrix is singular")
    deviates = (np.asarray(x, dtype=np.float64) - at.center) / spread
    return np.asarray((deviates @ (axes / np.sqrt(sizes)) @ axes.T) ** 2)


def beta_tail(d2: ArrayLike, n: int, p: int) -> Floats:
    """P(D² > d²) for the classical distance with estimated mean and covariance.

    n d²/(n - 1)² follows Beta(p/2, (n - p - 1)/2) for normal measures.

    Raises
    ------
    ValueError
        If n <= p + 1.

    References
    ----------
    Gnanadesikan, R. and Kettenring, J. R. (1972), Biometrics 28, 81-124.
    """
    if n <= p + 1:
        raise ValueError(f"{n} subjects are too few for {p} measures")
    share = np.clip(np.asarray(d2, dtype=np.float64) * n / (n - 1) ** 2, 0.0, 1.0)
    return np.asarray(betainc((n - p - 1) / 2, p / 2, 1.0 - share))


def beta_limit(alpha: float, n: int, p: int) -> float:
    """The d² that a share alpha of a normal population exceeds, by the law of :func:`beta_tail`."""
    if n <= p + 1:
        raise ValueError(f"{n} subjects are too few for {p} measures")
    return float((1 - betaincinv((n - p - 1) / 2, p / 2, alpha)) * (n - 1) ** 2 / n)


def chi_square_tail(d2: ArrayLike, p: int) -> Floats:
    """P(D² > d²) by chi-square(p)."""
    return np.asarray(chdtrc(p, np.asarray(d2, dtype=np.float64)))


def chi_square_limit(alpha: float, p: int) -> float:
    """The d² that chi-square(p) exceeds with probability alpha."""
    return float(chdtri(p, alpha))


@dataclass(frozen=True)
class Dropped:
    """A measure left out of a fit: its position, and the positions it repeats (empty: constant)."""

    measure: int
    repeats: tuple[int, ...]


def dependent_measures(x: ArrayLike, tolerance: float = 1e-9) -> list[Dropped]:
    """Measures that are constant, or a linear combination of the measures before them.

    Each column is centred and scaled; one whose residual on the columns kept before it is below
    ``tolerance`` of its own length is named, with the columns that reproduce it.
    """
    values = as_measures(x)
    dropped: list[Dropped] = []
    kept: list[int] = []
    columns: list[Floats] = []
    directions: list[Floats] = []
    for j in range(values.shape[1]):
        centred = values[:, j] - values[:, j].mean()
        length = float(np.linalg.norm(centred))
        size = float(np.abs(values[:, j]).max()) * np.sqrt(values.shape[0])
        if length <= tolerance * max(size, 1e-300):
            dropped.append(Dropped(j, ()))
            continue
        unit = centred / length
        left = unit.copy()
        for direction in (*directions, *directions):  # twice: what is nearly parallel leaves noise
            left -= (direction @ left) * direction
        rest = float(np.linalg.norm(left))
        if rest <= np.sqrt(tolerance):
            weights, *_ = np.linalg.lstsq(np.column_stack(columns), unit, rcond=None)
            involved = tuple(
                k for k, w in zip(kept, weights, strict=True) if abs(w) > np.sqrt(tolerance)
            )
            dropped.append(Dropped(j, involved))
            continue
        kept.append(j)
        columns.append(unit)
        directions.append(left / rest)
    return dropped


@dataclass(frozen=True)
class Mardia:
    """Multivariate skewness and kurtosis with p under normality."""

    skewness: float
    skewness_p: float
    kurtosis: float
    kurtosis_p: float


def mardia(x: ArrayLike) -> Mardia:
    """Mardia's tests of multivariate normality, with the maximum-likelihood covariance.

    The double sum of the skewness is taken through the third-moment tensor of the whitened
    measures, so that its cost is n·p³ instead of n²·p.

    References
    ----------
    Mardia, K. V. (1970), Biometrika 57, 519-530.
    """
    values = as_measures(x)
    n, p = values.shape
    at = classical(values)
    z = whitened(values, Location(at.center, at.covariance * (n - 1) / n))
    # A slice of the tensor at a time: products of matrices, where one sum over three indices is many times slower.
    slices = ((z * column[:, np.newaxis]).T @ z / n for column in z.T)
    skewness = float(sum((each**2).sum() for each in slices))
    kurtosis = float((np.einsum("ij,ij->i", z, z) ** 2).mean())
    deviate = (kurtosis - p * (p + 2)) / np.sqrt(8 * p * (p + 2) / n)
    df = p * (p + 1) * (p + 2) / 6
    return Mardia(
        skewness=skewness,
        skewness_p=float(chdtrc(df, n * skewness / 6)),
        kurtosis=kurtosis,
        kurtosis_p=float(chdtrc(1, deviate**2)),
    )
