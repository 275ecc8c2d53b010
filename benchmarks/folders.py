"""Folders of files drawn at random, opened in memory and in parts: ``python benchmarks/folders.py --folders 300 --seed 1``.

Files of one kind (Parquet, CSV or TSV) that differ in their columns, the types of these and their number of rows, in folders whose
names tell columns, logs among them. What is printed: how many folders gave the same study both ways (kinds, levels, counts, spans,
reasons of gaps), how many were refused both ways, and every one that gave another.
"""

import argparse
import random
import tempfile
import warnings
from collections import Counter
from pathlib import Path

import numpy as np
import pandas as pd
from rich.console import Console
from rich.table import Table

import markbase as mb

KINDS = {
    "parquet": lambda table, path: table.to_parquet(path),
    "csv": lambda table, path: table.to_csv(path, index=False),
    "tsv": lambda table, path: table.to_csv(path, index=False, sep="\t"),
}
HELD = {
    "whole numbers": lambda rng, n: rng.integers(0, 9, n),
    "numbers": lambda rng, n: rng.normal(size=n).round(3),
    "texts": lambda rng, n: rng.choice(["x", "y", "z w"], n),
    "numbers as texts": lambda rng, n: rng.choice(["1", "2", "03"], n),
    "true or false": lambda rng, n: rng.random(n) < 0.5,
    "days": lambda _, n: pd.date_range("2020-01-01", periods=n),
    "nothing": lambda _, n: [None] * n,
}
TOLD = ["1", "2", "07", "x%20y", "", "__HIVE_DEFAULT_PARTITION__", "ü"]


def make(home: Path, kind: str, seed: int) -> None:
    """Write the files of a folder."""
    own, rng = random.Random(seed), np.random.default_rng(seed)
    for number in range(own.randint(1, 5)):
        n = own.choice([0, 1, 3, 40])
        held = {
            name: HELD[own.choice([*HELD])](rng, n) for name in own.sample(["a", "b", "c", "e f"], own.randint(0, 4))
        }
        table = pd.DataFrame({"id": np.arange(n), **held})  # no row is blank: in parts such rows count, as is said
        for name in held:
            if own.random() < 0.3:
                table[name] = table[name].astype(object).where(rng.random(n) > 0.2, None)
        told = [f"{name}={own.choice(TOLD)}" for name in own.sample(["y", "l", "a"], own.randint(0, 2))]
        folder = home.joinpath(*told, own.choice([".", ".", ".", "plain", "_log", ".hidden"]))
        folder.mkdir(parents=True, exist_ok=True)
        KINDS[kind](table, folder / f"p{number}.{kind}")


def known(home: Path, in_parts: bool) -> list[tuple] | str:
    """Return what is known of the columns of a folder, or why it is refused."""
    try:
        study = mb.open_study(home, in_parts=in_parts)
    except mb.MarkbaseError as refusal:
        return str(refusal)
    columns = [(name, study[name]) for name in study.columns]
    return [(n, c.kind, c.valid, c.labels, str(c.span), c.missing_counts()) for n, c in columns]


def main() -> None:
    """Open each folder both ways, and print what became of them."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--folders", type=int, default=300)
    parser.add_argument("--seed", type=int, default=1)
    given = parser.parse_args()
    warnings.simplefilter("ignore")
    console, ended = Console(width=118), Counter()
    for seed in range(given.seed * 100_000, given.seed * 100_000 + given.folders):
        kind = [*KINDS][seed % len(KINDS)]
        with tempfile.TemporaryDirectory() as place:
            make(Path(place), kind, seed)
            ways = [known(Path(place), in_parts) for in_parts in (False, True)]
        refused = [isinstance(way, str) for way in ways]
        what = "refused" if all(refused) else "same" if ways[0] == ways[1] else "another"
        ended[kind, what] += 1
        if what == "another":
            console.print(f"{kind}, seed {seed}: in memory {ways[0]}; in parts {ways[1]}", markup=False)
    table = Table(title=f"{given.folders} folders, seed {given.seed}", title_justify="left")
    for head in ("files", "the same study", "refused both ways", "another study"):
        table.add_column(head)
    for kind in KINDS:
        table.add_row(kind, *(str(ended[kind, what]) for what in ("same", "refused", "another")))
    console.print(table)


if __name__ == "__main__":
    main()
