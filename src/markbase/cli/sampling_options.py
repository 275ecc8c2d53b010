"""Options of what is drawn at random: samples for intervals, and seeds."""

from __future__ import annotations

from collections.abc import Callable

import rich_click as click

from markbase.cli.options import F


def seed_option(panel: str, what: str) -> Callable[[F], F]:
    """Add the seed of what is drawn at random."""
    return click.option("--seed", type=int, metavar="N", help=f"The seed of {what}.  [default: 0]", panel=panel)


def bootstrap_options(panel: str, of: str) -> Callable[[F], F]:
    """Add how many samples are drawn out of the rows for intervals, and their seed."""
    told = f"Intervals of {of} from N samples drawn out of the rows."

    def added(function: F) -> F:
        function = seed_option(panel, "the samples")(function)
        return click.option("--bootstrap", type=click.IntRange(min=1), metavar="N", help=told, panel=panel)(function)

    return added


def check_seed_is_used(seed: int | None, bootstrap: int | None) -> None:
    """Refuse a seed where no samples are drawn."""
    if seed is not None and bootstrap is None:
        raise click.UsageError("--seed is of the samples of --bootstrap; add that, or leave it out.")
