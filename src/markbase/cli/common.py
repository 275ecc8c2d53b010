"""What the subcommands share: options, opening the data, and telling remarks from results."""

from __future__ import annotations

import os
import re
import sys
import warnings
from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, TypeVar

import click

from markbase.cli.progress import report_progress
from markbase.core.errors import MarkbaseError, MarkbaseWarning, remark
from markbase.core.study.codebook import Codebook
from markbase.core.study.study import Study
from markbase.files.codebook import read_codebook
from markbase.files.data import open_study, read_table
from markbase.files.plan import Plan, read_plan, read_step
from markbase.show.page import Page
from markbase.show.records import to_json
from markbase.show.text import to_text

F = TypeVar("F", bound=Callable[..., Any])


def data_options(function: F) -> F:
    """Add the data file and the options that say how to read it."""
    options = [
        click.argument("file", type=click.Path(path_type=Path), metavar="FILE"),
        click.option("--codebook", type=click.Path(path_type=Path), help="TOML file that describes the columns."),
        click.option(
            "--as",
            "kinds",
            multiple=True,
            metavar="COLUMN=KIND",
            help="Declare a column numeric, categorical, ordinal or identifier. May be repeated.",
        ),
        click.option(
            "--missing",
            multiple=True,
            metavar="CODES",
            help="Codes for a missing answer in every column, by commas.",
        ),
        click.option(
            "--prepare",
            "steps",
            multiple=True,
            metavar="STEP",
            help="A preparing step, as `look` proposes them: 'do = \"merge_levels\", column = ...'. May be repeated.",
        ),
        click.option("--sheet", help="Sheet of a spreadsheet; the first by default."),
        click.option("--encoding", default="utf-8", show_default=True, help="Encoding of the data file."),
        click.option("--json", "as_json", is_flag=True, help="Full precision, for machines."),
    ]
    for option in reversed(options):
        function = option(function)
    return function


def base_options(function: F) -> F:
    """Add the options that choose bases."""
    by_rule = "Base by rule: first, largest, last or smallest level. May be repeated."
    function = click.option("--base-by", "rules", multiple=True, metavar="GROUP=RULE", help=by_rule)(function)
    by_name = "Base of a group, by label or code. May be repeated."
    return click.option("--base", "bases", multiple=True, metavar="GROUP=LEVEL", help=by_name)(function)


@dataclass(frozen=True)
class Source:
    """Where the data come from and what is done to them, as the options say."""

    file: Path
    """The data file, or a plan."""
    codebook: Path | None
    """The codebook."""
    kinds: Sequence[str]
    """``column=kind`` texts."""
    missing: Sequence[str]
    """Codes, several by commas."""
    steps: Sequence[str]
    """Preparing steps as inline tables."""
    sheet: str | None
    """Sheet of a spreadsheet."""
    encoding: str
    """Encoding of a text file."""
    bases: Sequence[str] = ()
    """``group=level`` texts."""
    rules: Sequence[str] = ()
    """``group=rule`` texts."""

    def plan(self) -> Plan:
        """Return what a plan would say of it; where the file is a plan, that plan with the options added."""
        if self.file.suffix.lower() == ".toml":
            plan = read_plan(self.file)
            plan = replace(plan, codebook=self.codebook or plan.codebook, sheet=self.sheet or plan.sheet)
        else:
            plan = Plan(self.file, self.codebook, encoding=self.encoding, sheet=self.sheet, source="--prepare")
        extra = [read_step(text) for text in self.steps]
        return replace(plan, missing=(*plan.missing, *split(self.missing)), prepare=(*plan.prepare, *extra))

    def open(self) -> Study:
        """Open the data, prepare them, and mark the bases."""
        plan = self.plan()
        book = read_codebook(plan.codebook) if plan.codebook else Codebook(source="--as")
        for name, kind in (pair(text, "--as") for text in self.kinds):
            book = book.with_kind(name, kind)
        study = plan.open(book)
        for name, level in (pair(text, "--base") for text in self.bases):
            study = study.mark(name, level)
        for name, rule in (pair(text, "--base-by") for text in self.rules):
            study = study.mark(name, by=rule)
        return study

    def open_other(self, file: Path, needed: set[str]) -> Study:
        """Open another file and prepare it as the data are, to predict for its rows.

        Steps that choose rows, and steps that look at other rows, are left out with a remark; so are steps that fail on
        columns the prediction does not need.
        """
        plan = self.plan()
        names = set(read_table(file).columns)
        book = read_codebook(plan.codebook) if plan.codebook else Codebook(source="--as")
        for name, kind in (pair(text, "--as") for text in self.kinds):
            book = book.with_kind(name, kind)
        book = replace(book, columns={n: spec for n, spec in book.columns.items() if n in names})
        study = open_study(file, book, missing=plan.missing, encoding=plan.encoding)
        for step in plan.prepare:
            action, column = str(step.get("do")), str(step.get("name") or step.get("column") or "")
            if action in ("hold_out", "keep", "lag"):
                if action != "lag" or column in needed:
                    remark(
                        f"The step `{action}` is not carried out on `{file.name}`: it looks at other rows, or chooses them."
                    )
                continue
            if action == "mark":
                continue  # another base changes no prediction
            try:
                study = study.prepare([step], source="")
            except MarkbaseError as problem:
                if column in needed:
                    raise type(problem)(f"{file.name}, step `{action}` of `{column}`: {problem}") from None
        return study


