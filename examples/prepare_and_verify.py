"""Did each recoding do what was meant, and can somebody else do it again?"""

import warnings

import markbase as mb

warnings.simplefilter("ignore", mb.MarkbaseWarning)  # the remarks are in the trail as well

study = mb.demo.choirs()
study = study.merge_levels("voice", {"tenor": ["tennor"]}, reason="a slip of the pen")
study = study.cut("age", [30, 45, 60], name="age_band", reason="the bands of the last report")
study = study.split_at("satisfaction", above=3, name="satisfied")
study = study.derive("log_practice", log="practice_hours", reason="a few practise very much")
study = study.keep({"age": {"at_least": 18}}, reason="the question is about adults")

print(study.trail)
print()
print(study.check("age_band"))

steps = study.trail.record()
again = mb.demo.choirs().prepare(steps)
print(
    f"\nDone again from {len(steps)} written steps: {'the same' if again.frame().equals(study.frame()) else 'NOT the same'}"
)
