"""Least squares by definition, at 50 digits, on columns laid out in full: what the fits are held against."""

import itertools

import mpmath as mp
import numpy as np

import markbase as mb
from untraced import untraced

mp.mp.dps = 50


def spread_by_rows(statistic, *columns):
    """Return √Σ of the squared slopes of a statistic, a function of columns and weights, by the weight of each row (the infinitesimal jackknife)."""
    one, h = np.eye(len(columns[0])), 1e-4
    slopes = [(statistic(*columns, 1 + h * own) - statistic(*columns, 1 - h * own)) / (2 * h) for own in one]
    return float(np.linalg.norm(slopes))


def z_of(x, y, w):
    """Return Fisher's z of two columns by weights."""
    S = np.cov(np.asarray(x, float), np.asarray(y, float), aweights=w, ddof=0)
    return np.arctanh(S[0, 1] / np.sqrt(S[0, 0] * S[1, 1]))


def z_of_ranks(x, y, w):
    """Return the same of mean ranks by weights."""
    return z_of(*((np.sign(np.subtract.outer(own, own)) @ w + w.sum()) / 2 for own in (x, y)), w)


def pieces(frame, name, bases, power=1):
    """Return the columns of one variable: a numeric one its powers, a group the indicators of its levels but the base."""
    if name in bases:
        levels = [v for v in sorted(frame[name].unique()) if v != bases[name]]
        return [(level, [mp.mpf(int(v == level)) for v in frame[name]]) for level in levels]
    values = [mp.mpf(float(v)) for v in frame[name]]
    return [(f"{name}{'' if k == 1 else '²³'[k - 2]}", [v**k for v in values]) for k in range(1, power + 1)]


def term_of(term):
    """Return how the library is asked for a term written as a name, (name, degree), or a list of these."""
    if isinstance(term, list):
        return mb.interaction(*(term_of(part) for part in term))
    return mb.polynomial(*term) if isinstance(term, tuple) else term


def dense(frame, terms, bases):
    """Lay out [1, the products of the columns of each term] and name the columns as the coefficient table does."""
    columns, names = [[mp.mpf(1)] * len(frame)], [("(intercept)", "")]
    for term in terms:
        parts = [part if isinstance(part, tuple) else (part, 1) for part in (term if isinstance(term, list) else [term])]
        name = term if isinstance(term, str) else term_of(term).name
        curved = any(power > 1 for _, power in parts)
        ordered = [p for p in parts if p[0] not in bases] + [p for p in parts if p[0] in bases]
        for chosen in itertools.product(*(pieces(frame, *part[:1], bases, part[1]) for part in ordered)):
            marks = "·".join(m for (m, _), part in zip(chosen, ordered, strict=True) if part[0] not in bases)
            levels = [m for (m, _), part in zip(chosen, ordered, strict=True) if part[0] in bases]
            names.append((name, " × ".join([*([marks] if curved else []), *levels])))
            columns.append([mp.fprod(values) for values in zip(*(c for _, c in chosen), strict=True)])
    return columns, names


def products(rows, columns):
    """Return the matrix of the sums of products of two lists of columns."""
    return mp.matrix([[mp.fdot(zip(a, b, strict=True)) for b in columns] for a in rows])


def times(columns, weights):
    """Return columns, each row times its weight."""
    return [[w * v for w, v in zip(weights, column, strict=True)] for column in columns]


@untraced
def least_squares(frame, outcome, terms, bases):
    """Return every quantity of a linear fit as mpmath numbers."""
    columns, names = dense(frame, terms, bases)
    y = [mp.mpf(float(v)) for v in frame[outcome]]
    n, p = len(y), len(columns)
    inverse = mp.inverse(products(columns, columns))
    b = inverse * products(columns, [y])
    rss = mp.fsum(r**2 for r in residuals(y, columns, b))
    mean = mp.fsum(y) / n
    tss = mp.fsum((v - mean) ** 2 for v in y)
    s2 = rss / (n - p)
    F = ((tss - rss) / (p - 1)) / s2
    return {"estimate": dict(zip(names, b, strict=True)),
        "se": {name: mp.sqrt(s2 * inverse[k, k]) for k, name in enumerate(names)}, "F": F,
        "p": upper_f(F, p - 1, n - p), "joint": {t: F / s2 for t, F in joint(terms, names, b, inverse).items()},
        "r2": 1 - rss / tss, "residual_sd": mp.sqrt(s2), "df_rest": n - p, "names": names, "b": b, "V": inverse * s2}  # fmt: skip


def hotelling(wald, r, df):
    """Return F and its second degrees of freedom, of Hotelling's T² of `r` figures whose covariance has `df`."""
    return wald / r * (df - r + 1) / df, df - r + 1


