"""The data, opened and prepared as the options say."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from markbase.cli.opening import open_in_parts, open_plan, read_in_parts
from markbase.cli.steps_in_order import in_order, with_kinds
from markbase.cli.typed import calculation, joining, labelling, pair, split
from markbase.core.errors import MarkbaseError, remark
from markbase.core.study.codebook import Codebook
from markbase.core.study.study import Study
from markbase.files.data import open_study, read_table
from markbase.files.plan import Plan, read_plan, read_step, unfolded
from markbase.files.stacked import is_several


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

    def mention_unused_logs(self, used: Collection[str]) -> None:
        """Remark on a logarithm that was made beside a model, of which some columns are `used`, that has the column as it is."""
        for name in split(self.logs, list(used)):
            if name in used and f"log_{name}" not in used:
                remark(
                    f"The model has `{name}` as it is: `log_{name}`, its logarithm, was made and is nowhere in it. Name `log_{name}` where it is to stand."
                )

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

        Steps that fail on columns the prediction does not need are left out.
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
        return study.prepare_like(like, sorted(needed))
