"""Options that say what to fit, shared by the commands that fit a model."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from typing import Any, TypeVar

import click

from markbase.cli.common import Source, base_options, data_options, held_back, pair, retell, split
from markbase.core.comparison.blocks import Blocks
from markbase.core.comparison.fit_blocks import fit_blocks
from markbase.core.design.requested_terms import (
    TermRequest,
    all_but,
    interaction,
    names_of,
    polynomial,
    split_outside,
    term_from_text,
)
from markbase.core.errors import MarkbaseError, near, remark
from markbase.core.results.fit_linear import fit_linear
from markbase.core.results.fit_logistic import fit_logistic
from markbase.core.results.linear import LinearFit
from markbase.core.results.logistic import LogisticFit
from markbase.core.study.study import Study

F = TypeVar("F", bound=Callable[..., Any])
KINDS = ("linear", "logistic")


def fit_options(function: F) -> F:
    """Add the options that say what data to take and what to fit to them."""
    options = [
        data_options,
        base_options,
        click.option("--outcome", required=True, help="What to explain: a numeric column, or a yes/no column."),
        click.option("--terms", multiple=True, metavar="COLUMNS", help="What to explain it with, by commas."),
        click.option("--kind", default="linear", show_default=True, help="linear or logistic."),
        click.option("--event", help="Logistic: the level of the outcome whose odds are modelled."),
        click.option("--penalty", help="Logistic: firth, for penalised likelihood."),
        click.option(
            "--polynomial",
            "polynomials",
            multiple=True,
            metavar="COLUMN=DEGREE",
            help="Let a numeric column have a curve, of degree 2 or 3. May be repeated.",
        ),
        click.option(
            "--interaction",
            "interactions",
            multiple=True,
            metavar="COLUMNS",
            help="Two or three columns, by commas: what one goes with differs by the others. May be repeated.",
        ),
        click.option(
            "--main-effects",
            type=click.Choice(["add", "refuse"]),
            default="add",
            show_default=True,
            help="Where an interaction lacks the terms it is made of.",
        ),
        click.option("--level", default=0.95, show_default=True, help="Confidence level of the intervals."),
        click.option("--errors", help="classical (the default), robust (HC3), HC0, HC1, HC2 or HC3."),
        click.option("--weights", metavar="COLUMN", help="With how much each row counts."),
        click.option("--weights-are", default="sampling", show_default=True, help="sampling or frequency."),
        click.option(
            "--fixed-effects",
            multiple=True,
            metavar="GROUP",
            help="Linear: control for all levels of this group without listing them. Once or twice.",
        ),
        click.option(
            "--cluster", metavar="GROUP", help="Cluster the errors by this group, such as the choir of a singer."
        ),
    ]
    for option in reversed(options):
        function = option(function)
    return function


@dataclass(frozen=True)
class ModelOptions:
    """What to fit, as the options say."""

    outcome: str
    """The outcome."""
    terms: tuple[str, ...]
    """Names of columns, several by commas."""
    kind: str
    """``linear`` or ``logistic``."""
    event: str | None
    """The event."""
    penalty: str | None
    """``firth``."""
    polynomials: tuple[str, ...]
    """``column=degree`` texts."""
    interactions: tuple[str, ...]
    """Columns, by commas."""
    main_effects: str
    """``add`` or ``refuse``."""
    level: float
    """Confidence level."""
    errors: str | None
    """The kind of errors."""
    weights: str | None
    """The column of the weights."""
    weights_are: str
    """What they are."""
    fixed_effects: tuple[str, ...]
    """Columns whose levels are taken out."""
    cluster: str | None
    """The column of the clusters."""
    source: Source
    """The data."""

    def blocks(self, texts: Sequence[str]) -> tuple[Study, Blocks]:
        """Open the data and fit block by block; each text is ``name: column, column``."""
        if self.terms:
            raise MarkbaseError("Give the terms in blocks or with `--terms`, not both.")
        with held_back() as held:
            study = self.source.open()
        blocks: dict[str, list[TermRequest]] = {}
        for text in texts:
            name, mark, columns = text.partition(":")
            if not mark or not name.strip() or not columns.strip():
                raise MarkbaseError(
                    f"`--block {text}` should read `--block 'NAME: COLUMN, COLUMN'`, for instance 'background: age, voice'."
                )
            if name.strip() in blocks:
                raise MarkbaseError(f"The block `{name.strip()}` is given twice; give each block a name of its own.")
            blocks[name.strip()] = self._listed_terms([columns], study)
        self._check_kind()
        last = list(blocks)[-1]
        blocks[last] += self._products()
        retell(held, study, self._columns(spec for own in blocks.values() for spec in own))
        hierarchy = fit_blocks(study, self.outcome, blocks, kind=self.kind, **self._settings())
        self._mention_unused(study, hierarchy.last)
        return study, hierarchy

    def _check_kind(self) -> None:
        if self.kind not in KINDS:
            raise MarkbaseError(f"There is no kind `{self.kind}` of regression.{near(self.kind, KINDS)}")
        misplaced = (
            {"--event": self.event, "--penalty": self.penalty}
            if self.kind == "linear"
            else {"--fixed-effects": self.fixed_effects}
        )
        for option, value in misplaced.items():
            if value:
                other = "logistic" if self.kind == "linear" else "linear"
                raise MarkbaseError(f"`{option}` is for a {other} regression; add `--kind {other}`, or leave it out.")

    def _products(self) -> list[TermRequest]:
        curves = dict(pair(text, "--polynomial") for text in self.polynomials)
        for name, degree in curves.items():
            if degree not in ("2", "3"):
                raise MarkbaseError(f"`--polynomial {name}={degree}`: the degree is 2 or 3.")
        requests: list[TermRequest] = [polynomial(name, int(degree)) for name, degree in curves.items()]
        for text in self.interactions:
            factors = [term_from_text(part) for part in split_outside(text)]
            factors = [polynomial(f, int(curves[f])) if isinstance(f, str) and f in curves else f for f in factors]
            requests.append(interaction(*factors))  # type: ignore[arg-type]  # an interaction inside is refused there
        return requests

    def _listed_terms(self, texts: Sequence[str], study: Study) -> list[TermRequest]:
        """Read lists of terms: columns, ``polynomial(age, 2)``, ``interaction(age, voice)``, or ``all but`` some columns."""
        names: list[TermRequest] = []
        curves = {text.partition("=")[0].strip() for text in self.polynomials}
        for text in texts:
            if text.strip().startswith("all but "):
                left_out = split([text.strip().removeprefix("all but ")], study.columns)
                names += [n for n in all_but(*left_out).chosen(study, self.outcome) if n not in curves]
                continue
            parts = [text] if text in study.columns else split_outside(text)
            names += [term_from_text(part, study.columns) for part in parts]
        return names

    def _settings(self) -> dict[str, Any]:
        shared: dict[str, Any] = {
            "level": self.level,
            "errors": self.errors,
            "cluster": self.cluster,
            "weights": self.weights,
            "weights_are": self.weights_are,
            "main_effects": self.main_effects,
        }
        if self.kind == "linear":
            return shared | {"fixed_effects": self.fixed_effects}
        return shared | {"event": self.event, "penalty": self.penalty}

    def fit_held_out(self, share: float, seed: int) -> tuple[LinearFit | LogisticFit, Study]:
        """Open the data, hold a share of the rows out, and fit the others."""
        study = self.source.open()
        kept, test = study.hold_out(share=share, seed=seed)
        return self.fit(kept)[1], test

    def fit(self, prepared: Study | None = None) -> tuple[Study, LinearFit | LogisticFit]:
        """Open the data, unless they are given, and fit."""
        self._check_kind()
        if not self.terms and not self.polynomials and not self.interactions:
            raise MarkbaseError(
                "Say what to explain it with: --terms age,voice, or blocks: --block 'background: age, voice'."
            )
        with held_back() as held:
            study = self.source.open() if prepared is None else prepared
        specs = [*self._listed_terms(self.terms, study), *self._products()]
        retell(held, study, self._columns(specs))
        fit: LinearFit | LogisticFit
        if self.kind == "linear":
            fit = fit_linear(study, self.outcome, specs, **self._settings())
        else:
            fit = fit_logistic(study, self.outcome, specs, **self._settings())
        self._mention_unused(study, fit)
        return study, fit

    def _columns(self, specs: Iterable[TermRequest]) -> set[str]:
        """Return the columns that are asked for."""
        fixed_effects = [self.fixed_effects] if isinstance(self.fixed_effects, str) else self.fixed_effects or ()
        extra = [c for c in (self.cluster, self.weights, *fixed_effects) if c]
        return {self.outcome, *extra, *(name for spec in specs for name in names_of(spec))}

    def _mention_unused(self, study: Study, fit: LinearFit | LogisticFit) -> None:
        """Remark on a base that was given for a group outside the model."""
        inside = {name for t in fit.model_terms for name in t.names}
        for text in (*self.source.bases, *self.source.rules):
            name = text.partition("=")[0].strip()
            if name in study.columns and name not in inside:
                remark(f"A base was given for `{name}`, which is not among the terms; it changes nothing here.")


def options_of(given: dict[str, Any]) -> ModelOptions:
    """Part what a command was given into what to fit and where the data are."""
    own = {k: given.pop(k) for k in ModelOptions.__dataclass_fields__ if k in given}
    return ModelOptions(**own, source=Source(**given))
