"""Exact probabilities of guessing."""

from math import comb


def chance(right: int, trials: int, *, two_sided: bool = False) -> float:
    """Probability of at least so many right answers in so many trials by guessing, each right with probability 1/2.

    Two-sided: of a count at least as far from half of the trials. The exact binomial test (Clopper and Pearson, "The
    use of confidence or fiducial limits illustrated in the case of the binomial", Biometrika 26, 1934). 1 for no trials.
    """
    if trials == 0:
        return 1.0
    if two_sided:
        right = max(right, trials - right)
        tail = sum(comb(trials, k) for k in range(right, trials + 1)) / 2**trials
        return min(1.0, 2 * tail)
    return sum(comb(trials, k) for k in range(right, trials + 1)) / 2**trials


def fewest_right(trials: int, most_chance: float) -> int | None:
    """The fewest right answers that guessing gives with at most this probability; None if not even all do."""
    return next((right for right in range(trials + 1) if chance(right, trials) <= most_chance), None)
