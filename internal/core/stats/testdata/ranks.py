# Sample pairs and what scipy.stats says of them, as JSON: two-sided Mann-Whitney, by the method that
# scipy picks, exactly where there are no ties, and by the approximation; and the median of all differences.
import json, random, statistics
from scipy.stats import mannwhitneyu

r = random.Random(11)
out = []
for i in range(60):
    n, m = r.randint(3, 22), r.randint(3, 22)
    shift = r.choice([0, 0.1, 0.5, 1.5])
    digits = 1 if i % 3 == 0 else 6  # one digit: with ties
    a = [round(r.lognormvariate(1, 0.4), digits) for _ in range(n)]
    b = [round(r.lognormvariate(1, 0.4) + shift, digits) for _ in range(m)]
    ties = len(set(a + b)) < n + m
    exact = not ties and min(n, m) <= 20
    u = mannwhitneyu(a, b, alternative="two-sided", method="exact" if exact else "asymptotic", use_continuity=True)
    out.append(dict(a=a, b=b, exact=exact, u=float(u.statistic), p=float(u.pvalue), shift=statistics.median(y - x for x in a for y in b)))
print(json.dumps(out))
