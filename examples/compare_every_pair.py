"""Which voice parts differ from which, once all comparisons are taken together?"""

import markbase as mb

study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
fit = mb.fit_linear(study, "belonging", ["voice", "age", "rehearsals"])

print("The truth in the made-up survey: sopranos 2.5 points below altos, tenors 3 above, basses the same.\n")
for row in fit.between("voice", "holm").itertuples():
    p, together = ("< .001" if v < 0.001 else f"{v:.3f}"[1:] for v in (row.p, row.p_corrected))
    clear = "clear" if row.p_corrected < 0.05 else "not clear"
    print(
        f"{row.level:8} against {row.against:8} {row.difference:+6.2f} ({row.low:+.2f} to {row.high:+.2f})  {clear:9}  p {p}, corrected {together}"
    )
print("Bass against alto is a chance find: alone its p lies just below .05, together with the others it does not.")

planned = fit.planned(
    "voice", {"low parts against high ones": {"tenor": 0.5, "bass": 0.5, "soprano": -0.5, "alto": -0.5}}
)
row = planned.iloc[0]
print(f"\nPlanned beforehand: {row['level']} {row['difference']:+.2f} ({row['low']:+.2f} to {row['high']:+.2f})")
