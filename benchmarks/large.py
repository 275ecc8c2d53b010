"""Rows in parts as ratios, measured in one run: ``python benchmarks/large.py [--rows 50000000] [--folder FOLDER] [--workers]``.

A folder of Parquet with 8 numeric columns and groups of 4, 6, 12 and 30 levels is made once, and then opened and fitted. Each time is
told against that of only reading the same columns with Arrow in the same run; peak memory is that of the process. With ``--workers``
two Dask workers on this machine are held against one.
"""

import argparse
import resource
import tempfile
import time
import warnings
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.csv
import pyarrow.parquet as pq
from rich.console import Console
from rich.table import Table

import markbase as mb

LEVELS = (4, 6, 12, 30)
AMOUNTS = [f"x{k}" for k in range(8)]
TERMS = [*AMOUNTS, *(f"g{size}" for size in LEVELS)]
PER_FILE = 1_000_000


def make(folder: Path, rows: int) -> None:
    """Write the files that are not there yet."""
    folder.mkdir(parents=True, exist_ok=True)
    for number in range(-(-rows // PER_FILE)):
        path, size = folder / f"part{number:03d}.parquet", min(PER_FILE, rows - number * PER_FILE)
        if path.exists():
            continue
        rng = np.random.default_rng(number)
        columns = {name: rng.normal(k, 1 + k, size) for k, name in enumerate(AMOUNTS)}
        y = sum(0.1 * x for x in columns.values()) + rng.normal(size=size)
        groups = {}
        for levels in LEVELS:
            codes = rng.integers(0, levels, size)
            y = y + 0.2 * (codes % 3)
            labels = pa.array([f"level {k:02d}" for k in range(levels)])
            groups[f"g{levels}"] = pa.DictionaryArray.from_arrays(pa.array(codes.astype(np.int32)), labels)
        stays = rng.random(size) < 1 / (1 + np.exp(-(y - y.mean()) / y.std()))
        table = pa.table({**columns, "y": y, "stays": stays.astype(float), **groups})
        pq.write_table(table, path, row_group_size=250_000)


def clock(call) -> tuple[float, object]:
    """Return the seconds a call takes, and what it returns."""
    start = time.perf_counter()
    found = call()
    return time.perf_counter() - start, found


def read(folder: Path, columns: list[str]) -> None:
    """Only read."""
    for path in sorted(folder.glob("*.parquet")):
        with pq.ParquetFile(path) as file:
            for _ in file.iter_batches(1 << 17, columns=columns):
                pass


def linear(study: mb.Study) -> mb.LinearFit:
    """Fit, with all tables."""
    fit = mb.fit_linear(study, "y", TERMS)
    _ = fit.coefficients, fit.terms, fit.overall, fit.strength, fit.groups("g30"), fit.between("g4")
    return fit


def gigabytes() -> str:
    """Return the peak memory so far."""
    return f"{resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6:.2f} GB"


def main() -> None:
    """Measure, and print a table of ratios."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rows", type=int, default=50_000_000)
    parser.add_argument("--folder", type=Path, default=Path(tempfile.gettempdir()) / "markbase-large")
    parser.add_argument("--workers", action="store_true", help="two Dask workers against one as well")
    given = parser.parse_args()
    warnings.simplefilter("ignore")
    make(given.folder, given.rows)
    table = Table(title=f"Ratios, {given.rows:,} rows of Parquet in parts", title_justify="left")
    for head in ("what", "time", "of only reading", "peak memory so far"):
        table.add_column(head, justify="left" if head == "what" else "right")

    seconds, study = clock(lambda: mb.open_study(given.folder, in_parts=True))
    fitted, fit = clock(lambda: linear(study))
    reading = min(clock(lambda: read(given.folder, [*TERMS, "y"]))[0] for _ in range(2))
    table.add_row("only reading the columns of the fit", f"{reading:.1f} s", "1.0", gigabytes())
    table.add_row("the first look, at all columns", f"{seconds:.1f} s", f"{seconds / reading:.1f}", gigabytes())
    table.add_row("a linear fit with all its tables", f"{fitted:.1f} s", f"{fitted / reading:.1f}", gigabytes())
    seconds, _ = clock(lambda: mb.fit_linear(study, "y", TERMS, errors="HC3").coefficients)
    table.add_row("a linear fit with HC3 errors", f"{seconds:.1f} s", f"{seconds / reading:.1f}", gigabytes())
    stays, _ = clock(lambda: mb.fit_logistic(study, "stays", TERMS, event=1).coefficients)
    table.add_row("a logistic fit", f"{stays:.1f} s", f"{stays / reading:.1f}", gigabytes())

    beside = tempfile.TemporaryDirectory()
    some = Path(beside.name) / "some.csv"
    first = pq.read_table(sorted(given.folder.glob("*.parquet"))[0])
    plain = pa.table(
        {
            n: c.cast(pa.string()) if pa.types.is_dictionary(c.type) else c
            for n, c in zip(first.column_names, first.columns, strict=True)
        }
    )
    pyarrow.csv.write_csv(plain, some)
    rounds = []  # in turns, since memory that was used before is faster
    for _ in range(5):
        parsing, _ = clock(lambda: pyarrow.csv.read_csv(some))
        opened, texts = clock(lambda: mb.open_study(some, in_parts=True))
        rounds.append((parsing, opened, clock(lambda texts=texts: linear(texts))[0]))
    parsing, opened, seconds = np.median(rounds, axis=0)
    table.add_row(
        "a CSV of 1,000,000 rows: the first look / parsing it with Arrow",
        f"{opened:.2f} s",
        f"{opened / parsing:.1f}",
        gigabytes(),
    )
    table.add_row("… and a linear fit with all its tables", f"{seconds:.2f} s", f"{seconds / parsing:.1f}", gigabytes())
    beside.cleanup()

    held = mb.Study(first)
    own, _ = clock(lambda: linear(held))
    per_row = (fitted / given.rows) / (own / first.num_rows)
    table.add_row("a row of the linear fit / the same in memory", "", f"{per_row:.1f} times", gigabytes())
    Console(width=118).print(table)
    if given.workers:
        _on_workers(given.folder, fit)


def _on_workers(folder: Path, fit: mb.LinearFit) -> None:
    from distributed import LocalCluster

    times = {}
    for count in (1, 2):
        with LocalCluster(host="127.0.0.1", dashboard_address=None, n_workers=count, threads_per_worker=1) as cluster:
            study = mb.open_study(folder, cluster=cluster.scheduler_address)
            times[count], there = clock(lambda study=study: linear(study))
            gap = (there.coefficients["estimate"] - fit.coefficients["estimate"]).abs() / fit.coefficients["se"]
            print(f"{count} workers: {times[count]:.1f} s, largest difference {gap.max():.1e} of a standard error")
    print(f"two workers are {times[1] / times[2]:.2f} times as fast as one")


if __name__ == "__main__":
    main()
