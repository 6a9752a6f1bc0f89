"""Blind tests: hidden assignments that nobody can foresee, answers, and the result."""

import csv
import io
import secrets
from typing import Literal

from stonekite.session.types import BlindTest

Kind = Literal["abx", "preference"]
_SOURCE = secrets.SystemRandom()


class Trials:
    """A blind test of a number of trials that is fixed in advance.

    ABX: A is the first one and B the second, and `hidden` says which of them X is. Preference: `hidden` 0 means that A is
    the first one and B the second, 1 the other way round.
    """

    def __init__(self, kind: Kind, first: str, second: str, planned: int) -> None:
        self.kind, self.first, self.second, self.planned = kind, first, second, planned
        self._order = [_SOURCE.randrange(2) for _ in range(planned)]
        self._answers: list[int] = []

    @property
    def place(self) -> int:
        """Number of the trial, from 0."""
        return len(self._answers)

    @property
    def done(self) -> bool:
        return self.place >= self.planned

    def behind(self, letter: Literal["A", "B", "X"]) -> int:
        """Which one is heard under a letter in this trial: 0 the first, 1 the second."""
        hidden = self._order[self.place]
        if letter == "X":
            return hidden
        plain = 0 if letter == "A" else 1
        return plain if self.kind == "abx" else plain ^ hidden

    def answer(self, letter: Literal["A", "B"]) -> None:
        """ABX: X is this one. Preference: this one is better."""
        self._answers.append(self.behind(letter))

    def result(
        self, when: str = "", range_s: tuple[float, float] | None = None, match_lu: float = 0.0
    ) -> BlindTest:
        """What has come out so far."""
        return BlindTest(
            kind=self.kind,
            first=self.first[:200],
            second=self.second[:200],
            when=when,
            planned=self.planned,
            order=tuple(self._order[: self.place]),  # type: ignore[arg-type]
            answers=tuple(self._answers),  # type: ignore[arg-type]
            range_s=range_s,
            match_lu=match_lu,
        )


def as_csv(test: BlindTest) -> str:
    """A result trial by trial: what was hidden, what was answered."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    names = (test.first, test.second)
    if test.kind == "abx":
        writer.writerow(["trial", "X was", "answered", "right"])
        for k, (hidden, named) in enumerate(zip(test.order, test.answers, strict=True)):
            writer.writerow([k + 1, names[hidden], names[named], "yes" if hidden == named else "no"])
    else:
        writer.writerow(["trial", "A was", "preferred"])
        for k, (hidden, named) in enumerate(zip(test.order, test.answers, strict=True)):
            writer.writerow([k + 1, names[hidden], names[named]])
    return out.getvalue()
