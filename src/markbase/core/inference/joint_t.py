"""The largest of several t statistics that go together: the multivariate t distribution, for comparisons with one level.

Comparisons with one level share that level's error, so they are correlated by about ½, and by what the other terms of a model add.
Where the correlations are products of loadings, rᵢⱼ = λᵢλⱼ, as those of plain means are, the statistics are independent given one
normal value and the tail is an integral over it. What is left of other correlations is added by sequential conditioning on
nodes, or of many statistics on the points of a lattice, as the difference from the nearest such products: a small number.

References
----------
Dunnett (1955), Journal of the American Statistical Association 50(272), 1096-1121, doi:10.2307/2281208.
Hothorn, Bretz & Westfall (2008), Biometrical Journal 50(3), 346-363, doi:10.1002/bimj.200810425, for other models than linear ones.
Genz & Bretz (2009), Computation of Multivariate Normal and t Probabilities, doi:10.1007/978-3-642-01689-9.
"""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import scipy.linalg
import scipy.special as sp
from numpy.polynomial import Chebyshev
from numpy.typing import NDArray

from markbase.core.inference.distributions import p_of_t
from markbase.core.inference.standard_error_mixture import gauss_legendre, over_standard_errors, where_tail_is

Array = NDArray[np.float64]
_FAR = 12.0
"""In standard errors: nothing is beyond it."""
_PANELS, _DEGREE = 4, 32
_NODES = 96
"""Along the shared normal value, below and above the width."""
_BEYOND_DOUBT = 1e-12
"""A tail that is smaller is the sum of the single ones."""
_PRODUCTS = 1e-8
"""Correlations this near to products are such."""
_MOST_BY_NODES, _NODES_EACH, _FEWER_NODES_EACH = 5, 20, 16
"""Up to so many statistics, with so many nodes for each if they are fewer, and if they are as many."""
_EDGE = 6.0
_MANY, _POINTS, _ROUGH_POINTS = 30, 16381, 4093
_ROUGH_FAR, _ROUGH_DEGREE, _FINE_DEGREE = 7.0, 24, 32
_ROUNDS = 400


@dataclass(frozen=True, eq=False)
class LargestOf:
    """The largest of several t statistics, by size."""

    correlation: Array
    """Shape (m, m): the correlations of the statistics."""
    df: float
    """Degrees of freedom they share; infinite for a known standard error."""

    def tail(self, q: float) -> float:
        """Return the probability that one of the statistics is larger than `q`, either way, if there are no differences."""
        one, count = float(p_of_t(q, self.df)), len(self.correlation)
        if count == 1 or not q > 0 or count * one < _BEYOND_DOUBT:
            return min(count * one, 1.0)
        found = over_standard_errors(self._normal_tail, q, self.df)
        return min(max(found, one), count * one, 1.0)

    def quantile(self, tail: float) -> float:
        """Return the size that the largest of them exceeds with a given probability."""
        return where_tail_is(self.tail, tail)

    def _normal_tail(self, widths: Array) -> Array:
        """Return the tail at some widths if the standard error is known, shape (widths,)."""
        inside = np.minimum(widths, _FAR)
        places = np.minimum((inside / (_FAR / _PANELS)).astype(np.intp), _PANELS - 1)
        scaled = np.array([panel(inside) for panel in self._by_products])[places, np.arange(len(widths))]
        found = scaled * np.exp(-(widths**2) / 2)
        if self._rest is not None:
            found = found + np.where(widths < _ROUGH_FAR, self._rest(np.minimum(widths, _ROUGH_FAR)), 0.0)
        return np.asarray(np.clip(found, 0.0, 1.0))

    @cached_property
    def _loadings(self) -> Array:
        """Shape (m,): the loadings whose products come nearest to the correlations."""
        others = self.correlation - np.diag(np.diag(self.correlation))
        found = np.sqrt(np.abs(others).max(axis=1)) * np.where(others[0] < 0, -1.0, 1.0)
        for _ in range(_ROUNDS):
            room = found @ found - found**2
            new = others @ found / np.where(room > 0, room, 1.0)
            found, moved = (found + new) / 2, float(np.abs(new - found).max())
            if moved < 1e-15:
                break
        most = math.sqrt(1 - 1e-10)
        loadings: Array = np.clip(found, -most, most)
        return loadings

    @cached_property
    def _by_products(self) -> list[Chebyshev]:
        """The tail times exp(w²/2) if the correlations were products of the loadings, on panels of widths; a smooth function."""
        edges = np.linspace(0, _FAR, _PANELS + 1)
        return [
            Chebyshev.interpolate(self._scaled_tail, _DEGREE, domain=[low, high])
            for low, high in itertools.pairwise(edges)
        ]

    def _scaled_tail(self, widths: Array) -> Array:
        """Return exp(w²/2) times 2 ∫ φ(u) {1 − Π [Φ((w − λu)/τ) − Φ((−w − λu)/τ)]} du over u > 0, with τ² = 1 − λ²."""
        nodes, weights = gauss_legendre(_NODES)
        loading, own = self._loadings, np.sqrt(1 - self._loadings**2)
        found = np.zeros(len(widths))
        for low, high in ((np.zeros(len(widths)), widths), (widths, np.maximum(9.0, widths + 6))):
            half = ((high - low) / 2)[:, None]
            u = half * nodes[None, :] + ((high + low) / 2)[:, None]
            kept = np.zeros(u.shape)  # the logarithm of the chance that none is larger
            w = widths[:, None]
            with np.errstate(divide="ignore"):
                for a, s in zip(loading.tolist(), own.tolist(), strict=True):
                    kept += np.log1p(-np.minimum(sp.ndtr((a * u - w) / s) + sp.ndtr((-a * u - w) / s), 1.0))
            density = np.exp((w**2 - u**2) / 2) / math.sqrt(2 * math.pi) * weights[None, :] * half
            found += 2 * np.einsum("ij,ij->i", density, -np.expm1(kept))
        return found

    @cached_property
    def _rest(self) -> Chebyshev | None:
        """What the tail is larger by than with the products, by width; None where correlations are products."""
        products = np.outer(self._loadings, self._loadings)
        np.fill_diagonal(products, 1.0)
        if np.abs(products - self.correlation).max() < _PRODUCTS:
            return None

        told = np.round(self.correlation, 9)  # so that the order does not hang on the last digits
        order = scipy.linalg.lapack.dpstrf(told, lower=1)[1] - 1
        few = len(order) <= _MOST_BY_NODES
        order = order if few else order[::-1]  # for points what goes most with others comes first
        within = _within_by_nodes if few else _within_by_points
        roots: list[Array] = [
            scipy.linalg.cholesky(c[np.ix_(order, order)] + 1e-13 * np.eye(len(order)), lower=True)
            for c in (products, self.correlation)
        ]

        def off(widths: Array) -> Array:
            return np.array([within(roots[0], width) - within(roots[1], width) for width in widths.tolist()])

        return Chebyshev.interpolate(off, _FINE_DEGREE if few else _ROUGH_DEGREE, domain=[0, _ROUGH_FAR])


