"""What the subcommands share: options, opening the data, and telling remarks from results."""

from __future__ import annotations

import os
import re
import shutil
import sys
import warnings
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, TypeVar

import pandas as pd
import rich_click as click

from markbase.cli.opening import merged_alike, open_in_parts, open_plan, read_in_parts
from markbase.cli.progress import report_progress
from markbase.cli.steps_in_order import in_order, with_kinds
from markbase.cli.typed import calculation, joining, labelling, pair, split
from markbase.cli.wishes import wishes
from markbase.core.errors import MarkbaseError, MarkbaseWarning, remark
from markbase.core.study.codebook import Codebook
from markbase.core.study.study import Study
from markbase.core.version import FORMAT_VERSION
from markbase.files.data import open_study, read_table
from markbase.files.data_writing import table_bytes, write_table
from markbase.files.plan import Plan, read_plan, read_step, unfolded
from markbase.files.stacked import is_several
from markbase.files.text_files import STANDARD
from markbase.show.page import Page
from markbase.show.records import to_json
from markbase.show.shortened import shortened
from markbase.show.text import to_text

F = TypeVar("F", bound=Callable[..., Any])


DATA, OUTPUT = "Data", "Output"
_LABELS = "markbase.column_labels"


def data_options(function: F) -> F:
    """Add the data file and the options that say how to read it."""
    options = [
        click.option(
            "--codebook",
            type=click.Path(path_type=Path),
            help="File that describes the columns: .toml, DDI .xml, Data Package, Table Schema or CSVW .json, or a table .csv.",
            panel=DATA,
        ),
        click.option(
            "--categorical",
            multiple=True,
            metavar="COLUMNS",
            help="These columns sort and do not measure, by commas.",
            panel=DATA,
        ),
        click.option(
            "--as",
            "kinds",
            multiple=True,
            metavar="COLUMN=KIND",
            help="numeric, categorical, ordinal or identifier.",
            panel=DATA,
        ),
        click.option(
            "--label",
            "labels",
            multiple=True,
            metavar="'COLUMN: CODES'",
            help="What the codes of a column stand for: 'sex: 1=man, 2=woman'.",
            panel=DATA,
        ),
        click.option(
            "--rename",
            "renames",
            multiple=True,
            metavar="OLD=NEW",
            help="Another name for a column, several by commas: 'v23=age, v24=voice part'.",
            panel=DATA,
        ),
        click.option(
            "--missing",
            multiple=True,
            metavar="CODES",
            help="Codes for a missing answer in every column, by commas.",
            panel=DATA,
        ),
        click.option(
            "--join",
            "joins",
            multiple=True,
            metavar="'FILE: KEY'",
            help="Join (merge) the columns of another table by a key, or keys by commas: 'choir_homes.csv: choir'.",
            panel=DATA,
        ),
        click.option(
            "--prepare",
            "steps",
            multiple=True,
            metavar="STEP",
            help="A preparing step, as `markbase look` proposes them: 'do = \"merge_levels\", column = ...'.",
            panel=DATA,
        ),
        click.option(
            "--calculate",
            "calculations",
            multiple=True,
            metavar="'NAME = EXPRESSION'",
            help="A column calculated from others: 'bmi = weight / (height / 100)^2'.",
            panel=DATA,
        ),
        click.option(
            "--log",
            "logs",
            multiple=True,
            metavar="COLUMNS",
            help="Make `log_COLUMN` of each of these, by commas.",
            panel=DATA,
        ),
        click.option(
            "--sheet",
            help="Sheet of a spreadsheet; the first by default. '*': all of them, one below another.",
            panel=DATA,
        ),
        click.option(
            "--file-column",
            metavar="NAME",
            help="Of several files (a folder, 'waves/*.csv') or sheets: make a column of that name which tells the one a row is from.",
            panel=DATA,
        ),
        click.option(
            "--layout",
            metavar="KEY=ROW",
            help="Rows, from 1, if the names of the columns are not in the first: header=3,labels=4,data=5,last=90.",
            panel=DATA,
        ),
        click.option("--encoding", default="utf-8", show_default=True, help="Encoding of a text file.", panel=DATA),
    ]
    for option in reversed(options):
        function = option(function)
    return click.argument("file", type=click.Path(path_type=Path), metavar="FILE")(function)


