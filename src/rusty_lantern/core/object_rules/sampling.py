"""How many versions to look at, and what having looked at a few lets one say of all.

Bounds are exact binomial ones (Clopper and Pearson 1934), which a sample drawn without replacement only makes safer.

    >>> size_to_detect(0.01, 0.95)
    299
    >>> words(bound(0, 400, 0.95), 0.95)
    'at most 0.75 % at 95 %'
"""

from __future__ import annotations

import math

MOST_TERMS = 20_000
"""Of a continued fraction; it needs about as many as the square root of the sample."""


def size_to_detect(share: float, confidence: float) -> int:
    """How many to look at so that, if at least `share` of all drifted, one is found with `confidence`.

    Both are between 0 and 1. Raises `ValueError` otherwise.
    """
    if not (0 < share < 1 and 0 < confidence < 1):
        raise ValueError("a share and a confidence lie between 0 and 1")
    return math.ceil(math.log(1 - confidence) / math.log(1 - share))


def bound(failing: int, looked_at: int, confidence: float) -> tuple[float, float]:
    """Between which shares of all the drift is: one-sided where nothing or everything was found, else two-sided."""
    if not 0 <= failing <= looked_at or looked_at <= 0:
        raise ValueError("more was found than was inspected")
    miss = 1 - confidence
    if failing in (0, looked_at):  # the beta distribution has a closed form there
        edge = miss ** (1 / looked_at)
        return (0.0, 1 - edge) if failing == 0 else (edge, 1.0)
    low = _beta_quantile(miss / 2, failing, looked_at - failing + 1)
    return low, _beta_quantile(1 - miss / 2, failing + 1, looked_at - failing)


def _beta_quantile(share: float, a: int, b: int) -> float:
    """Below which x a beta distribution is with probability `share`, by halving the interval 60 times."""
    low, high = 0.0, 1.0
    for _ in range(60):
        middle = (low + high) / 2
        low, high = (middle, high) if _incomplete_beta(middle, a, b) < share else (low, middle)
    return (low + high) / 2


def _incomplete_beta(x: float, a: int, b: int) -> float:
    """The regularized incomplete beta function: DLMF 8.17.22, a continued fraction, worked out from its beginning.

    It converges fast below the mean; above it, 8.17.4 turns the question round.
    """
    if x > (a + 1) / (a + b + 2):
        return 1 - _incomplete_beta(1 - x, b, a)
    front = math.exp(
        math.lgamma(a + b) - math.lgamma(a) - math.lgamma(b) + a * math.log(x) + b * math.log1p(-x) - math.log(a)
    )
    fraction, c, d = 1.0, 1.0, 0.0
    for n in range(1, MOST_TERMS):
        m = n // 2
        if n % 2:
            term = -(a + m) * (a + b + m) * x / ((a + 2 * m) * (a + 2 * m + 1))
        else:
            term = m * (b - m) * x / ((a + 2 * m - 1) * (a + 2 * m))
        d, c = 1 / (1 + term * d), 1 + term / c
        fraction *= c * d
        if abs(c * d - 1) < 1e-15:
            break
    return front / fraction


def words(shares: tuple[float, float], confidence: float) -> str:
    """A bound in words; the upper end is rounded up and the lower one down, so that it stays a bound."""
    low, high = shares
    least = f"{_down(low):.3g}"
    most = f"{_up(high):.3g}"
    at = f"at {confidence:.3%}".replace("%", " %").replace(".000", "")
    if low == 0:
        return f"at most {most} % {at}"
    return f"at least {least} % {at}" if high == 1 else f"{least} to {most} % {at}"


def _up(share: float) -> float:
    return math.ceil(share * 10_000 - 1e-9) / 100


def _down(share: float) -> float:
    return math.floor(share * 10_000 + 1e-9) / 100
