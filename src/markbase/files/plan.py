"""Plans in TOML: where the data are, and how they are prepared."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

import tomlkit

from markbase.core.arguments import checked
from markbase.core.errors import MarkbaseError, listed, near
from markbase.core.study.codebook import GIVEN_KINDS, Codebook
from markbase.core.study.steps.opened import opened_as
from markbase.core.study.study import Study
from markbase.files.chosen import Chosen
from markbase.files.codebook import read_codebook
from markbase.files.data import open_study
from markbase.files.joined_tables import TOLD_OF_FILES, is_join, placed, seen_steps, with_table
from markbase.files.layout import Layout
from markbase.files.plan_entries import Analysis
from markbase.files.plan_lines import Lines
from markbase.files.text_files import parsed_toml, read_toml, seen_from

if TYPE_CHECKING:
    from markbase.core.comparison.blocks import Blocks
    from markbase.core.results.linear import LinearFit
    from markbase.core.results.logistic import LogisticFit

_TABLES = (
    "blocks",
    "compare",
    "data",
    "describe",
    "fit",
    "imputations",
    "output",
    "prepare",
    "reliability",
    "screen",
    "backward_elimination",
)
_DATA_KEYS = ("codebook", "encoding", "file", "file_column", "in_parts", "kinds", "layout", "missing", "sheet")


@dataclass(frozen=True)
class Plan:
    """What a plan says, so that somebody else gets the same study from the same file."""

    file: Path
    """The data file."""
    codebook: Path | None = None
    """The codebook."""
    missing: tuple[object, ...] = ()
    """Codes that stand for a missing answer in every column."""
    kinds: Mapping[str, str] = field(default_factory=dict)
    """Kinds of columns that stand above the codebook's: ``numeric``, ``categorical``, ``ordinal`` or ``identifier``."""
    encoding: str = "utf-8"
    """Encoding of a text file."""
    sheet: str | None = None
    """Sheet of a spreadsheet."""
    layout: Mapping[str, int] | None = None
    """Where the names, and the data, stand in the file."""
    in_parts: bool = False
    """Whether rows are read a part at a time."""
    file_column: str | None = None
    """Of several files: what the column is called that tells which of them a row is from."""
    prepare: tuple[Mapping[str, Any], ...] = ()
    """The preparing steps, as `Study.prepare` takes them."""
    path: Path | None = None
    """Where it was read from; None for one that was put together, or changed."""
    source: str = "the plan"
    """Where it was read from, for messages."""
    analysis: Analysis = field(default_factory=Analysis)
    """What is asked for beyond the prepared data: screening, fits, blocks, output."""
    text: str = ""
    """The text it was read from."""

    @property
    def opened_with(self) -> dict[str, Any]:
        """How the file is read: its encoding, sheet and layout, and the column that tells the file."""
        return {"encoding": self.encoding, "sheet": self.sheet, "layout": self.layout, "file_column": self.file_column}

    @property
    def book(self) -> Codebook:
        """The codebook, with the kinds that stand above it."""
        found = read_codebook(self.codebook, self.file.name) if self.codebook else Codebook(source=self.source)
        for name, kind in self.kinds.items():
            found = found.with_kind(name, kind)
        return found

    def open(
        self,
        book: Codebook | None = None,
        *,
        columns: Chosen | None = None,
        in_parts: bool | None = None,
        cluster: str | None = None,
        progress: Callable[[int, int | None], None] | None = None,
    ) -> Study:
        """Open the data and carry the preparing steps out.

        Parameters
        ----------
        book : Codebook, optional
            A codebook to use instead of the plan's.
        columns : sequence of str, optional
            Read these columns of the file alone; by default all of them.
        in_parts : bool, optional
            Whether rows are read a part at a time; by default as the plan says.
        cluster : str, optional
            The address of a scheduler whose workers read them.
        progress : callable, optional
            Told how many rows of the first look in parts are done, and of how many if that is known.

        Returns
        -------
        Study
            The prepared study.

        Raises
        ------
        MarkbaseError
            If the data, the codebook or a step is refused; the message names the step.
        """
        codebook: Codebook | Path | None = book or (self.book if self.kinds else self.codebook)
        study = open_study(
            self.file,
            codebook,
            missing=self.missing,
            **self.opened_with,
            columns=columns,
            in_parts=self.in_parts if in_parts is None else in_parts,
            cluster=cluster,
            progress=progress,
        )
        for number, step in enumerate(self.prepare):
            with self.naming("prepare", number, f"prepare, step {number + 1}"):
                study = study.prepare([with_table(step, lambda path: read_plan(path).open())], source="")
        as_it_says = (book, columns, in_parts, cluster) == (None,) * 4
        return opened_as(study, {"file": str(self.path)}) if self.path is not None and as_it_says else study

    @contextmanager
    def naming(self, table: str, number: int, what: str) -> Iterator[None]:
        """Say of an error which line of the plan it is about.

        Parameters
        ----------
        table : str
            A table of the plan.
        number : int
            Which of those of that name, from 0.
        what : str
            What to call it.

        Raises
        ------
        MarkbaseError
            What was raised inside, with the place in front.
        """
        try:
            yield
        except MarkbaseError as problem:
            line = Lines(self.text, self.source).place(table, number, str(problem))
            raise type(problem)(f"{self.source}{f', line {line}' if line else ''}, {what}: {problem}") from None

    def make(self) -> dict[str, LinearFit | LogisticFit | Blocks]:
        """Open and prepare the data, and make every fit.

        Returns
        -------
        dict of str to LinearFit, LogisticFit or Blocks
            The fits and the entries in blocks by their names, in the order of the plan.

        Raises
        ------
        MarkbaseError
            If the data, a step, a column or a fit is refused.
        """
        from markbase.files.plan_analysis import check_columns

        study = self.open()
        check_columns(self.analysis, study.columns, self.text, self.source)
        found = {}
        for entry in self.analysis.fits:
            with self.naming(entry.table, entry.number, f"fit `{entry.name}`"):
                found[entry.name] = entry.made_from(study)
        return found