def split(texts: Sequence[str], known: Sequence[str] = ()) -> list[str]:
    """Take texts apart at commas, but for those that are names as they stand."""
    parts = []
    for text in texts:
        parts += [text] if text in known else [part.strip() for part in text.split(",") if part.strip()]
    return parts


def pair(text: str, option: str) -> tuple[str, str]:
    """Take a ``name=value`` text apart."""
    name, mark, value = text.partition("=")
    if not mark or not name.strip() or not value.strip():
        raise MarkbaseError(
            f"`{option} {text}` should read `{option} COLUMN=VALUE`, for instance `{option} {_EXAMPLES[option]}`."
        )
    return name.strip(), value.strip()


_EXAMPLES = {
    "--polynomial": "age=2",
    "--as": "rehearsal_day=group",
    "--base": "voice=alto",
    "--profile": "voice=alto",
    "--base-by": "voice=largest",
}


@contextmanager
def remarks() -> Iterator[list[str]]:
    """Collect the remarks made meanwhile and tell them on stderr, each once, also when an error follows."""
    told: list[str] = []
    with warnings.catch_warnings(record=True) as caught:
        warnings.simplefilter("default")
        warnings.simplefilter("always", MarkbaseWarning)
        try:
            yield told
        finally:
            told += dict.fromkeys(str(w.message) for w in caught if issubclass(w.category, MarkbaseWarning))
            for text in told:
                report_progress(f"remark: {text}")


@contextmanager
def held_back() -> Iterator[list[str]]:
    """Hold the remarks made meanwhile back, for `retell`; where an error follows, they are made before it."""
    held: list[str] = []
    try:
        with warnings.catch_warnings(record=True) as caught:
            warnings.simplefilter("always", MarkbaseWarning)
            try:
                yield held
            finally:
                held += [str(w.message) for w in caught if issubclass(w.category, MarkbaseWarning)]
    except MarkbaseError:
        for text in held:
            remark(text)
        raise


def retell(held: Sequence[str], study: Study, inside: Collection[str]) -> None:
    """Make remarks that were held back, but for those on columns that nothing is asked of."""
    for text in held:
        about = re.match(r"`([^`]+)`:", text)
        if about is None or about.group(1) not in study.columns or about.group(1) in inside:
            remark(text)


def show(page: Page) -> None:
    """Print a page to stdout, in colour where a person looks at it."""
    colour = sys.stdout.isatty() and "NO_COLOR" not in os.environ and os.environ.get("TERM") != "dumb"
    sys.stdout.write(to_text(page, colour=colour) + "\n")
    sys.stdout.flush()


def show_json(record: dict[str, Any], told: Sequence[str]) -> None:
    """Print plain data to stdout as JSON, with the remarks in it."""
    sys.stdout.write(to_json(record | {"remarks": list(told)}) + "\n")
    sys.stdout.flush()
