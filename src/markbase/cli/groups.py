"""`markbase groups`: the levels of a group, every pair of them, and comparisons that were planned."""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import rich_click as click

from markbase.cli.help import examples
from markbase.cli.manuscripts import manuscript_option, write_manuscript
from markbase.cli.model_options import model_of, model_options
from markbase.cli.options import figure_options, json_option, names_argument, places_option
from markbase.cli.other_rows import fit_or_saved, refuse_if_saved
from markbase.cli.output import answer, remarks
from markbase.cli.typed import parted, places_of, split, two
from markbase.core.design.requested_terms import unquoted
from markbase.core.errors import MarkbaseError, listed, quoted
from markbase.core.inference.corrections import CORRECTIONS, OF_ALL_PAIRS, WITH_ONE_LEVEL
from markbase.core.reading.interaction_sentences import about_averages
from markbase.core.results.any_fit import AnyFit
from markbase.core.results.equivalence import check_margin
from markbase.core.results.stored_fit import StoredFit
from markbase.show.equation import lines_page
from markbase.show.fit import what_is_read
from markbase.show.group_tables import (
    cells_sections,
    groups_section,
    margin_section,
    pairs_section,
    planned_sections,
)
from markbase.show.page import Facts, Page, Section
from markbase.show.records import cells_record, groups_record, table_record
from markbase.show.regression import regression_record

_NO_AVERAGES = (
    "not told",
    "adjusted probabilities are averages over rows, and this saved fit holds none of this group; below, pairs are told in odds",
)


@click.command(
    "groups",
    epilog=examples(
        "markbase groups choirs.plan.toml voice --outcome belonging --terms age,voice",
        "markbase groups choirs.plan.toml voice --outcome belonging --terms age,voice --contrast tenor",
    ),
)
@model_options
@names_argument("[FIT] [GROUP[:GROUP]]...")
@places_option
@click.option(
    "--correction",
    type=click.Choice(CORRECTIONS),
    default="holm",
    show_default=True,
    metavar="METHOD",
    help="For the p of several comparisons: holm, bonferroni, tukey (of every pair), dunnett (of each level with the base), scheffe (of any), benjamini-hochberg (for the share of chance findings) or none.",
    panel="Comparison",
)
@click.option(
    "--against",
    metavar="LEVEL",
    help="Compare the other levels of one group with this one, instead of every pair.",
    panel="Comparison",
)
@click.option(
    "--margin",
    type=float,
    metavar="N",
    help="The smallest difference that would matter, or odds ratio: which pairs differ by less (equivalence), which by more?",
    panel="Comparison",
)
@click.option(
    "--contrast",
    "contrasts",
    multiple=True,
    metavar="'NAME: WEIGHTS'",
    help="A planned comparison: weights of levels that sum to 0, as 'low and high: alto=1, bass=-1'; or a level, which is "
    "compared with the mean of the others.",
    panel="Comparison",
)
@manuscript_option
@figure_options
@json_option
def command(
    places: tuple[str, ...],
    correction: str,
    against: str | None,
    margin: float | None,
    contrasts: tuple[str, ...],
    manuscript: Path | None,
    figures: Path | None,
    replaces: bool,
    as_json: bool,
    **given: Any,
) -> None:
    """Compare the levels of a GROUP of the model: adjusted means, every pair, planned comparisons.

    Without GROUP, every group of the model is told; GROUP:GROUP tells two of them together, every combination and the pairs within.
    FILE is a data file, a plan, of which FIT names a fit, or a saved fit (.json), which needs no data.
    """
    with remarks() as told:
        model = model_of(given)
        at = places_of(places)
        fit = fit_or_saved(model)
        inside = [v.name for v in fit.variables if v.is_categorical]
        groups = tuple(unquoted(name) for name in model.rest()) or tuple(inside)
        if not groups:
            raise MarkbaseError("The model has no group: its terms are all numeric.")
        if contrasts and len(groups) != 1:
            raise click.UsageError(f"--contrast is for one group; name it behind the file ({listed(quoted(groups))}).")
        if against is not None and (len(groups) != 1 or groups[0] not in inside):
            raise click.UsageError(
                f"--against is a level of one group; name that behind the file ({listed(quoted(inside))})."
            )
        crossed = [group for group in groups if ":" in group and group not in inside]
        if crossed and (at or contrasts):
            raise click.UsageError(f"{crossed[0]} are two groups together; leave --at and --contrast out.")
        if crossed and margin is not None:
            raise click.UsageError(f"{crossed[0]} are two groups together; leave --margin out, or name one of the two.")
        if margin is not None:
            check_margin(margin, fit.family.ratios)
        asked = _Asked(
            fit,
            tuple(dict.fromkeys(groups)),
            tuple(crossed),
            tuple(dict(zip(at, values, strict=True)) for values in itertools.product(*at.values())),
            correction,
            margin,
            against,
            _weights(contrasts) if contrasts else None,
        )
        found = asked.record() if as_json else asked.page()
        alone = [group for group in groups if group in inside]
        if manuscript and not alone:
            raise click.UsageError("--manuscript holds the levels of single groups; name one behind the file.")
        refuse_if_saved(fit, {"--manuscript": manuscript, "--figures": figures})
        if manuscript and not isinstance(fit, StoredFit):
            write_manuscript([(fit, group) for group in alone], manuscript, replaces)
        if figures and not isinstance(fit, StoredFit):
            from markbase.cli.figure_files import draw_groups_of

            draw_groups_of(fit, alone, [two(group) for group in crossed], figures, replaces)
    answer(found, told)