def base_options(function: F) -> F:
    """Add the options that choose bases."""
    by_rule = "Base by rule: first, largest, last or smallest level."
    function = click.option("--base-by", "rules", multiple=True, metavar="GROUP=RULE", help=by_rule, panel="Bases")(
        function
    )
    by_name = "Base (reference category) of a group, by label or code."
    return click.option("--base", "bases", multiple=True, metavar="GROUP=LEVEL", help=by_name, panel="Bases")(function)


def names_argument(metavar: str, required: bool = False) -> Callable[[F], F]:
    """Add what may stand behind the file."""
    return click.argument("names", nargs=-1, required=required, metavar=metavar)


def json_option(function: F) -> F:
    """Add the output for machines."""
    return click.option("--json", "as_json", is_flag=True, help="Full precision, for machines.", panel=OUTPUT)(function)


def replace_option(function: F) -> F:
    """Add the consent to write over files."""
    return click.option("--replace", "replaces", is_flag=True, help="Write over files that are there.", panel=OUTPUT)(
        function
    )


def figure_options(function: F) -> F:
    """Add where figures go."""
    told = "Draw the figures into this folder, as PNG and SVG."
    function = replace_option(function)
    return click.option("--figures", type=click.Path(path_type=Path), metavar="FOLDER", help=told, panel=OUTPUT)(
        function
    )


def manuscript_option(function: F) -> F:
    """Add where the table for a manuscript goes."""
    told = "Write the table for a manuscript to this .docx, .md, .html or .tex."
    labels = "In that table, call columns by their labels, of the codebook."
    function = click.option(
        "--column-labels", is_flag=True, expose_value=False, callback=_with_labels, help=labels, panel=OUTPUT
    )(function)
    return click.option("--manuscript", type=click.Path(path_type=Path), metavar="FILE", help=told, panel=OUTPUT)(
        function
    )


def _with_labels(ctx: click.Context, _: click.Parameter, value: bool) -> bool:
    ctx.meta[_LABELS] = value
    return value


def write_manuscript(results: Any, path: Path, replace: bool) -> None:
    """Write tables for a manuscript."""
    from markbase.reports.document import write_document  # of which most commands need nothing

    ctx = click.get_current_context(silent=True)
    write_document(results, path, labels=bool(ctx and ctx.meta.get(_LABELS)), replace=replace)


def places_option(function: F) -> F:
    """Add where numeric columns are held."""
    return click.option(
        "--at",
        "places",
        multiple=True,
        metavar="COLUMN=VALUES",
        help="Where to hold a numeric column, values by commas: age=30,50,70.",
        panel="Comparison",
    )(function)


