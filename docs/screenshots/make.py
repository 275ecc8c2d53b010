"""Make the screenshots anew, from the demo data: ``python docs/screenshots/make.py``.

Each command runs in a real terminal window on a screen of its own; a notebook page is drawn by a
browser. Needs Xvfb, xterm, ImageMagick's `import` and Chromium beside the installed package, on a
system that has them under these names.
"""

import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

HERE = Path(__file__).resolve().parent
BIN = Path(sys.executable).parent
DISPLAY = ":87"
FILES = "choirs-demo/choirs.csv --codebook choirs-demo/choirs.codebook.toml"
ITEMS = "choirs-demo/choir_items.csv --codebook choirs-demo/choir_items.codebook.toml"
IMPUTED = "choirs-demo/choir_imputed.csv voice --codebook choirs-demo/choir_imputed.codebook.toml"
PLAN = "choirs-demo/choirs.plan.toml"
FIT = f"markbase fit {PLAN} --outcome belonging --terms age,voice,joined_through,travel_km"
SCREENED = "age,years_singing,years_in_choir,travel_km,travel_min,rehearsals,voice"
TERMINALS = {
    "look.png": (f"markbase look {FILES}", "1080x1010+0+0"),
    "prepare.png": (f"markbase prepare {PLAN} --check joined_through", "1080x545+0+0"),
    "reliability.png": (
        f"markbase reliability {ITEMS} welcome,friends,heard,stranger,part_of_it,would_miss",
        "1080x812+0+0",
    ),
    "screen.png": (f"markbase screen {PLAN} --outcome belonging --terms {SCREENED}", "1080x886+0+0"),
    "fit-numbers.png": (FIT, "1080x1012+0+0"),
    "fit-words.png": (FIT, "1080x800+0+1009"),
    "groups.png": (
        f"markbase groups {PLAN} voice --outcome belonging --terms age,voice,rehearsals --margin 3",
        "1080x890+0+0",
    ),
    "slopes.png": (
        f"markbase slopes {PLAN} age:voice --outcome belonging --terms voice,rehearsals --polynomial age=2 --interaction age,voice "
        "--at age=30,60",
        "1080x400+0+0",
    ),
    "logistic.png": (
        f"markbase fit {PLAN} --kind logistic --outcome stays --event yes --terms age,voice,rehearsals,travel_km",
        "1080x984+0+0",
    ),
    "check.png": (f"markbase check {PLAN} --outcome belonging --terms age,voice,rehearsals", "1080x640+0+0"),
    "blocks.png": (
        f"markbase blocks {PLAN} --outcome belonging --block 'background: age, voice' --block 'taking part: rehearsals, concerts' "
        "--block 'way in: joined_through, travel_km'",
        "1080x926+0+0",
    ),
    "dominance.png": (
        f"markbase dominance {PLAN} --outcome belonging --terms age,years_singing,voice,rehearsals --bootstrap 200",
        "1080x806+0+0",
    ),
    "subgroups.png": (
        f"markbase subgroups {PLAN} --by voice --outcome belonging --terms age,rehearsals,joined_through",
        "1080x1010+0+0",
    ),
    "imputations.png": (
        f"markbase imputations {IMPUTED} --imputation imputation --outcome belonging --terms age,voice,travel_km,rehearsals",
        "1080x1010+0+0",
    ),
    "describe.png": (f"markbase describe {PLAN} --by voice", "1080x1042+0+0"),
}
"""File, command, and which part of the screen."""


