"""Scales: what tells whether items measure one thing."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

Numbers = npt.NDArray[np.float64]


@dataclass(frozen=True)
class Reliability:
    """How k items go together over n rows in which all of them are present.

    Parameters
    ----------
    n
        Number of rows.
    alpha
        Cronbach's alpha; NaN where it cannot be computed.
    item_rest
        Shape (k,): correlation of each item with the sum of the others.
    alpha_without
        Shape (k,): alpha of the others.
    """

    n: int
    alpha: float
    item_rest: Numbers
    alpha_without: Numbers


def reliability(items: Numbers) -> Reliability:
    """Alpha and item-rest correlations.

    Parameters
    ----------
    items
        Shape (n, k): the items of each row, none missing, turned as they are to be.

    References
    ----------
    L. J. Cronbach, "Coefficient alpha and the internal structure of tests", Psychometrika 16 (1951), 297-334,
    formula 2. The item-rest correlation is that of an item with the sum of the others, as in J. C. Nunnally,
    "Psychometric Theory", 2nd edition (1978), section 8.
    """
    n, k = items.shape
    nothing = np.full(k, np.nan)
    if n < 2 or k < 2:
        return Reliability(n, np.nan, nothing, nothing)
    covariance = np.cov(items, rowvar=False)
    rest = covariance.sum(axis=0) - np.diag(covariance)  # of each item with the sum of the others
    total = covariance.sum()
    of_rest = total - 2 * rest - np.diag(covariance)
    with np.errstate(invalid="ignore", divide="ignore"):
        correlation = rest / np.sqrt(np.diag(covariance) * of_rest)
        without = np.array([alpha_of(np.delete(np.delete(covariance, at, 0), at, 1)) for at in range(k)])
    return Reliability(n, alpha_of(covariance), correlation, without)


def alpha_of(covariance: Numbers) -> float:
    """Cronbach's alpha from the covariances of k items; NaN for one item, or for a sum that never changes."""
    k, total = len(covariance), float(covariance.sum())
    return k / (k - 1) * (1 - float(np.trace(covariance)) / total) if k > 1 and total > 0 else np.nan