@checked
def read_plan(path: str | Path) -> Plan:
    """Read a plan.

    Parameters
    ----------
    path : str or Path
        A TOML file with a table ``[data]`` (``file`` and, if need be, ``codebook``, ``missing``,
        ``encoding``, ``sheet``, ``layout``, ``file_column``; paths are taken from the plan's folder) and a ``[[prepare]]`` for each step.

    Returns
    -------
    Plan
        The plan, checked as far as it can be without the data.

    Raises
    ------
    FileError
        If the file cannot be read.
    MarkbaseError
        If it is not TOML, or has keys that a plan does not have.

    Examples
    --------
    >>> import markbase as mb
    >>> plan = mb.read_plan(mb.demo.path("choirs.plan.toml"))
    >>> [entry.name for entry in plan.analysis.fits]
    ['At home in the choir', 'Who stays', 'Voice parts compared']
    """
    path = Path(path)
    mapping, text = read_toml(path)
    for key in mapping:
        if key not in _TABLES:
            line = Lines(text, path.name).anywhere(key)
            raise MarkbaseError(f"{path.name}, line {line}: unknown key `{key}`.{near(key, _TABLES)}")
    data = mapping.get("data")
    if not isinstance(data, dict) or not isinstance(data.get("file"), str):
        raise MarkbaseError(f'{path.name}: a plan says where the data are: [data] with file = "choirs.csv".')
    for key in data:
        if key not in _DATA_KEYS:
            line = Lines(text, path.name).within("data", 0, key)
            raise MarkbaseError(f"{path.name}, line {line}, data: unknown key `{key}`.{near(key, _DATA_KEYS)}")
    for key in ("file", "codebook", "encoding", "sheet", "file_column"):
        value = data.get(key, "unnamed")
        if not isinstance(value, str) or not value:
            line = Lines(text, path.name).within("data", 0, key)
            raise MarkbaseError(f"{path.name}, line {line}, data: `{key}` is a text, not {value!r}.")
    kinds = data.get("kinds", {})
    odd = None if isinstance(kinds, dict) else kinds
    if isinstance(kinds, dict):
        odd = next((f"{name} = {kind!r}" for name, kind in kinds.items() if kind not in GIVEN_KINDS), None)
    if odd is not None:
        line = Lines(text, path.name).within("data", 0, "kinds")
        raise MarkbaseError(
            f'{path.name}, line {line}, data: `kinds` says of columns that they are {listed(GIVEN_KINDS, "or")}, for instance {{rehearsal_day = "categorical"}}, '
            f"not {odd}."
        )
    if not isinstance(data.get("in_parts", False), bool):
        line = Lines(text, path.name).within("data", 0, "in_parts")
        raise MarkbaseError(f"{path.name}, line {line}, data: `in_parts` is true or false, not {data['in_parts']!r}.")
    steps = mapping.get("prepare", [])
    if not isinstance(steps, list):
        raise MarkbaseError(f"{path.name}: `prepare` is a list of steps; write [[prepare]] above each.")
    missing = data.get("missing", [])
    if not isinstance(missing, list):
        raise MarkbaseError(f"{path.name}, data: `missing` is a list of codes, not {missing!r}.")
    layout = data.get("layout")
    try:
        Layout.of(layout)
    except MarkbaseError as problem:
        line = Lines(text, path.name).within("data", 0, "layout")
        raise MarkbaseError(f"{path.name}, line {line}, data: {problem}") from None
    from markbase.files.plan_analysis import read_analysis  # rests on all of the arithmetic, which data alone do not

    folder = path.parent
    return Plan(
        file=folder / data["file"],
        codebook=folder / data["codebook"] if "codebook" in data else None,
        missing=tuple(missing),
        kinds=kinds,
        encoding=data.get("encoding", "utf-8"),
        sheet=data.get("sheet"),
        file_column=data.get("file_column"),
        layout=layout,
        in_parts=data.get("in_parts", False),
        prepare=tuple(placed(step, folder) for step in steps),
        path=path,
        source=path.name,
        analysis=read_analysis(mapping, text, path.name),
        text=text,
    )