def terminal(name: str, command: str, part: str, folder: Path) -> None:
    """Run a command in a terminal window and take its picture."""
    script = folder / "shot.sh"
    script.write_text(
        f"clear\nprintf '\\033[?25l'\nfold -s -w 108 <<'END'\n$ {command}\nEND\necho\n{command}\nsleep 30\n"
    )
    size = [
        "-geometry",
        "112x112",
        "-fa",
        "DejaVu Sans Mono",
        "-fs",
        "11",
        "-bg",
        "#fbfaf7",
        "-fg",
        "#1b1b1b",
        "-b",
        "12",
    ]
    colours = ["-xrm", "xterm*color6: #0b6e8a", "-xrm", "xterm*color3: #8a4b00", "-xrm", "xterm*cursorColor: #fbfaf7"]
    environment = os.environ | {"DISPLAY": DISPLAY, "PATH": f"{BIN}:{os.environ['PATH']}"}
    window = subprocess.Popen(["xterm", *size, *colours, "-e", "bash", str(script)], cwd=folder, env=environment)
    time.sleep(4)
    shot = HERE / name
    subprocess.run(["import", "-window", "root", str(shot)], env=environment, check=True)
    subprocess.run(
        [
            "mogrify",
            "-crop",
            part,
            "+repage",
            "-fuzz",
            "3%",
            "-trim",
            "+repage",
            "-bordercolor",
            "#fbfaf7",
            "-border",
            "10",
            str(shot),
        ],
        check=True,
    )
    window.kill()
    window.wait()


def figure() -> None:
    """Draw the groups of a fit, and lines by them, beside one another."""
    import markbase as mb

    fit = mb.fit_linear(
        mb.demo.plan().open(), "belonging", ["age", "voice", "rehearsals", mb.interaction("age", "voice")]
    )
    with tempfile.TemporaryDirectory() as folder:
        drawn = {"levels.png": mb.draw_groups(fit, "voice"), "lines.png": mb.draw_lines(fit, "age", by="voice")}
        for name, axes in drawn.items():
            axes.figure.savefig(Path(folder) / name, dpi=120)
        beside = [
            "convert",
            *drawn,
            "-background",
            "white",
            "-gravity",
            "northwest",
            "-splice",
            "40x12",
            "+append",
            "+repage",
        ]
        subprocess.run([*beside, str(HERE / "levels-and-lines.png")], cwd=folder, check=True)


def shot(page: Path, file: str, size: tuple[int, int], base: str = "", part: str = "") -> None:
    """Draw a page as a browser shows it, from a part on, and with a base chosen."""
    from playwright.sync_api import sync_playwright

    with sync_playwright() as started:
        browser = started.chromium.launch(executable_path=shutil.which("chromium"), args=["--no-sandbox"])
        seen = browser.new_page(viewport={"width": size[0], "height": size[1]}, color_scheme="light")
        seen.goto(page.as_uri())
        if base:
            seen.get_by_label(base, exact=True).last.check()
        if part:
            seen.get_by_role("heading", name=part, exact=True).last.evaluate("part => part.scrollIntoView()")
        seen.screenshot(path=HERE / file)
        browser.close()


def reports(folder: Path) -> None:
    """Draw the report of the demo's plan: how it opens, and a part of it told from another base."""
    page = folder / "choirs-demo" / "results" / "report.html"
    shot(page, "report.png", (1280, 900))
    shot(page, "report-base.png", (1280, 1000), base="tenor", part="5 Which coefficients, against which base")


def notebook(folder: Path) -> None:
    """Draw what a notebook shows for a fit."""
    import markbase as mb

    study = mb.demo.choirs().mark("voice", "alto").mark("joined_through", "open evening")
    fit = mb.fit_linear(study, "belonging", ["age", "voice", "joined_through", "travel_km"])
    page = folder / "notebook.html"
    page.write_text(f"<!doctype html><meta charset=utf-8><body style='margin:24px;background:#fff'>{fit._repr_html_()}")
    shot(page, "notebook.png", (1100, 1100))


def main() -> None:
    """Make all of them, or those named."""
    wanted = set(sys.argv[1:])
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        subprocess.run([BIN / "markbase", "demo"], cwd=folder, check=True, capture_output=True)
        screen = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", "1080x2020x24"], stderr=subprocess.DEVNULL)
        time.sleep(1)
        try:
            subprocess.run(["xsetroot", "-solid", "#fbfaf7"], env=os.environ | {"DISPLAY": DISPLAY}, check=False)
            for file, (command, part) in TERMINALS.items():
                if not wanted or file in wanted:
                    terminal(file, command, part, folder)
        finally:
            screen.kill()
        if not wanted or "levels-and-lines.png" in wanted:
            figure()
        if not wanted or "notebook.png" in wanted:
            notebook(folder)
        if not wanted or {"report.png", "report-base.png"} & wanted:
            reports(folder)


if __name__ == "__main__":
    main()
