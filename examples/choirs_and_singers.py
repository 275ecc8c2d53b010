"""Two tables: singers, and the choirs they sing in.

What is known of a choir is joined to its singers; then the same question is put to the rows of singers, with errors that know of choirs,
and to one row for each choir.
"""

import markbase as mb

singers = mb.demo.plan().open().join(mb.demo.choir_homes(), "choir", columns=["meets_in", "fee"])
singers = singers.mark("meets_in", "parish hall", reason="where most rehearse")
print(singers.check("fee"))

print(
    "\nWhere a choir meets, and how its singers feel: nothing in these made-up data makes the one matter to the other."
)
terms = ["age", "meets_in"]
rows = mb.fit_linear(singers, "belonging", terms)
clustered = mb.fit_linear(singers, "belonging", terms, cluster="choir", errors="CR3")
for name, fit in (("errors of rows", rows), ("errors clustered by choir", clustered)):
    test = fit.terms.set_index("term").loc["meets_in"]
    print(f"  {name:<26} F = {test.statistic:5.2f} on {test.df:.0f} and {test.df_rest:4.0f}, p = {test.p:.5f}")

choirs = singers.aggregate(
    "choir", {"singers": "rows", "belonging": {"mean": "belonging"}, "age": {"mean": "age"}}, reason="a row a choir"
)
means = mb.fit_linear(choirs, "belonging", terms, errors="HC3")
test = means.terms.set_index("term").loc["meets_in"]
print(f"  {'a row a choir':<26} F = {test.statistic:5.2f} on {test.df:.0f} and {test.df_rest:4.0f}, p = {test.p:.5f}")

print("\nThe age of singers within choirs, and the mean age of choirs, are two questions:")
print(clustered.coefficients.set_index("term").loc["age", ["estimate", "low", "high"]].round(2).to_string())
print(means.coefficients.set_index("term").loc["age", ["estimate", "low", "high"]].round(2).to_string())
