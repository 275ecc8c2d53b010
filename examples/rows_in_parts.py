"""Do groups differ, where the rows do not fit into memory?"""

import tempfile
from pathlib import Path

import pandas as pd

import markbase as mb

with tempfile.TemporaryDirectory() as home:
    table = pd.read_csv(mb.demo.path("choirs.csv"))
    for season, rows in table.groupby(table.index // 700):  # as a register comes: a file each
        rows.to_parquet(Path(home) / f"season-{season}.parquet")

    study = mb.open_study(Path(home) / "*.parquet", codebook=mb.demo.path("choirs.codebook.toml"), in_parts=True)
    study = study.merge_levels("voice", {"tenor": ["tennor"]}, reason="a slip of the pen").mark("voice", "alto")
    fit = mb.fit_linear(study, "belonging", ["age", "voice", "rehearsals"], cluster="choir")
    print(fit.groups("voice")[["level", "base", "n", "adjusted", "difference", "low", "high"]].round(2))

    whole = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    same = mb.fit_linear(whole, "belonging", ["age", "voice", "rehearsals"], cluster="choir")
    print(
        "largest difference from the same rows in memory:",
        (fit.coefficients.estimate - same.coefficients.estimate).abs().max(),
    )
    print(study.sample(200, seed=1).trail)
