"""Models drawn at random, and everything asked of them: ``python benchmarks/models.py --models 100 --seed 5``.

Derived columns beside their sources, interactions of any two or three columns, codings, weights, errors, levels taken out,
penalised likelihood, small samples with empty combinations: every page, table, figure and file of each fit is made. What is
printed: how each kind of question ended, every one that ended otherwise than with an answer or with a sentence, and every
fit that cannot be printed.
"""

import random
import tempfile
import traceback
import warnings
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import click
import matplotlib as mpl
import matplotlib.pyplot as plt
import numpy as np
from rich.console import Console
from rich.table import Table

import markbase as mb
from markbase.core.study.trail import TrailStep
from markbase.show.group_tables import groups_section, pairs_section
from markbase.show.imputations import imputations_page, imputations_record
from markbase.show.imputed_blocks import imputed_blocks_record
from markbase.show.page import Page
from markbase.show.records import to_json
from markbase.show.regression import regression_record
from markbase.show.subgroups import subgroups_record
from markbase.show.text import to_text

NUMERIC = ["age", "years_singing", "travel_km", "travel_min", "rehearsals", "concerts", "events", "practice_hours"]
GROUPS = ["voice", "joined_through", "rehearsal_day", "choir", "district", "voice_and_stays"]
ONE = ["log1p", "sqrt", "cube_root", "square", "centre", "z", "unit_range"]
EXPRESSIONS = (
    "max({a} - 8, 0)", "({a} - 9)^2", "log({a} + 1) * {b}", "{a} / ({b} + 1)", "100 * {a} / {b}", "abs({a} - 9)", "min({a}, {b})",
    "log({a} / 2 + 1)", "round({a} / 10)", "2^({a} / 20)", "{a} - {b} / 3 + 2", "({a} + {b}) / 2",
)  # fmt: skip
TWO = ["sum", "mean", "difference", "product", "ratio", "rate"]
WHOLE = ("page", "short page", "HTML", "JSON", "guide", "report", "saved", "ends")
"""What no fit may refuse."""


def drawn_study(rng: random.Random, seed: int) -> mb.Study:
    """Return some of the demo's rows with columns derived from others, some groups coded otherwise."""
    study = mb.demo.plan().open()
    choirs = study.levels("choir")["level"].tolist()
    study = study.merge_levels("choir", {"upper": choirs[::2], "lower": choirs[1::2]}, name="district")
    study = study.combine_groups(["voice", "stays"], name="voice_and_stays")
    own = study.column("choir")
    other = (own.values + np.random.default_rng(seed).integers(1, len(own.levels), study.rows)) % len(own.levels)
    guests = replace(
        own, name="guest_of", values=other.astype(np.int32), role=None
    )  # another choir in every row: dyads
    study = study._with(guests, TrailStep("open", "guest_of", "Another choir in every row."))
    draws, score, weight = np.random.default_rng(seed), study.column("belonging"), study.column("weight")
    told = replace(score, name="belonging_2", values=score.values + draws.normal(0, 6, study.rows))
    study = study._with(told, TrailStep("open", "belonging_2", "A second plausible value."))
    for k in range(12):  # choirs drawn with replacement
        times = draws.multinomial(len(own.levels), np.full(len(own.levels), 1 / len(own.levels)))[own.values]
        more = replace(weight, name=f"rep{k}", values=weight.values * times, role=None)
        study = study._with(more, TrailStep("open", more.name, "Replicate weights."))
    for k in range(rng.choice([0, 1, 2, 3])):
        pool = [*NUMERIC, *(n for n in study.columns if n.startswith("d_"))]
        how, name = rng.choice([*ONE, *TWO, "cut", *["calculate"] * 6, "classify"]), f"d_{k}"
        try:
            if how == "cut":
                middle = study.values(pool[0]).set_index("measure")["value"]["median"]
                study = study.cut(pool[0], [float(middle)], name=f"band_{k}")
            elif how == "calculate":
                first, second = rng.sample(pool, 2)
                study = study.calculate(name, rng.choice(EXPRESSIONS).format(a=first, b=second))
            elif how == "classify":
                levels = {"old": {"age": {"at_least": 60}}, "far alto": {"voice": "alto", "travel_km": {"above": 8}}}
                study = study.classify(f"band_{k}", levels, otherwise="rest")
            else:
                of = rng.sample(pool, 2) if how in TWO else rng.choice(pool)
                study = study.derive(name, **{how: of})
        except mb.MarkbaseError:
            continue
    for group in GROUPS:
        if rng.random() < 0.15:
            study = study.code_as(group, "effect")
    return study.sample(rng.choice([30, 80, 200, 700, 2003]), seed=seed)


