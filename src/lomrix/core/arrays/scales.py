"""Reliability: whether the items of a scale measure one thing."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from lomrix.core.arrays.cross_products import CrossProducts, Numbers


@dataclass(frozen=True)
class Reliability:
    """Reliability of k items over the n rows that have all of them."""

    n: int  # number of rows
    alpha: float  # cronbach's alpha; NaN where it cannot be computed
    item_rest: Numbers  # shape (k,): correlation of each item with the sum of the others
    alpha_without: Numbers  # shape (k,): alpha of the others


def compute_reliability(items: CrossProducts) -> Reliability:
    """Compute alpha and item-rest correlations of items in rows that have all of them, reversed as they should be.

    References
    ----------
    L. J. Cronbach, "Coefficient alpha and the internal structure of tests", Psychometrika 16 (1951), 297-334,
    formula 2. The item-rest correlation is that of an item with the sum of the others, as in J. C. Nunnally,
    "Psychometric Theory", 2nd edition (1978), section 8.
    """
    n, k = items.n, len(items.sums)
    undefined = np.full(k, np.nan)
    if n < 2 or k < 2:
        return Reliability(n, np.nan, undefined, undefined)
    covariance = items.covariance
    with np.errstate(invalid="ignore", divide="ignore"):
        with_others = covariance.sum(axis=0) - np.diag(covariance)  # of each item with the sum of the others
        others_variance = covariance.sum() - 2 * with_others - np.diag(covariance)
        correlation = with_others / np.sqrt(np.diag(covariance) * others_variance)
        without = np.array([compute_alpha(np.delete(np.delete(covariance, item, 0), item, 1)) for item in range(k)])
    return Reliability(n, compute_alpha(covariance), correlation, without)


def compute_alpha(covariance: Numbers) -> float:
    """Return Cronbach's alpha from the covariances of k items; NaN for one item or a constant sum."""
    k, total = len(covariance), float(covariance.sum())
    return k / (k - 1) * (1 - float(np.trace(covariance)) / total) if k > 1 and total > 0 else np.nan
