"""Which place of the recording belongs to what goes through a line, where playing goes round a loop."""

from dataclasses import dataclass, field

from stonekite.engine.graph.keys import Keys

Runs = tuple[tuple[int, int], ...]

REMEMBERED = 4096
"""So many jumps are known at the most: of loops of a fiftieth of a second those of the longest memory."""


@dataclass(frozen=True)
class Course:
    """The jumps of the place against the clock: pairs of the clock at which one happened, and by how much the place is
    ahead of the clock from there on. `later` is how far behind the source the clock is that is asked with. `keys` is what
    other strips give there.
    """

    jumps: list[tuple[int, int]] = field(default_factory=list)
    later: int = 0
    keys: Keys | None = None

    def behind(self, frames: int, keys: Keys | None = None) -> "Course":
        """The same course for who has a clock that is so many frames behind, and hears keys."""
        return Course(self.jumps, self.later + frames, keys)

    def begin(self) -> None:
        """A new start: place and clock are the same."""
        self.jumps.clear()

    def jump(self, clock: int, place: int) -> None:
        """From a clock on what comes in belongs to another place."""
        self.jumps.append((clock, place - clock))
        if len(self.jumps) > REMEMBERED:
            del self.jumps[: REMEMBERED // 2]

    def shift(self, clock: int, frames: int) -> None:
        """From a clock on what comes in belongs to a place so many frames further on than it would have."""
        ahead = next((ahead for at, ahead in reversed(self.jumps) if at <= clock), 0)
        self.jumps.append((clock, ahead + frames))

    def runs(self, clock: int, frames: int, late: int) -> Runs:
        """The places of a block at a clock, as heard by who hears them so many frames late: pairs of the first frame of
        a run within the block and its place.
        """
        start = clock + self.later - late
        if not self.jumps:
            return ((0, start),)
        found: list[tuple[int, int]] = []
        for at, ahead in reversed(self.jumps):
            if at < start + frames:
                first = max(0, at - start)
                found.append((first, start + first + ahead))
                if first == 0:
                    break
        else:
            found.append((0, start))
        return tuple(reversed(found))