def drawn_terms(rng: random.Random, study: mb.Study) -> list[Any]:
    """Return terms of a study: derived columns often beside what they were made of."""
    made = [n for n in study.columns if n.startswith(("d_", "band_"))]
    columns, terms = [*NUMERIC, *GROUPS, *made, *made], list[Any]()
    for _ in range(rng.choice([1, 2, 2, 3])):
        name, way = rng.choice(columns), rng.random()
        if way < 0.12 and not study.column(name).is_categorical:
            terms.append(mb.polynomial(name, rng.choice([2, 3])))
        elif way < 0.4:
            terms.append(mb.interaction(*rng.sample(sorted(set(columns)), rng.choice([2, 2, 3]))))
        else:
            terms.append(name)
    for name in made:
        if rng.random() < 0.5:
            terms += [name, rng.choice([n for n in study.column(name).made.of if n in study] or [name])]
    return list({str(term): term for term in terms}.values())


def drawn_settings(rng: random.Random, kind: str) -> dict[str, Any]:
    """Return the other arguments of a fit."""
    settings: dict[str, Any] = {"level": rng.choice([0.95, 0.9])}
    settings |= rng.choice(
        [
            {},
            {},
            {"cluster": "choir"},
            {"cluster": "choir", "errors": "CR3"},
            {"cluster": ["choir", "joined_through"]},
            {"cluster": ["choir", "guest_of"], "errors": "dyadic"},
            {"time": "age"},
            {"errors": "HC3"},
            {"strata": "district"},
            {"strata": "district", "cluster": "choir"},
        ]
    )
    if rng.random() < 0.1:
        settings = {"level": 0.95, "weights": "weight", "replicates": "rep*", "replicates_are": "bootstrap"}
        return settings if kind == "linear" else settings | {"event": "yes"}
    settings |= rng.choice([{}, {}, {"weights": "concerts", "weights_are": "frequency"}, {"weights": "weight"}])
    if kind == "linear":
        return settings | rng.choice(
            [{}, {}, {"fixed_effects": "choir"}, {"fixed_effects": ("choir", "rehearsal_day")}]
        )
    return settings | {"event": "yes"} | rng.choice([{}, {"penalty": "firth"}])


def ends(fit: Any) -> None:
    """Refuse a fit of which an interval has no ends, though its errors rest on the model alone."""
    told = fit.coefficients.dropna(subset=["estimate"])
    missing = told.loc[told[["low", "high"]].isna().any(axis=1), ["term", "level"]]
    if fit.errors.kind == "classical" and len(missing):
        raise mb.FitError(f"{missing.to_numpy().tolist()} have no interval.")


def corrected(fit: Any, group: str, correction: str) -> None:
    """Refuse p that is smaller for being corrected, and intervals that say otherwise than it."""
    table = fit.between(group, correction).dropna(subset=["p"])
    clear = (table["low"] > 0) | (table["high"] < 0)
    told = (table["p_corrected"] < fit.alpha) == clear
    near = (table["p_corrected"] - fit.alpha).abs() < 1e-6  # their last digits may differ
    if not (told | near).all() or not (table["p_corrected"] >= table["p"] * (1 - 1e-12)).all():
        raise RuntimeError(f"{correction}: p and intervals disagree\n{table}")


def saved_told_again(fit: Any, group: str, base: str, file: Path) -> None:
    """Refuse a saved fit that tells another base otherwise than the fit does; a likelihood ratio it cannot tell is left out."""
    mb.write_fit(fit, file, replace=True)
    own, saved = fit.rebase(group, base), mb.read_fit(file).rebase(group, base)
    str(saved)
    for name in ("coefficients", "terms"):
        ours, theirs = (getattr(f, name).select_dtypes("number") for f in (own, saved))
        if name == "terms":
            ours = ours.where(theirs.notna() | ~theirs.columns.isin(["statistic", "p"]))
        elif getattr(fit, "penalty", None):  # Wald's, once saved
            ours, theirs = (table[["estimate", "se"]] for table in (ours, theirs))
        if not np.allclose(ours, theirs[ours.columns], rtol=1e-5, atol=1e-7, equal_nan=True):
            raise RuntimeError(f"told from {base} of {group}, the {name} of the saved fit are others\n{ours}\n{theirs}")


