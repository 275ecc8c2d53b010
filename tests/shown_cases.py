"""What the commands print and the figures draw, written down whole: a page cannot change without a line of it changing here.

``python tests/shown_cases.py`` writes ``tests/shown.txt``, ``tests/drawn.txt`` and ``tests/marked.txt`` (pages of HTML) anew; read the whole change before it is kept.
That the numbers are right is proven elsewhere; here it is seen where they stand, and how they are written.
"""

import re
import shlex
import shutil
import sys
import tempfile
from pathlib import Path

import numpy as np
from matplotlib.colors import to_hex
from matplotlib.ticker import ScalarFormatter

import markbase as mb
from command import run
from sentence_cases import linear, odds, quietly, study

SHOWN, DRAWN, MARKED = (Path(__file__).parent / f"{name}.txt" for name in ("shown", "drawn", "marked"))
BOOK = "--codebook choirs.codebook.toml"
BELONGING = "choirs.plan.toml --outcome belonging"
STAYS = "choirs.plan.toml --kind logistic --outcome stays --event yes"
CURVED = "--terms voice,rehearsals --polynomial age=2 --interaction age,voice"
STEPS = " ".join(
    f"--prepare 'do = {step}'"
    for step in (
        '"split_at", column = "age", above = 60, labels = ["younger", "older"], name = "old"',
        '"derive", name = "age_z", z = "age", within = "voice"',
        '"derive", name = "km_per_min", ratio = ["travel_km", "travel_min"]',
        '"derive", name = "taking_part", sum = ["rehearsals", "concerts"]',
        '"against_rest", column = "voice", level = "tenor", name = "tenors"',
        '"event", column = "satisfaction", event = [4, 5], name = "content"',
        '"keep_levels", column = "voice", levels = ["alto", "bass", "tenor"], reason = "the question is about these"',
        '"blank", column = "travel_km", ranges = [[30, 99]]',
        '"keep", conditions = {age = {at_least = 18}}',
        '"sample", rows = 900, seed = 3',
    )
)
LOGGED = "choirs.plan.toml --outcome log_practice_hours --log practice_hours"
EFFECT = " ".join(f"""--prepare 'do = "code_as", column = "{name}", scheme = "effect"'""" for name in ("voice", "stays"))
SHORT = {name: globals()[name] for name in ("BOOK", "BELONGING", "STAYS", "CURVED", "STEPS", "LOGGED", "EFFECT")}
COMMANDS = (Path(__file__).parent / "commands.txt").read_text(encoding="utf-8").format(**SHORT).splitlines()
"""The commands, a line each, where what many have in common stands in braces."""


def demo_folder():
    """Return a new folder with the files of the demo."""
    folder = Path(tempfile.mkdtemp())
    for name in mb.demo.FILES:
        shutil.copy(mb.demo.path(name), folder / name)
    return folder


def printed(line, folder):
    """Return what a command says, and the file it writes for a manuscript."""
    wide = [] if "--width" in line or line.startswith("start") else ["--width", "110"]
    done = run(*shlex.split(line), *wide, cwd=folder)
    text = f"$ markbase {line}\n{done.stderr}{done.stdout}"
    for written in [*folder.glob("t.*"), folder / "groups.csv"]:
        if written.exists():
            text += f"-- {written.name}\n" + "\n".join(written.read_text(encoding="utf-8").splitlines()[:40]) + "\n"
            written.unlink()
    return "\n".join(part.rstrip() for part in text.rstrip("\n").splitlines()) + "\n"


