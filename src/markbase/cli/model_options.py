"""What to fit, as options or a plan say: the same for every command that is about a model."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, fields, replace
from typing import Any, TypeVar

import rich_click as click

from markbase.cli.opening import is_long_to_read
from markbase.cli.options import base_options, data_options
from markbase.cli.output import held_back, retell
from markbase.cli.source import Source
from markbase.cli.typed import named, names_in, pair, parted, split
from markbase.core.comparison.blocks import Blocks
from markbase.core.design.fit_options import KINDS, FitOptions
from markbase.core.design.requested_terms import (
    TermRequest,
    all_but,
    interaction,
    names_of,
    polynomial,
    term_from_text,
)
from markbase.core.errors import MarkbaseError, listed, near, quoted, remark
from markbase.core.results.any_fit import AnyFit
from markbase.core.study.named_alike import is_pattern, names_like
from markbase.core.study.study import Study
from markbase.files.plan_entries import FitEntry

F = TypeVar("F", bound=Callable[..., Any])
_MODEL, _SETTINGS = "Model", "Errors, weights, intervals"
_MODEL_SETTINGS = ("main_effects", "event", "penalty", "fixed_effects")


def model_options(function: F) -> F:
    """Add the options that say what data to take and what to fit to them."""
    terms = [
        click.option("--outcome", help="What to explain: a numeric column, or a yes/no column.", panel=_MODEL),
        click.option(
            "--terms",
            multiple=True,
            metavar="COLUMNS",
            help="What to explain it with, by commas: columns, polynomial(age, 2), interaction(age, voice).",
            panel=_MODEL,
        ),
        click.option(
            "--polynomial",
            "polynomials",
            multiple=True,
            metavar="COLUMN=DEGREE",
            help="Let a numeric column have a curve, of degree 2 or 3.",
            panel=_MODEL,
        ),
        click.option(
            "--interaction",
            "interactions",
            multiple=True,
            metavar="COLUMNS",
            help="Two or three columns, by commas: what one goes with differs by the others.",
            panel=_MODEL,
        ),
        click.option(
            "--kind",
            type=click.Choice(KINDS, case_sensitive=False),
            help="The kind of regression.  [default: linear]",
            panel=_MODEL,
        ),
    ]
    for option in reversed([data_options, *terms, base_options, setting_options(*FitOptions.names())]):
        function = option(function)
    return function


def setting_options(*names: str) -> Callable[[F], F]:
    """Return what adds the options for some settings of a fit, in the order of their description."""

    def added(function: F) -> F:
        for setting in reversed(fields(FitOptions)):
            function = _option(setting)(function) if setting.name in names else function
        return function

    return added


def _option(setting: Any) -> Callable[[F], F]:
    """Return the option for a setting of a fit, from its description."""
    about, default = setting.metadata, setting.default
    told = about["told"] + (f"  [default: {default}]" if default is not None else "")
    if about["kinds"] != KINDS:
        told = f"{about['kinds'][0].capitalize()}: {told[0].lower()}{told[1:]}"
    more: dict[str, Any] = {"type": float} if about["number"] else {}
    if about["choices"]:
        more = {"type": click.Choice(about["choices"], case_sensitive=False)}
    elif about["names"]:
        more = {"metavar": about["names"]}
    return click.option(
        f"--{setting.name.replace('_', '-')}",
        setting.name,
        multiple=about["several"],
        help=told,
        panel=_MODEL if setting.name in _MODEL_SETTINGS else _SETTINGS,
        **more,
    )


@dataclass(frozen=True)
class Model:
    """What a command is about: a fit of a plan, or what options say."""

    source: Source
    """The data."""
    names: tuple[str, ...] = ()
    """What was typed behind the file: the name of a fit of the plan, then what the command takes."""
    outcome: str | None = None
    """The outcome; None for a fit of a plan."""
    terms: tuple[str, ...] = ()
    """Names of columns, several by commas."""
    polynomials: tuple[str, ...] = ()
    """``column=degree`` texts."""
    interactions: tuple[str, ...] = ()
    """Columns, by commas."""
    kind: str | None = None
    """``linear`` or ``logistic``."""
    settings: Mapping[str, Any] = field(default_factory=dict)
    """The settings that were given."""
    of: str = "fits"
    """Which entries of a plan are meant: its ``fits``, or its ``imputations``."""
    parted_outcome: bool = False
    """Whether several outcomes may be given, by commas."""

    def planned(self) -> tuple[FitEntry | None, tuple[str, ...]]:
        """Return the fit of the plan that is meant, if it is one, and the names that are left."""
        if self.outcome is not None or self.source.file.suffix.lower() != ".toml":
            return None, self.names
        entries = {entry.name: entry for entry in getattr(self.source.plan().analysis, self.of)}
        if self.names and self.names[0] in entries:
            return entries[self.names[0]], self.names[1:]
        if len(entries) == 1:
            return next(iter(entries.values())), self.names
        if not entries:
            return None, self.names
        hint = near(self.names[0], list(entries)) if self.names else ""
        hint = hint if "Did you mean" in hint else ""
        raise MarkbaseError(
            f"The plan has {len(entries)} {self.of}, so name one behind it ({listed(quoted(entries))}), or give --outcome and --terms.{hint}"
        )

    def rest(self, most: int | None = None) -> tuple[str, ...]:
        """Return the names behind the file that name no fit, refusing more than a command takes."""
        _, names = self.planned()
        if most is not None and len(names) > most:
            raise MarkbaseError(
                f"There is nothing to do with `{names[most]}`: "
                + (
                    "a fit of a plan is named as the plan does."
                    if self.source.file.suffix.lower() == ".toml"
                    else "only a plan has fits to name; say what to explain, and with what: --outcome belonging --terms age,voice."
                )
            )
        return names

    def entry(self, study: Study, blocks: Sequence[str] = ()) -> FitEntry:
        """Say what is to be fitted: the fit of the plan with what options change of it, or what options say.

        Parameters
        ----------
        study : Study
            The data, whose columns `all but` and the names of terms are held against.
        blocks : sequence of str
            ``name: column, column`` texts; the terms enter block by block then.
        """
        entry, _ = self.planned()
        if entry is None and self.outcome is None:
            raise MarkbaseError("Say what to explain, and with what: --outcome belonging --terms age,voice.")
        entry = entry or self._typed(study)
        kind = self.kind or entry.kind
        kept = {k: v for k, v in entry.settings.items() if not FitOptions.other_kind(k, kind)}
        entry = replace(entry, kind=kind, settings={**kept, **self.settings})
        for name in self.settings:
            other = FitOptions.other_kind(name, kind)
            if other:
                option = f"--{name.replace('_', '-')}"
                raise MarkbaseError(f"`{option}` is for a {other} regression; add `--kind {other}`, or leave it out.")
        if blocks:
            return replace(entry, terms=(), entry=tuple(self._blocks(blocks, study).items()))
        given = self._with_products(self._listed_terms(self.terms, study), study.columns)
        if not given and not entry.every_term:
            raise MarkbaseError("Say what to explain it with: --terms age,voice.")
        return replace(entry, terms=tuple(given), entry=()) if given else entry

    def _typed(self, study: Study) -> FitEntry:
        """Return what options say of the outcome, or of several."""
        parted = self.parted_outcome and self.outcome not in study.columns
        outcomes = tuple(names_in(self.outcome or "", study.columns)) if parted else ()
        several = outcomes if len(outcomes) > 1 or any(map(is_pattern, outcomes)) else ()
        several = names_like(several, study.columns)
        return FitEntry("", "linear", several[0] if several else self.outcome or "", (), outcomes=several)

    def opened(self, blocks: Sequence[str] = (), also: Sequence[str] = ()) -> tuple[Study, FitEntry]:
        """Open the data, and say what is to be fitted to them; remarks on columns that are neither in it nor needed `also` are left out."""
        study, entries = self._opened(lambda study: {"": self.entry(study, blocks)}, blocks, also)
        self._mention_unused(study, entries[""])
        return study, entries[""]

    def _opened(
        self, entries_of: Callable[[Study], dict[str, FitEntry]], texts: Sequence[str] = (), also: Sequence[str] = ()
    ) -> tuple[Study, dict[str, FitEntry]]:
        """Open the data, and say what is to be fitted to them: of a large file the columns alone that are mentioned, if these will do."""
        if not any("all but" in text for text in (*self.terms, *texts)) and is_long_to_read(self.source.plan()):
            try:
                study, held = self._held(mentioned=True)
                entries = entries_of(study)
                needed = {*also, *(c for entry in entries.values() for c in entry.columns)}
                if needed <= set(study.columns):
                    retell(held, study, needed)
                    return study, entries
            except MarkbaseError:
                pass  # what is wrong is told of all columns
        study, held = self._held()
        entries = entries_of(study)
        retell(held, study, {*also, *(c for entry in entries.values() for c in entry.columns)})
        return study, entries

    def _held(self, mentioned: bool = False) -> tuple[Study, list[str]]:
        with held_back() as held:
            study = self.source.open(mentioned)
        return study, held

    def fit(self) -> tuple[Study, AnyFit]:
        """Open the data and fit all terms at once."""
        study, entry = self.opened()
        return study, entry.fitted_to(study)

    def blocks(self, texts: Sequence[str]) -> Blocks:
        """Open the data and fit block by block."""
        study, entry = self.opened(texts)
        if not entry.entry:
            raise MarkbaseError(
                "Say which terms enter with which block: --block 'background: age, voice' --block 'taking part: rehearsals'."
            )
        found = replace(entry, bootstrap=0).made_from(study)
        assert isinstance(found, Blocks)
        return found

    def _blocks(self, texts: Sequence[str], study: Study) -> dict[str, tuple[TermRequest, ...]]:
        """Read ``name: column, column`` texts; products given by options enter with the last block."""
        blocks: dict[str, tuple[TermRequest, ...]] = {}
        if self.terms:
            raise MarkbaseError("Give the terms in blocks or with `--terms`, not both.")
        for text in texts:
            name, columns = named(text, "--block", "background: age, voice")
            if name in blocks:
                raise MarkbaseError(f"The block `{name}` is given twice; give each block a name of its own.")
            blocks[name] = tuple(self._listed_terms([columns], study))
        last = list(blocks)[-1]
        blocks[last] = tuple(self._with_products(blocks[last], study.columns))
        return blocks

    def variants(self, texts: Sequence[str]) -> tuple[Study, dict[str, FitEntry]]:
        """Open the data, and read ``name: column, column`` texts as fits that share all else."""

        def read(study: Study) -> dict[str, FitEntry]:
            found: dict[str, FitEntry] = {}
            for text in texts:
                name, columns = named(text, "--variant", "without age: voice, rehearsals")
                if name in found:
                    raise MarkbaseError(f"The variant `{name}` is given twice; give each a name of its own.")
                found[name] = replace(self, terms=(columns,)).entry(study)
            return found

        return self._opened(read, texts)

    def planned_fits(self, entries: Mapping[str, FitEntry]) -> tuple[Study, dict[str, FitEntry]]:
        """Open the data for some fits of a plan; remarks on other columns are left out."""
        return self._opened(lambda _: dict(entries))

    def _with_products(self, listed: Sequence[TermRequest], columns: Sequence[str]) -> list[TermRequest]:
        """Put the curves and interactions that are asked for behind listed terms; a curve takes the place of its column."""
        curves = dict(pair(text, "--polynomial") for text in self.polynomials)
        for name, degree in curves.items():
            if degree not in ("2", "3"):
                raise MarkbaseError(f"`--polynomial {name}={degree}`: the degree is 2 or 3.")
        requests = [request for request in listed if request not in curves]
        requests += [polynomial(name, int(degree)) for name, degree in curves.items()]
        for text in self.interactions:
            factors = [term_from_text(part) for part in names_in(text, columns)]
            factors = [polynomial(f, int(curves[f])) if isinstance(f, str) and f in curves else f for f in factors]
            requests.append(interaction(*factors))  # type: ignore[arg-type]  # an interaction inside is refused there
        return requests

    def _listed_terms(self, texts: Sequence[str], study: Study) -> list[TermRequest]:
        """Read lists of terms: columns, ``polynomial(age, 2)``, ``interaction(age, voice)``, or ``all but`` some columns."""
        names: list[TermRequest] = []
        curves = {parted(text, "=")[0] for text in self.polynomials}
        for text in texts:
            if text.strip().startswith("all but "):
                left_out = split([text.strip().removeprefix("all but ")], study.columns)
                names += [n for n in all_but(*left_out).chosen(study, self.outcome or "") if n not in curves]
                continue
            names += [term_from_text(part, study.columns) for part in names_in(text, study.columns)]
        return names

    def _mention_unused(self, study: Study, entry: FitEntry) -> None:
        """Remark on a base that was given for a group outside the model, and on a logarithm that is made beside what the model has."""
        inside = {name for spec in entry.every_term for name in names_of(spec)}
        for text in (*self.source.bases, *self.source.rules):
            name = parted(text, "=")[0]
            if name in study.columns and name not in inside:
                remark(f"A base was given for `{name}`, which is not among the terms; it changes nothing here.")
        self.source.mention_unused_logs(entry.columns)


def model_of(given: dict[str, Any]) -> Model:
    """Part what a command was given into the model and where the data are."""
    settings = {name: given.pop(name) for name in FitOptions.names()}
    settings = {name: value for name, value in settings.items() if value not in (None, ())}
    own = {
        name: given.pop(name)
        for name in ("names", "outcome", "terms", "polynomials", "interactions", "kind")
        if name in given
    }
    return Model(Source(**given), settings=settings, **own)


def only_for(kind: str, fit: AnyFit, options: Iterable[tuple[str, Any]]) -> None:
    """Refuse options of one kind of regression for a fit of the other."""
    for option, value in options:
        if fit.family.name != kind and value not in (None, False):
            raise click.UsageError(
                f"{option} is for a {kind} regression, and this one is {fit.family.name}; leave it out."
            )
