"""Do singers who came through somebody they knew feel more at home than those who came to an open evening?"""

import markbase as mb

study = mb.demo.choirs()
study = study.mark("joined_through", "open evening", reason="nobody they knew brought them")
study = study.mark("voice", by="largest", reason="no voice part is of special interest")

fit = mb.fit_linear(study, "belonging", ["joined_through", "voice", "age", "travel_km"])

table = fit.coefficients
joined = table[table["term"] == "joined_through"]
print(joined[["level", "base", "n", "estimate", "low", "high", "p"]].round(3).to_string(index=False))
print()
for statement in fit.reading().statements:
    if statement.term == "joined_through":
        print(statement.text, *statement.cautions, sep="\n  ▲ ")
print()
print(study.trail)