FIGURES = {
    "correlations": lambda: mb.draw_correlations(mb.screen(CHOIRS, ["age", "travel_km", "travel_min"], "belonging")),
    "inflation": lambda: mb.draw_vif(mb.screen(CHOIRS, ["age", "travel_km", "travel_min", "voice"], "belonging")),
    "inflation without end": lambda: mb.draw_vif(mb.screen(CHOIRS, ["rehearsals", "concerts", "events", "age"])),
    "pairs": lambda: mb.draw_pairs(CHOIRS, mb.screen(CHOIRS, ["travel_km", "travel_min", "satisfaction"], "belonging")),
    "coefficients": lambda: mb.draw_coefficients(linear(["age", "voice", "stays"])),
    "coefficients, odds": lambda: mb.draw_coefficients(odds(["age", "voice"])),
    "groups": lambda: mb.draw_groups(linear(["age", "voice"]), "voice"),
    "groups, odds": lambda: mb.draw_groups(odds(["age", "voice"]), "voice"),
    "adjusted": lambda: mb.draw_adjusted(linear(["age", "voice"]), "voice"),
    "adjusted, odds": lambda: mb.draw_adjusted(odds(["age", "voice"]), "voice"),
    "cells": lambda: mb.draw_cells(linear(["voice", "stays", mb.interaction("voice", "stays")]), "voice", "stays"),
    "cells, odds": lambda: mb.draw_cells(odds(["voice", "stays"]), "stays", "voice"),
    "lines": lambda: mb.draw_lines(linear(["age", "voice", mb.interaction("age", "voice")]), "age", "voice"),
    "lines, odds": lambda: mb.draw_lines(odds(["age", "voice"]), "age", "voice"),
    "slopes": lambda: mb.draw_slopes(linear(["age", "fee", mb.interaction("age", "fee")]), "age", by="fee"),
    "slopes of groups": lambda: mb.draw_slopes(odds(["age", "voice", mb.interaction("age", "voice")]), "age", by="voice"),
    "curves of groups": lambda: mb.draw_slopes(
        linear([mb.polynomial("age"), "voice", mb.interaction("age", "voice")]), "age", by="voice"
    ),
    "a curve": lambda: mb.draw_slopes(linear([mb.polynomial("age"), "voice"]), "age"),
    "checks": lambda: mb.draw_checks(linear(["age", "voice"])),
    "clusters": lambda: mb.draw_clusters(linear(["age", "voice"], cluster="team", errors="CR3"), "voice: bass"),
    "classification": lambda: mb.draw_classification(odds(["age", "voice"]), folds=5),
    "calibration": lambda: mb.draw_calibration(odds(["age", "voice"])),
    "blocks": lambda: mb.draw_blocks(ENTRY()),
    "dominance": lambda: mb.draw_dominance(mb.dominance(ENTRY(), draws=100)),
    "paths": lambda: mb.draw_paths(ENTRY()),
    "score": lambda: mb.draw_score(mb.score(linear(["age", "voice"]), study().keep({"age": {"above": 40}}))),
}  # fmt: skip
CHOIRS = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")


def ENTRY():  # noqa: N802 - as the other made things
    """Return a blockwise entry."""
    return mb.fit_blocks(study(), "score", {"who": ["age", "voice"], "what": ["fee", "stays"], "when": ["visits"]})


PAGES = {
    "a fit": lambda: linear(["age", "voice"]),
    "a logistic fit": lambda: odds(["voice"]),
    "a screening": lambda: mb.screen(CHOIRS, ["age", "travel_km", "travel_min"], "belonging"),
    "blocks": lambda: ENTRY(),
}


def marked(name):
    """Return a page of HTML, without its style and the full digits that stand behind the numbers."""
    page = quietly(lambda: PAGES[name]()._repr_html_())
    page = re.sub(r"<style>\n\.markbase.*?</style>\n| title=\"[^\"]*\"|largest difference [^)]*", "", page, flags=re.S)
    return f"== {name}\n" + "\n".join(line.rstrip() for line in page.splitlines()) + "\n"


def _some(values):
    """Return numbers in few digits, of many their number, ends and mean."""
    own = np.ma.filled(np.ma.asarray(values, dtype=float), np.nan).ravel()
    few = own if len(own) <= 8 else [len(own), *own[:2], *own[-2:], np.nanmean(own)]
    return " ".join(f"{v + 0.0:.4g}" for v in np.where(np.abs(few) < 1e-9, 0.0, few))


