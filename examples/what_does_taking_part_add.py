"""What does taking part add to background, and does the difference between voice parts survive it?"""

import markbase as mb

study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
blocks = {"background": ["age", "voice"], "taking part": ["rehearsals", "concerts"], "long in": ["years_in_choir"]}
hierarchy = mb.fit_blocks(study, "belonging", blocks)

print(f"{'block':14}{'rows':>7}{'R²':>8}{'change':>9}   interval of the change")
for row in hierarchy.steps.itertuples():
    print(
        f"{row.block:14}{row.used:7,}{row.r2:8.3f}{row.r2_change:9.3f}   {row.change_low:.3f} to {row.change_high:.3f}"
    )

print(f"\n{'':18}" + "".join(f"{name:>14}" for name in hierarchy.names))
for row in hierarchy.moves.to_dict("records"):
    name = f"{row['term']}: {row['level']}" if row["level"] else row["term"]
    cells = [
        "" if value != value else "base" if row["base"] else f"{value:.2f}"
        for value in (row[n] for n in hierarchy.names)
    ]
    print(f"{name:18}" + "".join(f"{cell:>14}" for cell in cells))

print()
for statement in hierarchy.reading().statements:
    print("-", statement.text)