def _within_by_nodes(root: Array, width: float) -> float:
    """Return the probability that no normal value is larger than a width, by the lower root of their correlations, shape (m, m).

    Every value but the last by the nodes of Gauss and Legendre between its ends, given those before it; the last as a closed form.
    """
    nodes, weights = gauss_legendre(_NODES_EACH if len(root) < _MOST_BY_NODES else _FEWER_NODES_EACH)
    values, chance = np.empty((0, 1)), np.ones(1)
    for j in range(len(root) - 1):
        low, high = (np.clip(end, -_EDGE, _EDGE)[:, None] for end in _ends(root[j], values, width))
        own = (low + high + (high - low) * nodes) / 2
        density = np.exp(-(own**2) / 2) / math.sqrt(2 * math.pi)
        chance = (chance[:, None] * weights * density * (high - low) / 2).ravel()
        values = np.vstack([np.repeat(values, len(nodes), axis=1), own.ravel()])
    low, high = _ends(root[-1], values, width)
    return float(chance @ (sp.ndtr(high) - sp.ndtr(low)))


def _within_by_points(root: Array, width: float) -> float:
    """Return the same by the points of a lattice in the chances of all values but the last."""
    count = _POINTS if len(root) <= _MANY else _ROUGH_POINTS
    values, chance = np.empty((len(root), count)), np.full(count, 1 / count)
    for j, step in enumerate(np.sqrt(_primes(len(root)))):
        low, high = (sp.ndtr(end) for end in _ends(root[j], values[:j], width))
        chance *= high - low
        places = np.abs(2 * np.modf(np.arange(1, count + 1) * step)[0] - 1)
        values[j] = np.clip(sp.ndtri(low + places * (high - low)), -_FAR, _FAR)
    return float(chance.sum())


def _ends(root: Array, values: Array, width: float) -> tuple[Array, Array]:
    """Return between which ends a value has to lie, given those before it, shape (j, points), as a standard normal one."""
    shift = root[: len(values)] @ values
    return (-width - shift) / root[len(values)], (width - shift) / root[len(values)]


def _primes(count: int) -> list[int]:
    found: list[int] = []
    number = 2
    while len(found) < count:
        if all(number % p for p in found):
            found.append(number)
        number += 1
    return found