@dataclass(frozen=True)
class Source:
    """Where the data come from and what is done to them, as the options say."""

    file: Path
    """The data file, or a plan."""
    codebook: Path | None = None
    """The codebook."""
    kinds: Sequence[str] = ()
    """``column=kind`` texts."""
    missing: Sequence[str] = ()
    """Codes, several by commas."""
    steps: Sequence[str] = ()
    """Preparing steps as inline tables."""
    sheet: str | None = None
    """Sheet of a spreadsheet."""
    encoding: str = "utf-8"
    """Encoding of a text file."""
    bases: Sequence[str] = ()
    """``group=level`` texts."""
    rules: Sequence[str] = ()
    """``group=rule`` texts."""
    categorical: Sequence[str] = ()
    """Names of columns, several by commas."""
    labels: Sequence[str] = ()
    """``column: code=label, code=label`` texts."""
    renames: Sequence[str] = ()
    """``old=new`` texts, several by commas."""
    calculations: Sequence[str] = ()
    """``name = expression`` texts."""
    logs: Sequence[str] = ()
    """Names of columns, several by commas."""
    layout: str | None = None
    """``key=row`` texts, by commas."""
    file_column: str | None = None
    """What the column is called that tells which of several files a row is from."""
    joins: Sequence[str] = ()
    """``FILE: KEYS`` texts."""

    def plan(self) -> Plan:
        """Return what a plan would say of it; where the file is a plan, that plan with the options added."""
        if self.file.suffix.lower() == ".toml":
            plan = read_plan(self.file)
            plan = replace(
                plan,
                codebook=self.codebook or plan.codebook,
                encoding=plan.encoding if self.encoding == "utf-8" else self.encoding,
                sheet=self.sheet or plan.sheet,
                file_column=self.file_column or plan.file_column,
                layout=self._layout() or plan.layout,
            )
        else:
            plan = Plan(
                self.file,
                self.codebook,
                encoding=self.encoding,
                sheet=self.sheet,
                file_column=self.file_column,
                layout=self._layout(),
                source="--prepare",
            )
        extra: list[Mapping[str, Any]] = [labelling(unfolded(text)) for text in self.labels]
        extra += [joining(text) for text in self.joins]
        extra += [read_step(text) for text in self.steps]
        extra = in_order(extra, [calculation(text) for text in self.calculations])
        names = dict(pair(text, "--rename") for text in split(self.renames))
        extra = in_order(extra, [{"do": "rename", "columns": names}] if names else [])
        extra += [{"do": "derive", "name": f"log_{name}", "log": name} for name in split(self.logs)]
        kinds = dict(pair(text, "--as") for text in self.kinds) | dict.fromkeys(split(self.categorical), "categorical")
        extra, kinds = with_kinds(extra, kinds)
        missing, steps = (*plan.missing, *split(self.missing)), (*plan.prepare, *extra)
        return replace(plan, path=None, missing=missing, prepare=steps, kinds={**plan.kinds, **kinds})

    def _layout(self) -> dict[str, int] | None:
        """Return where things stand in the file, as far as the options say."""
        if self.layout is None:
            return None
        given: dict[str, Any] = {}
        for text in split([self.layout]):
            key, _, row = (part.strip() for part in text.partition("="))
            if not key or not row.isdecimal():
                raise MarkbaseError(
                    f"`--layout {self.layout}` should read `--layout KEY=ROW`, for instance `--layout header=3`."
                )
            given[key] = int(row)
        return given

    def open(self, mentioned: bool = False) -> Study:
        """Open the data, all columns or those that are mentioned, prepare them, and mark the bases."""
        if self.file.suffix.lower() == ".json":
            raise MarkbaseError(
                f"`{self.file}` can only be a saved fit, which holds no rows of the data, and here they are needed: name the data file. Saved fits are "
                "read by `fit`, `groups`, `slopes`, `predict` and `validate`."
            )
        plan = self.plan()
        study = open_plan(plan, self._codebook(plan), mentioned)
        for name, level in (pair(text, "--base") for text in self.bases):
            study = study.mark(name, level)
        for name, rule in (pair(text, "--base-by") for text in self.rules):
            study = study.mark(name, by=rule)
        return study

    def _codebook(self, plan: Plan) -> Codebook:
        """Return the codebook, with the kinds that were given."""
        by_options = plan.codebook is None and self.file.suffix.lower() != ".toml"
        return replace(plan.book, source="what was given") if by_options else plan.book

    def open_other(self, file: Path, needed: set[str], like: Study) -> Study:
        """Open another file and prepare it as the data were, to predict for its rows.

        Levels are merged that were merged in the data, whatever the rule, as far as the file has them. Steps that choose rows, and
        steps that look at other rows, are left out with a remark; so are steps that fail on columns the prediction does not need.
        """
        plan = self.plan()
        book = self._codebook(plan)
        told = plan.file_column if is_several(file) else None
        if read_in_parts(file):
            study = open_in_parts(file, book, plan.missing, plan.encoding, told)
        else:
            names = {*read_table(file, encoding=plan.encoding, layout=plan.layout).columns, told}
            book = replace(book, columns={n: spec for n, spec in book.columns.items() if n in names})
            study = open_study(
                file, book, missing=plan.missing, encoding=plan.encoding, layout=plan.layout, file_column=told
            )
        for done in (step for step in like.trail.steps if step.action != "open"):
            step, action = done.record(), done.action
            column = str(step.get("name") or step.get("column") or "")
            of_levels = action == "derive" and "within" in step
            if of_levels or action in ("hold_out", "keep", "lag", "leave_out_repeats", "sample"):
                if column in needed or not (of_levels or action == "lag"):
                    remark(
                        f"The step `{action}` is not carried out on `{file.name}`: it looks at other rows, or chooses them."
                    )
                continue
            if action == "as_long" and column in study:
                continue  # the file is in long form
            new = set(step["columns"]) if action == "join" else {column}
            if action == "rename":
                step = {**step, "columns": {k: v for k, v in step["columns"].items() if k in study}}
                new = set(step["columns"].values())
                if not new:
                    continue  # the file has the new names, or none of them
            if action == "join" and new <= {*study.columns}:
                continue  # the file has these columns by itself
            if action in ("mark", "keep_levels"):
                continue  # another base changes no prediction, and a level that was left out is none the fit has seen
            if action == "merge_levels" and step["column"] in study:
                step = merged_alike(done, study[step["column"]])
                if not step["targets"]:
                    continue  # none of them is here
            try:
                study = study.prepare([step], source="")
            except MarkbaseError as problem:
                if new & needed:
                    what = f" of `{column}`" if column else ""
                    raise type(problem)(f"{file.name}, step `{action}`{what}: {problem}") from None
        return study


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
            for text in told if not wishes().quiet else ():
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


