"""Write the worked study as a notebook, ``examples/study.ipynb``, from its page: ``python docs/make_notebook.py``."""

import json
import re
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent


def notebook() -> str:
    """Return the page as a notebook without outputs: text as it is, Python in cells, commands left out."""
    page = (ROOT / "docs" / "study.md").read_text(encoding="utf-8")
    page = re.sub(r"```console\n.*?```\n+", "", page, flags=re.S)
    page = re.sub(r"\]\((?!http)", "](../docs/", page)
    cells = []
    for place, part in enumerate(re.split(r"```python\n(.*?)```\n?", page, flags=re.S)):
        text = part.strip()
        if text and place % 2:
            code = re.sub(r"^print\((.*)\)$", r"\1", text, flags=re.M)  # a notebook shows a result as a page
            cells += [
                {"cell_type": "code", "execution_count": None, "metadata": {}, "outputs": [], "source": piece}
                for piece in _pieces(code)
            ]
        elif text:
            cells.append({"cell_type": "markdown", "metadata": {}, "source": text})
    cells = [cell | {"id": f"cell-{number}"} for number, cell in enumerate(cells)]
    kernel = {"kernelspec": {"display_name": "Python 3", "language": "python", "name": "python3"}}
    return (
        json.dumps(
            {"cells": cells, "metadata": kernel, "nbformat": 4, "nbformat_minor": 5}, ensure_ascii=False, indent=1
        )
        + "\n"
    )


def _pieces(code: str) -> list[str]:
    """Part code behind every line that stands alone as an expression, so that each result is shown."""
    pieces, lines = [], []
    for line in code.splitlines():
        lines.append(line)
        if re.match(r"^[a-z_]+(\.[a-z_]+)*(\(.*\))?(\.coefficients)?$", line) and not line.startswith("mb.write"):
            pieces.append("\n".join(lines))
            lines = []
    return [*pieces, *(["\n".join(lines)] if lines else [])]


if __name__ == "__main__":
    (ROOT / "examples" / "study.ipynb").write_text(notebook(), encoding="utf-8")