def joint(terms, names, b, V, df=None):
    """Return the joint F of the coefficients of each term under a covariance; Hotelling's where `df` of it are given."""
    found = {}
    for term in [t if isinstance(t, str) else term_of(t).name for t in terms]:
        at = [k for k, (name, _) in enumerate(names) if name == term]
        part, z = mp.matrix([[V[i, j] for j in at] for i in at]), mp.matrix([b[i] for i in at])
        wald = (z.T * mp.inverse(part) * z)[0]
        found[term] = wald / len(at) if df is None else hotelling(wald, len(at), df)[0]
    return found


def residuals(y, columns, b):
    """Return what the fitted values leave of an outcome."""
    return [value - mp.fdot(zip(b, row, strict=True)) for value, *row in zip(y, *columns, strict=True)]


def upper_f(F, df, rest):
    """Return the upper tail of F by the incomplete beta function."""
    return mp.betainc(mp.mpf(rest) / 2, mp.mpf(df) / 2, 0, rest / (rest + df * F), regularized=True)


def two_sided_t(t, df):
    """Return the two-sided tail of t by the incomplete beta function."""
    return mp.betainc(mp.mpf(df) / 2, mp.mpf(1) / 2, 0, df / (df + t**2), regularized=True)


def digits(found, wanted):
    """Return how many significant digits agree."""
    found, wanted = mp.mpf(float(found)), mp.mpf(wanted)
    if found == wanted:
        return 17.0
    return float(-mp.log10(abs(found - wanted) / abs(wanted))) if wanted else float(-mp.log10(abs(found)))


def made_up(rows=120, seed=3):
    """Return a table with numeric columns and groups of uneven sizes, and an outcome with known effects."""
    rng = np.random.default_rng(seed)
    voice = rng.choice(["alto", "bass", "soprano", "tenor"], rows, p=[0.4, 0.3, 0.22, 0.08])
    data = {
        "voice": voice,
        "day": rng.choice(["Mon", "Tue", "Wed"], rows),
        "age": np.round(rng.normal(45, 14, rows)),
        "km": np.round(rng.exponential(6, rows), 1),
    }
    data["score"] = 40 + 5 * (voice == "tenor") - 0.1 * data["age"] + 0.3 * data["km"] + rng.normal(0, 6, rows)
    return data


def leverages(columns, inverse):
    """Return the diagonal of the projection on some columns."""
    moved = [[mp.fdot(zip(row, values, strict=True)) for row in inverse.tolist()] for values in zip(*columns, strict=True)]
    return [mp.fdot(zip(own, values, strict=True)) for own, *values in zip(moved, *columns, strict=True)]


@untraced
def sandwich(frame, outcome, terms, bases, kind, cluster=None):
    """Return the standard errors and the joint F of each term under another covariance, at 50 digits."""
    columns, names = dense(frame, terms, bases)
    y = [mp.mpf(float(v)) for v in frame[outcome]]
    n, p = len(y), len(columns)
    cross = products(columns, columns)
    inverse = mp.inverse(cross)
    b = inverse * products(columns, [y])
    e = residuals(y, columns, b)
    if cluster is None:
        h = leverages(columns, inverse)
        weight = {
            "HC0": lambda i: e[i] ** 2,
            "HC1": lambda i: e[i] ** 2 * n / mp.mpf(n - p),
            "HC2": lambda i: e[i] ** 2 / (1 - h[i]),
            "HC3": lambda i: e[i] ** 2 / (1 - h[i]) ** 2,
        }[kind]
        middle = products(times(columns, [weight(i) for i in range(n)]), columns)
        df = n - p
    elif kind == "HAC":  # sums of periods, weighed by slow cosines
        periods = sorted(set(frame[cluster]))
        T, df, middle, expected = len(periods), int(0.4 * len(periods) ** (2 / 3)), mp.zeros(p), mp.zeros(p)
        for j in range(1, df + 1):
            swing = {t: mp.sqrt(2) * mp.cos(mp.pi * j * (k + mp.mpf(1) / 2) / T) for k, t in enumerate(periods)}
            c = [swing[t] for t in frame[cluster]]
            score, once = products(columns, [[e[i] * c[i] for i in range(n)]]), products(times(columns, c), columns)
            middle += score * score.T / df
            expected += (products(times(columns, c), times(columns, c)) - once * inverse * once) / df
        values, vectors = mp.eigsy(cross)
        half = vectors * mp.diag([mp.sqrt(v) for v in values]) * vectors.T
        values, vectors = mp.eigsy(half**-1 * expected * half**-1)
        less = half * vectors * mp.diag([1 / mp.sqrt(v) for v in values]) * vectors.T * half**-1
        middle = less * middle * less.T
    else:
        kinds = [frame[cluster]] if isinstance(cluster, str) else [frame[name] for name in cluster]
        middle, df = mp.zeros(p), min(len(set(of)) for of in kinds) - 1
        signed = [(1, of) for of in kinds] + ([(-1, kinds[0] + "|" + kinds[1])] if len(kinds) > 1 else [])
        for sign, of in signed:
            labels, summed = sorted(set(of)), mp.zeros(p)
            for label in labels:
                own = [v == label for v in of]
                score = products(columns, [[e[i] * own[i] for i in range(n)]])
                if kind == "CR3":  # what leaving the cluster out moves, by fitting the others
                    inner = [[v for v, out in zip(column, own, strict=True) if not out] for column in [*columns, y]]
                    without = mp.inverse(products(inner[:-1], inner[:-1])) * products(inner[:-1], inner[-1:])
                    score = cross * (b - without)
                summed += score * score.T
            G = len(labels)
            middle += sign * summed * (mp.mpf(G - 1) / G if kind == "CR3" else mp.mpf(G) / (G - 1) * mp.mpf(n - 1) / (n - p))
    V = inverse * middle * inverse
    every = mp.matrix([[V[i, j] for j in range(1, p)] for i in range(1, p)])
    z = mp.matrix([b[i] for i in range(1, p)])
    overall, rest = (z.T * mp.inverse(every) * z)[0] / (p - 1) if p - 1 <= df else None, df
    if cluster is not None and overall is not None:
        overall, rest = hotelling(overall * (p - 1), p - 1, df)
    return {"se": {name: mp.sqrt(V[k, k]) for k, name in enumerate(names)},
        "joint": joint(terms, names, b, V, None if cluster is None else df), "overall": overall, "df": df,
        "df_rest": rest}  # fmt: skip


