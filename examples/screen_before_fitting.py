"""Two predictors say nearly the same: what happens to the estimate the question is about?"""

import warnings

import markbase as mb

warnings.simplefilter("ignore", mb.MarkbaseWarning)  # the plan's remarks are in the trail

study = mb.demo.plan().open()
terms = ["age", "years_in_choir", "travel_km", "travel_min", "rehearsals", "voice"]
screen = mb.screen(study, terms, outcome="belonging")

print(screen.terms.round(2).to_string(index=False))
print()
for advice in screen.advice:
    print(f"{advice.kind}: {advice.text}\n")

fit = mb.fit_linear(study, "belonging", terms)
print(mb.specifications(fit, focus="travel_km"))
print()
print(screen.prune(limit=5, keep=["travel_km"]))
