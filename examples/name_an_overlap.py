"""Why will this model not be fitted, and what can be done about it?"""

import markbase as mb

study = mb.demo.choirs()

for terms in (["rehearsals", "concerts", "events"], ["rehearsals", "concerts"], ["events", "concerts"]):
    print(f"belonging on {', '.join(terms)}")
    try:
        fit = mb.fit_linear(study, "belonging", terms)
    except mb.CollinearityError as problem:
        print(f"  stopped: {problem}\n")
    else:
        for row in fit.coefficients.itertuples():
            print(f"  {row.term:12} {row.estimate:8.3f}   {row.low:7.3f} to {row.high:7.3f}")
        print(f"  R² {fit.strength.r2:.12f}\n")
