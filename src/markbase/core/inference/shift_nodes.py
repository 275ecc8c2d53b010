"""Averages at very many shifts of the linear predictor, from those at few.

The sum over the rows of p(η + δ), and of p(1 − p)x, is an analytic function of the shift δ, and a polynomial through its
values at few points gives it everywhere between them. How many points it takes follows from how large the function can
become away from the real line: |1 + reⁱʸ| is at least (1 + r)·cos(y/2), so there p is at most 1/cos(y/2) times what it
is on the line, and p(1 − p) the square of that.

References
----------
Trefethen (2013), Approximation Theory and Approximation Practice, ch. 8, doi:10.1137/1.9781611975949.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]

_DIGITS = math.log(1e-15)
"""The logarithm of what a sum may be off by, as a share of it."""
_WIDEST = 2.0
"""The span one polynomial is taken over: over a wider one its rounding is no longer small beside the lowest sums."""
_HEIGHTS = np.linspace(0.5, 3.1, 53)
"""How far from the real line the function is looked at: it is analytic up to π."""


def shift_nodes(shifts: Array) -> tuple[Array, Array]:
    """Return shifts at which to take averages, and how those at the shifts that are wanted follow from them.

    Parameters
    ----------
    shifts : ndarray, shape (k,)
        The shifts of the linear predictor.

    Returns
    -------
    nodes : ndarray, shape (m,)
        Chebyshev points of the spans of the shifts; the shifts themselves where these are no more.
    shares : ndarray, shape (k, m)
        What each node contributes.
    """
    pieces = ((shifts - shifts.min()) / _WIDEST).astype(np.intp)
    parts = [np.flatnonzero(pieces == piece) for piece in np.unique(pieces)]
    found = [_nodes_within(shifts[own]) for own in parts]
    shares = np.zeros((len(shifts), sum(len(nodes) for nodes, _ in found)))
    start = 0
    for own, (nodes, part) in zip(parts, found, strict=True):
        shares[own, start : start + len(nodes)] = part
        start += len(nodes)
    return np.concatenate([nodes for nodes, _ in found]), shares


def _nodes_within(shifts: Array) -> tuple[Array, Array]:
    """Return the same of shifts that are near one another."""
    low, high = float(shifts.min()), float(shifts.max())
    half = (high - low) / 2
    count = _nodes_needed(half)
    if count >= len(shifts):
        return shifts, np.eye(len(shifts))
    orders = np.arange(count)
    angles = (orders + 0.5) * math.pi / count
    at = np.zeros(len(shifts)) if half == 0 else np.clip((shifts - low) / half - 1, -1, 1)
    polynomials = np.cos(np.outer(np.arccos(at), orders)) * np.where(orders == 0, 1, 2) / count
    return (low + high) / 2 + half * np.cos(angles), polynomials @ np.cos(np.outer(orders, angles))


def _nodes_needed(half: float) -> int:
    """Return how many Chebyshev points tell the sums over a span of twice `half` to all digits."""
    if half == 0:
        return 1
    steep = _HEIGHTS / half
    growth = np.arcsinh(steep)  # the logarithm of the sum of the half-axes of the ellipse
    wide = half * (1 + np.sqrt(1 + steep * steep))  # how far from a shift, along the line, the ellipse reaches
    bound = math.log(4) + wide - 2 * np.log(np.cos(_HEIGHTS / 2)) - np.log(np.expm1(growth))
    return 1 + max(0, math.ceil(float(np.min((bound - _DIGITS) / growth))))
