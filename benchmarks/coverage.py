"""How often 95% intervals hold the truth where clusters are few: ``python benchmarks/coverage.py --samples 600 --seed 7``.

Clusters of uneven sizes, and a predictor and an outcome that go together within them and not with one another: the slope is 0. Each
sample is fitted with the usual clustered errors (CR1) and with those from leaving out one cluster at a time (CR3).
"""

import warnings

import click
import numpy as np
import pandas as pd
from rich.console import Console
from rich.table import Table

import markbase as mb


def drawn(rng: np.random.Generator, clusters: int) -> mb.Study:
    """Return a sample: rows in clusters of 5 rows and more, about 24 on average, of which each has a level of its own in both columns."""
    team = np.repeat(np.arange(clusters), rng.geometric(1 / 20, clusters) + 4)
    x, y = (rng.normal(size=clusters)[team] + rng.normal(size=len(team)) for _ in range(2))
    return mb.Study(pd.DataFrame({"x": x, "y": y, "team": [f"t{k:02d}" for k in team]}))


@click.command()
@click.option("--samples", default=600, help="How many of each number of clusters.")
@click.option("--seed", default=7, help="Of the drawing.")
def main(samples: int, seed: int) -> None:
    """Draw samples, and print how often each kind of interval holds the slope."""
    warnings.simplefilter("ignore")
    table = Table(title="95% intervals", title_justify="left")
    for head in ("clusters", "CR1", "CR3"):
        table.add_column(head, justify="right")
    rng = np.random.default_rng(seed)
    for clusters in (8, 12, 24, 60):
        held = np.zeros(2)
        for _ in range(samples):
            study = drawn(rng, clusters)
            for k, errors in enumerate(("CR1", "CR3")):
                slope = mb.fit_linear(study, "y", ["x"], cluster="team", errors=errors).coefficients.iloc[1]
                held[k] += slope["low"] <= 0 <= slope["high"]
        table.add_row(f"{clusters}", *(f"{100 * share:.1f}%" for share in held / samples))
    Console().print(table)


if __name__ == "__main__":
    main()