@dataclass(frozen=True)
class _Asked:
    """What is asked about the groups of a fit."""

    fit: AnyFit | StoredFit
    groups: tuple[str, ...]
    crossed: tuple[str, ...]
    """Those of them that are two groups together."""
    places: tuple[Mapping[str, float], ...]
    """Where numeric columns are held; one empty place for as in the sample."""
    correction: str
    margin: float | None
    against: str | None
    planned: Mapping[str, Mapping[str, float]] | Sequence[str] | None

    @property
    def planned_correction(self) -> str:
        """The correction of planned comparisons; those of all pairs, or of pairs with one level, do not suit them."""
        return "none" if self.correction in (*OF_ALL_PAIRS, *WITH_ONE_LEVEL) else self.correction

    def page(self) -> Page:
        fit, sections = self.fit, []
        for group in self.groups:
            if group in self.crossed:
                sections += cells_sections(fit, *two(group), self.correction)
                continue
            fit.variable(group, "categorical")
            if fit._averages_levels(group):
                sections += [groups_section(fit, group, place or None) for place in self.places]
            else:
                minded = [("mind", words) for words in about_averages(fit, group)]
                sections.append(Section(f"The levels of {group}", blocks=(Facts((_NO_AVERAGES, *minded)),)))
            one = self.against
            sections += [pairs_section(fit, group, self.correction, place or None, one) for place in self.places]
            if self.margin is not None:
                held = (fit, group, self.margin, self.correction)
                sections += [margin_section(*held, place or None, one) for place in self.places]
            if self.planned is not None:
                for place in self.places:
                    asked = (fit, group, self.planned, self.planned_correction, place or None, self.margin)
                    sections += planned_sections(*asked)
            elif self.places == ({},):
                sections += _lines(fit, group)
        return Page(f"{fit.explained}, by {listed(list(self.groups))}", what_is_read(fit), tuple(sections))

    def record(self) -> dict[str, Any]:
        fit = self.fit
        record = regression_record(fit) | {"groups": {group: self._group(group) for group in self.groups}}
        if self.planned is None:
            return record
        (group,), chosen = self.groups, self.planned_correction
        tables = [
            (place, fit.planned(group, self.planned, chosen, at=place or None, margin=self.margin))
            for place in self.places
        ]
        return record | {"contrasts": [{"at": place, "rows": table_record(table)} for place, table in tables]}

    def _group(self, group: str) -> Any:
        if group in self.crossed:
            return cells_record(self.fit, *two(group), self.correction)
        self.fit.variable(group, "categorical")
        if self.places == ({},):
            return groups_record(self.fit, group, self.correction, margin=self.margin, against=self.against)
        return [
            {"at": place, **groups_record(self.fit, group, self.correction, place, self.margin, self.against)}
            for place in self.places
        ]


def _lines(fit: AnyFit | StoredFit, group: str) -> list[Section]:
    if all(v.is_categorical for v in fit.variables):
        return []
    return [Section(f"The equation by {group}", blocks=lines_page(fit.equation(by=group)).sections[0].blocks)]


def _weights(texts: tuple[str, ...]) -> Mapping[str, Mapping[str, float]] | list[str]:
    """Read planned comparisons: all of them with weights, or all of them single levels."""
    weighted = [text for text in texts if ":" in text and "=" in text]
    if not weighted:
        return list(texts)
    if len(weighted) < len(texts):
        raise click.UsageError("Give every --contrast with weights, or every one as a level compared with the others.")
    found: dict[str, dict[str, float]] = {}
    for text in texts:
        name, _, parts = parted(text, ":")
        try:
            pairs = [part.rsplit("=", 1) for part in split([parts])]
            found[name] = {unquoted(level): float(weight) for level, weight in pairs}
        except ValueError:
            raise click.UsageError(f"--contrast '{text}' should read 'NAME: LEVEL=WEIGHT, LEVEL=WEIGHT'.") from None
    return found