def _colour(colour):
    return to_hex(colour, keep_alpha=True)


def _told(artist):
    """Return what an artist of a kind that shows something looks like; None of another."""
    kind = type(artist).__name__
    look = f"{artist.get_zorder():g}" + ("" if artist.get_alpha() is None else f" alpha {artist.get_alpha():g}")
    if kind in ("Text", "Annotation"):
        place = f"{_some(artist.get_position())} {artist.get_ha()} {artist.get_va()} {artist.get_fontsize():.3g}"
        return f"text {artist.get_text()!r} {place} {artist.get_weight()} {_colour(artist.get_color())} {look}"
    if kind == "Line2D":
        style = f"{artist.get_linestyle()} {artist.get_linewidth():g} {artist.get_marker()} {artist.get_markersize():g}"
        drawn = f"{_some(artist.get_xdata())} | {_some(artist.get_ydata())}"
        label = "" if artist.get_label().startswith("_") else f" {artist.get_label()!r}"
        marks = [_colour(c) for c in (artist.get_color(), artist.get_markerfacecolor(), artist.get_markeredgecolor())]
        return f"line {drawn} {style} {marks}{label} {look}"
    if hasattr(artist, "get_offsets"):
        paths = [_some(path.vertices) for path in artist.get_paths()][:3]
        faces = [_colour(c) for c in (*artist.get_facecolor()[:5], *artist.get_edgecolor()[:5])]
        return f"{kind} {_some(artist.get_offsets())} {paths} {faces} {_some(artist.get_linewidth())} {look}"
    if hasattr(artist, "get_path"):
        faces = f"{_colour(artist.get_facecolor())} {_colour(artist.get_edgecolor())} {artist.get_linewidth():g}"
        place = artist.get_bbox().bounds if kind == "Rectangle" else artist.get_path().vertices
        return f"{kind} {_some(place)} {faces} {look}"
    return f"image {_some(artist.get_array())}" if hasattr(artist, "get_array") else None


def drawn(name):
    """Return what a figure shows, a line each."""
    made = quietly(FIGURES[name])
    figure = made if hasattr(made, "axes") and hasattr(made, "savefig") else made.figure
    lines = [f"== {name} {_some(figure.get_size_inches())}", *(f"over all: {_told(t)}" for t in figure.texts)]
    for ax in figure.axes:
        labels = [
            "by itself" if isinstance(axis.get_major_formatter(), ScalarFormatter) else [t.get_text() for t in axis.get_ticklabels()]
            for axis in (ax.xaxis, ax.yaxis)
        ]
        lines.append(f"axes {ax.get_title(loc='left')!r} {ax.get_xlabel()!r} {ax.get_ylabel()!r} {ax.get_xscale()}")
        lines.append(f"  from {_some(ax.get_xlim())} by {_some(ax.get_ylim())}, ticks {labels}")
        frame = [side for side, spine in ax.spines.items() if spine.get_visible()]
        lines.append(f"  frame {frame}, face {_colour(ax.get_facecolor())}")
        shown = [*ax.lines, *ax.collections, *ax.patches, *ax.images, *ax.texts]
        lines += [f"  {told}" for artist in shown if (told := _told(artist)) is not None]
        legend = ax.get_legend()
        lines += [] if legend is None else [f"  legend {[t.get_text() for t in legend.get_texts()]}"]
    return re.sub(r"\bnan\b", "–", "\n".join(lines)) + "\n"


def main():
    """Write all of it down."""
    folder = demo_folder()
    SHOWN.write_text("\n".join(printed(line, folder) for line in COMMANDS), encoding="utf-8")
    DRAWN.write_text("\n".join(drawn(name) for name in FIGURES), encoding="utf-8")
    MARKED.write_text("\n".join(marked(name) for name in PAGES), encoding="utf-8")
    shutil.rmtree(folder)


if __name__ == "__main__":
    sys.exit(main())
