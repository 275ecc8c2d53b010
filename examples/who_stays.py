"""Does staying go with the voice part: in odds, and in probability, and does the model beat a guess?"""

import markbase as mb

study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
fit = mb.fit_logistic(study, "stays", ["voice", "age", "rehearsals", "travel_km"], event="yes")

print(f"{'voice':10}{'rows':>6}{'stay':>8}{'adjusted':>10}{'points':>8}   odds ratio and interval")
for row in fit.groups("voice").itertuples():
    odds = (
        "base"
        if row.base
        else f"{row.odds_ratio:.2f} ({row.odds_low:.2f} to {row.odds_high:.2f}), p = {row.odds_p:.3f}"
    )
    print(f"{row.level:10}{row.n:6}{row.plain:8.1%}{row.adjusted:10.1%}{100 * row.difference:+8.1f}   {odds}")

sorting = fit.classification(folds=10)
print(
    f"\nClassified correctly: {sorting.correct:.1%}, in rows not seen {sorting.held_out.correct:.1%}; always guessing {sorting.guess:.1%}."
)
for statement in fit.reading().statements:
    if statement.term == "rehearsals":
        print(statement.text)