@untraced
def _roughly(X, y, f, free, firth):
    """Take the first steps of `logistic` at 16 digits, where those at 50 begin; none where so few digits tell no columns apart."""
    b = np.zeros(X.shape[1])
    if np.linalg.cond(X) > 1e8:
        return b.tolist()
    for _ in range(100):
        q = 1 / (1 + np.exp(-X @ b))
        information = X.T @ (X * (f * q * (1 - q))[:, None])
        leverage = np.einsum("ij,ji->i", X, np.linalg.solve(information, X.T)) * f * q * (1 - q) if firth else 0
        score = X.T @ (f * (y - q) + leverage * (0.5 - q))
        step = np.linalg.solve(information[np.ix_(free, free)], score[free])
        b[free] += step
        if np.abs(step).max() < 1e-14:
            break
    return b.tolist()


def logistic(frame, outcome, event, terms, bases, weights=None, firth=False, held=()):
    """Maximise a logistic likelihood at 50 digits, or Firth's, with some coefficients held at 0."""
    columns, names = dense(frame, terms, bases)
    y = [mp.mpf(int(v == event)) for v in frame[outcome]]
    n, p = len(y), len(columns)
    f = [mp.mpf(1)] * n if weights is None else [mp.mpf(float(v)) for v in frame[weights]]
    free = [k for k in range(p) if names[k] not in held]
    b = mp.matrix(_roughly(*(np.array(a, dtype=float).T for a in (columns, y, f)), free, firth))

    def at(b):
        q = [1 / (1 + mp.exp(e)) for e in residuals([0] * n, columns, b)]
        W = [f[i] * q[i] * (1 - q[i]) for i in range(n)]
        information = products(times(columns, W), columns)
        value = mp.fsum(f[i] * (y[i] * mp.log(q[i]) + (1 - y[i]) * mp.log(1 - q[i])) for i in range(n))
        return q, W, information, value + (mp.log(mp.det(information)) / 2 if firth else 0)

    for _ in range(200):
        q, W, information, value = at(b)
        inverse = mp.inverse(information)
        pull = [f[i] * (y[i] - q[i]) for i in range(n)]
        if firth:
            h = leverages(columns, inverse)
            pull = [pull[i] + W[i] * h[i] * (mp.mpf(1) / 2 - q[i]) for i in range(n)]
        score = products([columns[k] for k in free], [pull])
        step = mp.lu_solve(mp.matrix([[information[j, k] for k in free] for j in free]), score)
        for place, k in enumerate(free):
            b[k] += step[place]
        if mp.norm(step) < mp.mpf(10) ** -25:
            break
    q, W, information, value = at(b)
    inverse = mp.inverse(information)
    return {"names": names, "estimate": dict(zip(names, b, strict=True)),
        "se": {name: mp.sqrt(inverse[k, k]) for k, name in enumerate(names)}, "value": value, "probability": q,
        "inverse": inverse, "columns": columns, "y": y}  # fmt: skip