def subgroups(found: Any, folder: Path) -> None:
    """Ask everything of a model in each level of a group, and refuse one fit to all whose rows are not those of each."""
    str(found), found.strength, found.tests, to_json(subgroups_record(found)), found._repr_html_()
    mb.write_document(found, folder / "g.md", replace=True)
    if found.pooled is not None and found.by.name in [v.name for v in found.pooled.variables]:
        alone = [fit.rows_used.counted for fit in found.fits.values()]
        if sum(alone) != found.pooled.rows_used.counted:
            raise RuntimeError(f"{alone} rows in the levels, and {found.pooled.rows_used.counted} together")


def imputations(found: Any, folder: Path) -> None:
    """Ask everything of a model over plausible values, and refuse combined errors below those of the mean variance."""
    groups = [v.name for v in found.fit.variables if v.is_categorical and not found.not_averaged(v.name)]
    to_text(imputations_page(found, groups)), to_json(imputations_record(found, groups)), found._repr_html_()
    mb.write_document(found, folder / "i.md", replace=True)
    table = found.coefficients.dropna(subset=["p"])
    within = np.mean([fit.coefficients["se"].loc[table.index] ** 2 for fit in found.fits.values()], axis=0)
    if (table["se"] ** 2 < within * (1 - 1e-9)).any() or not table["missing_information"].between(0, 1).all():
        raise RuntimeError(f"combined errors are smaller than those of each\n{table}")
    mb.report(found, folder / "i.html", replace=True)
    held = {
        v.name: v.labels[0] if v.is_categorical else found.fit.rows_used.middle(v.name) for v in found.fit.variables
    }
    first, second = found.predict([held, dict(list(held.items())[:1])]).to_dict("records")
    if not all(
        row["one_low"] <= row["low"] <= row["predicted"] <= row["high"]
        for row in (first, second)
        if row["se"] > 0 and "one_low" in row
    ):
        raise RuntimeError(f"intervals of predictions do not hold one another\n{first}\n{second}")


def imputed_blocks(found: Any, whole: Any, study: mb.Study, folder: Path) -> None:
    """Ask everything of blocks over plausible values, and refuse a last block that is not the whole model, or R² that falls."""
    str(found), found.movements, found._repr_html_(), to_json(imputed_blocks_record(found))
    mb.write_document(found, folder / "b.md", replace=True)
    mb.report(found, folder / "b.html", replace=True)
    mb.write_plan(folder / "b.toml", study, {"blocks": found, "whole": whole}, data="data.csv", replace=True)
    mb.read_plan(folder / "b.toml")
    if (found.steps["r2_change"] < -1e-9).any():
        raise RuntimeError(f"R² falls\n{found.steps}")
    last, own = (f.coefficients.set_index(["term", "level"])[["estimate", "se"]] for f in (found.last, whole))
    if not np.allclose(last, own.loc[last.index], rtol=1e-6, atol=1e-8, equal_nan=True):
        raise RuntimeError(f"the last block is not the whole model\n{last}\n{own}")


def group_page(fit: Any, group: str) -> str:
    """Return the page of a group as text."""
    sections = (groups_section(fit, group), pairs_section(fit, group))
    return to_text(Page(group, "", sections))


def questions(fit: Any, again: Callable[[], Any], folder: Path) -> Iterator[tuple[str, Callable[[], Any]]]:
    """Tell what is asked of a fit."""
    linear = isinstance(fit, mb.LinearFit)
    yield from (("page", lambda: str(fit)), ("short page", lambda: fit.summary(short=True)), ("HTML", fit._repr_html_))
    yield from (("JSON", lambda: to_json(regression_record(fit))), ("guide", lambda: str(fit.guide())))
    yield "saved", lambda: (mb.write_fit(fit, folder / "f.json"), str(mb.read_fit(folder / "f.json")))
    yield "ends", lambda: ends(fit)
    yield "report", lambda: mb.report(fit, folder / "r.html")
    yield "manuscript", lambda: mb.write_document(fit, folder / "m.md")
    yield "checks", lambda: str(fit.checks()) + ("" if linear else str(fit.classification()))
    yield "figures", lambda: (mb.draw_coefficients(fit), mb.draw_checks(fit) if linear else mb.draw_calibration(fit))
    if fit.cluster is not None:
        yield "clusters", lambda: (fit.without_clusters(), mb.draw_clusters(fit))
    yield "blocks", lambda: str(again())
    yield "elimination", lambda: str(mb.backward_elimination(fit))
    yield "bootstrap", lambda: str(mb.bootstrap(fit, 100))
    yield "dominance", lambda: mb.draw_dominance(mb.dominance(fit))
    yield "specifications", lambda: str(mb.specifications(fit, focus=fit.model_terms[0].name))
    for own in fit.variables:
        if own.is_categorical:
            yield "groups", lambda own=own: (fit.groups(own.name), mb.draw_groups(fit, own.name))
            yield "pairs", lambda own=own: fit.between(own.name, margin=1.5)
            for correction in ("dunnett", "scheffe"):
                yield "pairs", lambda own=own, correction=correction: corrected(fit, own.name, correction)
            yield "base", lambda own=own: str(fit.rebase(own.name, own.labels[-1]))
            yield "saved base", lambda own=own: saved_told_again(fit, own.name, own.labels[-1], folder / "s.json")
            yield "group page", lambda own=own: group_page(fit, own.name)
        else:
            yield "slopes", lambda own=own: fit.simple_slopes(own.name)
            yield "turning points", lambda own=own: fit.turning_points(own.name)