def show(*pages: Page) -> None:
    """Print pages to stdout: in colour where a person looks at them, through a pager where they are longer than the terminal."""
    terminal = sys.stdout.isatty() and os.environ.get("TERM") != "dumb"
    colour = terminal and "NO_COLOR" not in os.environ
    wanted = wishes()
    told = [shortened(page) for page in pages] if wanted.short else pages
    text = "\n".join(to_text(page, wanted.width, colour=colour) + "\n" for page in told)
    if terminal and sys.stdin.isatty() and text.count("\n") >= shutil.get_terminal_size().lines:
        os.environ.setdefault("LESS", "-FRX")
        click.echo_via_pager(text, color=colour)
        return
    sys.stdout.write(text)
    sys.stdout.flush()


def put_table(frame: pd.DataFrame, into: Path | None, replaces: bool) -> bool:
    """Write a table into a file, or to stdout as CSV for ``-``; return whether stdout has been used up by that."""
    if into is None:
        return False
    if into != STANDARD:
        write_table(frame, into, replace=replaces)
        return False
    sys.stdout.write(table_bytes(frame, ".csv").decode())
    sys.stdout.flush()
    return True


def one_output(into: Path | None, as_json: bool) -> None:
    """Refuse two things that are both printed."""
    if into == STANDARD and as_json:
        raise click.UsageError("A table to `-` and --json are both printed; leave one out.")


def answer(found: Page | dict[str, Any], told: Sequence[str]) -> None:
    """Print a page, or plain data with the remarks; only the one that was asked for is made."""
    if isinstance(found, dict):
        show_json(found, told)
    else:
        show(found)


def show_json(record: dict[str, Any], told: Sequence[str]) -> None:
    """Print plain data to stdout as JSON, with the remarks in it."""
    sys.stdout.write(to_json({"format_version": FORMAT_VERSION, **record, "remarks": list(told)}) + "\n")
    sys.stdout.flush()
