"""A plan that carries a whole analysis of the demo, and the files that it is about."""

from pathlib import Path

import markbase as mb

DATA, BOOK = mb.demo.path("choirs.csv"), mb.demo.path("choirs.codebook.toml")
_WRITTEN = Path(__file__).with_name("planned.toml").read_text(encoding="utf-8")
PLAN = _WRITTEN.replace('"choirs.csv"', f'"{DATA}"').replace('"choirs.codebook.toml"', f'"{BOOK}"')
