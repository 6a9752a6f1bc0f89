"""Work whose progress a worker tells."""

from collections.abc import Generator
from contextlib import closing
from typing import TypeVar

from stonekite.processes.jobs import Answer, Progress

Found = TypeVar("Found")


def telling(
    number: int, steps: Generator[float, None, Found], share: float = 1.0, base: float = 0.0
) -> Generator[Answer, None, Found]:
    """Tell how far work is, 0 to 1, or a share of what is more; gives back what it finds."""
    with closing(steps):
        while True:
            try:
                yield Progress(number, base + share * next(steps))
            except StopIteration as end:
                return end.value
