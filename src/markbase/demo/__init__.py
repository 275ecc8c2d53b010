"""The made-up survey of amateur choirs that examples, docs and tests use.

The valley, its choirs and its singers do not exist; `generate` says how the data were made and
what the true effects are.
"""

from __future__ import annotations

from functools import cache
from importlib import resources
from pathlib import Path

from markbase.core.study.study import Study
from markbase.files.data import open_study
from markbase.files.plan import Plan, read_plan

FILES = (
    "choirs.csv",
    "choirs.codebook.toml",
    "choirs.plan.toml",
    "choir_terms.csv",
    "choir_terms.codebook.toml",
    "choir_terms.plan.toml",
    "choir_items.csv",
    "choir_items.codebook.toml",
    "choir_homes.csv",
    "choir_homes.codebook.toml",
    "choir_imputed.csv",
    "choir_imputed.codebook.toml",
)
"""The files of the demo, in the order of use."""


def path(name: str) -> Path:
    """Return where a file of the demo lies.

    Parameters
    ----------
    name : str
        One of `FILES`.

    Returns
    -------
    Path
        The file, to be read and not written.
    """
    return Path(str(resources.files("markbase.demo") / "data" / name))


def choirs() -> Study:
    """Open the survey: about 2,000 singers in 24 choirs.

    Returns
    -------
    Study
        The study with its codebook.
    """
    return _opened("choirs")


def plan() -> Plan:
    """Read the plan of the example: how the survey is prepared.

    Returns
    -------
    Plan
        The plan; its ``open`` gives the prepared study.
    """
    return read_plan(path("choirs.plan.toml"))


def choir_terms() -> Study:
    """Open the second table: a row a choir and season, for looking back in time.

    Returns
    -------
    Study
        The study with its codebook.
    """
    return _opened("choir_terms")


def choir_items() -> Study:
    """Open the third table: a row a singer, with six statements answered from 1 to 5, one of them worded the other way round.

    Returns
    -------
    Study
        The study with its codebook.
    """
    return _opened("choir_items")


def choir_homes() -> Study:
    """Open the fourth table: a row a choir, to be joined to the singers in it.

    Returns
    -------
    Study
        The study with its codebook.
    """
    return _opened("choir_homes")


def choir_imputed() -> Study:
    """Open the fifth table: 360 other singers, whose gaps were filled five times, one imputation below another.

    Returns
    -------
    Study
        The study with its codebook.
    """
    return _opened("choir_imputed")


@cache
def _opened(name: str) -> Study:
    """Open a table of the demo once for all who ask: a study does not change."""
    return open_study(path(f"{name}.csv"), path(f"{name}.codebook.toml"))
