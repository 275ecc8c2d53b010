"""What changes when another base is marked, and what does not?"""

import warnings

import markbase as mb

study = mb.demo.choirs()
terms = ["voice", "age", "rehearsals"]

print(f"{'base':10}{'R²':>10}{'residual standard deviation':>14}{'F of voice':>12}   differences from that base")
for base in ("soprano", "alto", "tenor", "bass"):
    fit = mb.fit_linear(study.mark("voice", base), "belonging", terms)
    table = fit.coefficients
    others = table[(table["term"] == "voice") & ~table["base"] & (table["n"] > 30)]
    told = ", ".join(f"{row.level} {row.estimate:+.2f}" for row in others.itertuples())
    joint = fit.terms.set_index("term").loc["voice", "statistic"]
    print(f"{base:10}{fit.strength.r2:10.6f}{fit.strength.residual_sd:14.6f}{joint:12.6f}   {told}")

print("\nA base of six rows is possible, and is remarked on:")
with warnings.catch_warnings(record=True) as caught:
    warnings.simplefilter("always")
    study.mark("voice", "tennor")
for warning in caught:
    print(" ", warning.message)
