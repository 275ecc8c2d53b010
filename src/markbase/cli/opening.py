"""Opening data in memory or in parts, as the options say, or as the size of the data asks for."""

from __future__ import annotations

import fnmatch
import sys
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import rich_click as click

from markbase.cli.progress import report_progress
from markbase.cli.wishes import wishes
from markbase.core.address_space import allowed_megabytes
from markbase.core.errors import FileError, remark
from markbase.core.study.codebook import Codebook
from markbase.core.study.named_alike import is_pattern
from markbase.core.study.study import Study
from markbase.files.data import TEXT_SUFFIXES, is_large, need_extra, only_in_parts, open_study
from markbase.files.plan import Plan
from markbase.files.stacked import bytes_of, files_of, is_several

if TYPE_CHECKING:
    from rich.progress import Progress

SHARE = 8
"""A file that is larger than one such share of the free memory is read in parts."""
_SMALL = 1 << 20
"""A smaller one is not, whatever is free."""
_TOGETHER = 1 << 26
"""Several files that are larger together are, whatever is free."""


class Mentioned:
    """Columns whose names stand in what was typed, in a step, or in the fits of the plan where one of these is meant; and those that have a role."""

    def __init__(self, plan: Plan, codebook: Codebook | None) -> None:
        typed = click.get_current_context(silent=True)
        given = typed.params if typed is not None else {}
        self._texts = [*map(str, given.values()), repr(plan.prepare)]
        planned = () if given.get("outcome") else (*plan.analysis.fits, *plan.analysis.imputations)
        self._texts += [repr(planned)] if planned else []
        outcomes = [given.get("outcome") or "", *(o for entry in planned for o in entry.outcomes)]
        patterns = [
            [o for text in outcomes for o in text.split(",") if is_pattern(o)],
            given.get("replicates") or (),
            *(entry.settings.get("replicates") or () for entry in planned),
        ]
        self._patterns = [p for own in patterns for p in ([own] if isinstance(own, str) else own)]
        known = codebook.columns.items() if codebook is not None else ()
        self._always = {name for name, spec in known if spec.role}
        self._found: dict[str, bool] = {}

    def __contains__(self, name: object) -> bool:
        found = name in self._always or any(str(name) in text for text in self._texts)
        found = found or any(fnmatch.fnmatchcase(str(name), pattern) for pattern in self._patterns)
        self._found[str(name)] = found
        return found

    def tell_others(self, study: Study) -> None:
        """Say how many of the columns of the file are not read, and what of them can then not be known."""
        others = sum(not found and name not in study.columns for name, found in self._found.items())
        if others:
            remark(
                f"Of large data those columns alone are read that are named, here {len(self._found) - others} of {len(self._found)}: whether rows go together by another one "
                f"(persons, classes), or a term and the outcome are made of it, is not looked at. A column with a role in the codebook is read as well."
            )


def is_long_to_read(plan: Plan) -> bool:
    """Return whether a file is so large that only the columns are read that are needed."""
    return read_in_parts(plan.file, plan.in_parts) or is_large(plan.file)


def open_plan(plan: Plan, codebook: Codebook | None = None, mentioned: bool = False) -> Study:
    """Open the data of a plan, all columns or those that are mentioned, and prepare them."""
    columns = Mentioned(plan, codebook) if mentioned else None
    if not read_in_parts(plan.file, plan.in_parts):
        study = plan.open(codebook, columns=columns)
    else:
        with _Bar(plan.file.name) as told:
            study = plan.open(codebook, columns=columns, in_parts=True, cluster=wishes().cluster_address, progress=told)
    if columns is not None:
        columns.tell_others(study)
    return study


def read_in_parts(file: Path, planned: bool = False) -> bool:
    """Return whether the rows of a file are to be read a part at a time: as asked for, as planned, or because it is large."""
    wanted = wishes()
    asked = wanted.in_parts or wanted.cluster_address is not None
    if wanted.in_memory and asked:
        raise click.UsageError("--in-memory and reading in parts contradict each other; leave one out.")
    if wanted.in_memory and only_in_parts(file):
        raise click.UsageError(
            f"`{file}` is read in parts, as packed files and Arrow's own are; leave --in-memory out."
        )
    return asked or (not wanted.in_memory and (planned or only_in_parts(file) or _too_large(file)))


def open_in_parts(
    file: Path,
    codebook: Codebook,
    missing: Sequence[object] = (),
    encoding: str = "utf-8",
    file_column: str | None = None,
) -> Study:
    """Open a file whose rows are read a part at a time, with what a codebook says of columns that it has."""
    from markbase.files.parts.paths import described

    need_extra(file, ".parquet", "files that are read in parts")
    table = described(file, encoding)[0]
    names = {*table.names, *table.told_by_file, file_column}
    book = replace(codebook, columns={n: spec for n, spec in codebook.columns.items() if n in names})
    cluster = wishes().cluster_address
    with _Bar(file.name) as told:
        return open_study(
            file,
            book,
            missing=missing,
            encoding=encoding,
            in_parts=True,
            cluster=cluster,
            progress=told,
            file_column=file_column,
        )


def _too_large(file: Path) -> bool:
    """Return whether a file is large beside the memory that is free; found out, and said, once in a command."""
    typed = click.get_current_context(silent=True)
    known: dict[Path, bool] = typed.meta.setdefault("markbase.large", {}) if typed is not None else {}
    if file not in known:
        known[file] = _is_too_large(file)
    return known[file]


def _is_too_large(file: Path) -> bool:
    kinds = (".parquet", *TEXT_SUFFIXES)
    try:
        several = is_several(file)
        files = files_of(file, kinds) if several else [file] if file.is_file() and file.suffix.lower() in kinds else []
        size = bytes_of(files)
    except FileError:  # which is told where they are read
        return False
    except (OSError, ValueError):
        return False  # a name that no file can have is told where it is read
    if size < _SMALL:
        return False
    if several and size > _TOGETHER:
        return True
    try:
        import psutil
    except ImportError:
        return False
    free: float = psutil.virtual_memory().available
    allowed = allowed_megabytes()
    if allowed is not None:
        free = min(free, max(allowed * 2**20 - psutil.Process().memory_info().vms, 0))
    if size * SHARE <= free:
        return False
    if not wishes().quiet:
        report_progress(
            f"`{file.name}` ({size / 1e9:.1f} GB) is larger than an eighth of the free memory ({free / 1e9:.1f} GB): its rows are read in parts "
            "(--in-memory reads them all at once)."
        )
    return True


class _Bar:
    """A bar that shows rows and time left, on standard error, for a person who waits."""

    def __init__(self, name: str) -> None:
        self.name = name
        self.bar: Progress | None = None

    def __enter__(self) -> Callable[[int, int | None], None] | None:
        if not sys.stderr.isatty() or wishes().quiet:
            return None
        from rich.console import Console
        from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeRemainingColumn

        columns = (TextColumn("{task.description}"), BarColumn(), MofNCompleteColumn(), TextColumn("rows"))
        self.bar = Progress(*columns, TimeRemainingColumn(), console=Console(stderr=True), transient=True)
        self.bar.start()
        task = self.bar.add_task(f"… looking over {self.name}", total=None)

        def told(done: int, whole: int | None) -> None:
            assert self.bar is not None
            self.bar.update(task, completed=done, total=whole)

        return told

    def __exit__(self, *_: object) -> None:
        if self.bar is not None:
            self.bar.stop()