@click.command()
@click.option("--models", default=60, help="How many.")
@click.option("--seed", default=1, help="Of the drawing.")
def main(models: int, seed: int) -> None:
    """Draw models, ask everything of them, and print how it ended."""
    mpl.use("Agg")
    warnings.simplefilter("ignore")
    warnings.simplefilter("error", RuntimeWarning)
    ended: dict[str, Counter[str]] = {"fit": Counter()}
    for number in range(models):
        rng = random.Random(f"{seed} {number}")
        study, kind = drawn_study(rng, number), rng.choice(["linear", "logistic"])
        terms, settings = drawn_terms(rng, study), drawn_settings(rng, kind)
        outcome, make = ("belonging", mb.fit_linear) if kind == "linear" else ("stays", mb.fit_logistic)
        about = f"seed {seed}, model {number}: {kind}, {study.rows} rows, {[str(t) for t in terms]}, {settings}"
        fit = _asked("fit", lambda: make(study, outcome, terms, **settings), about, ended)  # noqa: B023 - called at once
        if fit is None:
            continue
        blocks = {"one": terms[:1], "two": terms[1:]} if len(terms) > 1 else {"one": terms}
        again = lambda: mb.fit_blocks(study, outcome, blocks, kind=kind, **settings)  # noqa: B023, E731 - called at once
        with tempfile.TemporaryDirectory() as folder:
            for what, ask in questions(fit, again, Path(folder)):
                _asked(what, ask, about, ended)
                plt.close("all")
            for by in ("voice", "rehearsal_day"):
                each = lambda by=by: mb.fit_subgroups(study, outcome, terms, by, kind=kind, **settings)  # noqa: B023, E731 - called at once
                if (found := _asked("subgroups", each, about, ended)) is not None:
                    _asked("subgroups told", lambda: subgroups(found, Path(folder)), f"by {by}, {about}", ended)
            if kind == "linear":
                values = lambda: mb.fit_imputations(study, ["belonging", "belonging_2"], terms, **settings)  # noqa: B023, E731 - called at once
                if (found := _asked("plausible values", values, about, ended)) is not None:
                    _asked("plausible values told", lambda: imputations(found, Path(folder)), about, ended)
                    entered = lambda: mb.fit_imputed_blocks(study, ["belonging", "belonging_2"], blocks, **settings)  # noqa: B023, E731 - called at once
                    if (entry := _asked("blocks over them", entered, about, ended)) is not None:
                        told = lambda: imputed_blocks(entry, found, study, Path(folder))  # noqa: B023, E731 - called at once
                        _asked("blocks over them told", told, about, ended)
    table = Table(title=f"{models} models, seed {seed}", title_justify="left")
    for head in ("what", "answered", "refused in a sentence", "defects"):
        table.add_column(head, justify="left" if head == "what" else "right")
    for what, counts in ended.items():
        table.add_row(what, *(f"{counts[end]:,}" for end in ("answered", "refused", "defect")))
    Console(width=100).print(table)


def _asked(what: str, ask: Callable[[], Any], about: str, ended: dict[str, Counter[str]]) -> Any:
    counts = ended.setdefault(what, Counter())
    try:
        found = ask()
    except mb.MarkbaseError as refusal:
        counts["refused"] += 1
        if what in WHOLE:
            print(f"REFUSED {what}: {refusal} ({about})")
        return None
    except Exception as defect:  # what this is there to find
        counts["defect"] += 1
        frames = traceback.extract_tb(defect.__traceback__)
        own = ([t for t in frames if "markbase" in t.filename] or frames)[-1]
        print(
            f"DEFECT {what}: {type(defect).__name__}: {defect}, {Path(own.filename).name} line {own.lineno} ({about})"
        )
        return None
    counts["answered"] += 1
    return found


if __name__ == "__main__":
    main()
