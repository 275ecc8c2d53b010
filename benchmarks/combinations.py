"""Crossed groups against dense columns: ``python benchmarks/combinations.py --models 60 --seed 1``.

Every model is drawn anew: few rows, uneven groups in interactions of two and three, and so combinations of levels that no row
has. Predictions (of whole profiles, and of some that leave columns open), adjusted means of groups and of two together, and
simple slopes are held against least squares over columns laid out in full. Whether a number can be told at all is decided by
these columns' singular vectors: a combination that they do not span must have no number, and every other the same one.
"""

import itertools
import warnings
from collections.abc import Iterable, Mapping, Sequence

import click
import numpy as np
import pandas as pd

import markbase as mb

GROUPS = ("a", "b", "c")
_SPANNED = 1e-7
_SAME = 1e-6


def drawn(rng: np.random.Generator) -> tuple[pd.DataFrame, list, list[tuple[str, ...]]]:
    """Return a table, the terms of a model of it, and the columns that are multiplied in each."""
    rows = int(rng.integers(18, 90))
    sizes = rng.integers(2, 5, len(GROUPS))
    shares = [rng.dirichlet(np.full(size, 1.5)) for size in sizes]
    frame = pd.DataFrame(
        {g: rng.choice(list("pqrs")[: len(p)], rows, p=p) for g, p in zip(GROUPS, shares, strict=True)}
    )
    frame["x"], frame["y"] = np.round(rng.normal(size=rows), 3), rng.normal(size=rows)
    products = [("a", "b")]
    products += [("a", "c")] if rng.random() < 0.5 else []
    products += [("x", "b")] if rng.random() < 0.4 else []
    if rng.random() < 0.3:
        products += [pair for pair in (("b", "c"), ("a", "c")) if pair not in products] + [GROUPS]
    terms = [*GROUPS, "x", *(mb.interaction(*names) for names in products)]
    return frame, terms, [*((name,) for name in (*GROUPS, "x")), *products]


class Dense:
    """The columns of a model laid out in full, with every level of every group."""

    def __init__(self, frame: pd.DataFrame, products: Sequence[tuple[str, ...]]) -> None:
        self.frame, self.products = frame, products
        self.levels = {g: sorted(set(frame[g])) for g in GROUPS}
        X = self.columns(frame)
        _, sizes, rotation = np.linalg.svd(X, full_matrices=False)
        spanned = rotation[sizes > 1e-9 * sizes[0]]
        self.projection = spanned.T @ spanned
        self.coefficients = np.linalg.pinv(X, rcond=1e-10) @ frame["y"].to_numpy()

    def columns(self, frame: pd.DataFrame) -> np.ndarray:
        """Return the columns of some rows, shape (rows, columns)."""
        own = {g: [(frame[g] == level).to_numpy(float) for level in self.levels[g]] for g in GROUPS}
        own["x"] = [frame["x"].to_numpy()]
        made = (
            np.prod(factors, axis=0) for names in self.products for factors in itertools.product(*map(own.get, names))
        )
        return np.column_stack([np.ones(len(frame)), *made])

    def told(self, at: np.ndarray) -> float:
        """Return the number of a combination of the columns, NaN where they do not span it."""
        spanned = np.allclose(self.projection @ at, at, atol=_SPANNED)
        return float(at @ self.coefficients) if spanned else np.nan

    def mean(self, **setting: object) -> float:
        """Return what the model expects if all rows had some values and were otherwise as they are."""
        return self.told(self.columns(self.frame.assign(**setting)).mean(axis=0))

    def slope(self, **setting: object) -> float:
        """Return what that rises per unit of x."""
        ends = [self.columns(self.frame.assign(**setting, x=x)).mean(axis=0) for x in (0.0, 1.0)]
        return self.told(ends[1] - ends[0])


def answers(fit: mb.LinearFit, dense: Dense, rng: np.random.Generator) -> Iterable[tuple[str, Mapping, float, float]]:
    """Yield what is asked, where, what the fit answers and what the columns do; a refusal is answered for by a single NaN."""
    for _ in range(12):
        whole = {g: str(rng.choice(dense.levels[g])) for g in GROUPS} | {"x": 0.3}
        some = {k: whole[k] for k in rng.choice(list(whole), rng.integers(1, 4), replace=False)}
        for profile in (whole, some):
            yield "prediction", profile, float(fit.predict(profile)["predicted"].iloc[0]), dense.mean(**profile)
    asked = {
        ("groups", g): lambda g=g: fit.groups(g).rename(columns={"level": g, "adjusted": "answer"}) for g in GROUPS
    }
    asked |= {
        ("cell means", *pair): lambda pair=pair: fit.cell_means(*pair)[0].rename(columns={"adjusted": "answer"})
        for pair in itertools.combinations(GROUPS, 2)
    }
    asked |= {
        ("slopes", g): lambda g=g: fit.simple_slopes("x", by=g).rename(columns={"level": g, "slope": "answer"})
        for g in GROUPS
        if g in fit.slope_depends_on("x")
    }
    for (what, *names), ask in asked.items():
        try:
            table = ask()
        except mb.FitError:  # one of its numbers cannot be told
            there = dense.frame[names].drop_duplicates().to_dict("records")
            all_of_them = sum(dense.slope(**at) if what == "slopes" else dense.mean(**at) for at in there)
            yield f"{what} refused", dict.fromkeys(names, "every level"), np.nan, all_of_them
            continue
        for row in table.to_dict("records"):
            at = {g: row[g] for g in names}
            yield what, at, row["answer"], dense.slope(**at) if what == "slopes" else dense.mean(**at)


@click.command()
@click.option("--models", default=60)
@click.option("--seed", default=1)
def main(models: int, seed: int) -> None:
    """Draw models, and print every answer that the columns contradict."""
    warnings.simplefilter("ignore")
    rng, fits, told, apart = np.random.default_rng(seed), 0, 0, 0
    for number in range(models):
        frame, terms, products = drawn(rng)
        try:
            fit = mb.fit_linear(frame, "y", terms)
        except mb.MarkbaseError:  # too few rows, or a term that they cannot tell from others
            continue
        fits += 1
        for what, at, answer, wanted in answers(fit, Dense(frame, products), rng):
            told += 1
            if np.isnan(answer) != np.isnan(wanted) or abs(answer - wanted) > _SAME:
                apart += 1
                print(f"model {number}, {what} at {at}: {answer}, by dense columns {wanted}")
    print(f"{fits} of {models} models fitted, {told:,} numbers asked for, {apart} apart")


if __name__ == "__main__":
    main()