def moved_plan(plan: Plan, folder: Path) -> str:
    """Return the text of a plan as it reads in another folder, its files named as seen from there."""
    document = tomlkit.parse(plan.text)
    data: Any = document["data"]
    data["file"] = seen_from(plan.file, folder)
    if plan.codebook:
        data["codebook"] = seen_from(plan.codebook, folder)
    steps: Any = document.get("prepare", [])
    for step, seen in zip(steps, seen_steps(plan.prepare, folder), strict=True):
        if is_join(seen):
            step.update({key: seen[key] for key in TOLD_OF_FILES if key in seen})
    return tomlkit.dumps(document)


def unfolded(text: str) -> str:
    """Return a text that was copied from folded lines in one line: a line break, with the blanks about it, stands for a blank."""
    return re.sub(r"[ \t]*\r?\n[ \t]*", " ", text)


def read_step(text: str) -> dict[str, Any]:
    """Read one preparing step written as an inline TOML table, ``{do = "mark", column = "voice"}``; the braces may be left out.

    It may have been copied from lines that were folded between words.
    """
    bare = unfolded(text.strip())
    try:
        step = parsed_toml(f"step = {bare if bare.startswith('{') else '{' + bare + '}'}", f"`{text}`")["step"]
    except MarkbaseError as problem:
        raise MarkbaseError(
            f'{str(problem).removesuffix(".")}; write for instance do = "mark", column = "voice", base = "alto".'
        ) from None
    if not isinstance(step, dict):
        raise MarkbaseError(f'`{text}` is no step; write for instance do = "mark", column = "voice", base = "alto".')
    return step
