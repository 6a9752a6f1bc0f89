"""In which order strips work that hear each other."""

from collections.abc import Callable, Iterable, Sequence


def with_leaving(
    order: Sequence[int], was: Sequence[int], wires: Iterable[tuple[int, int]]
) -> tuple[int, ...]:
    """An order, with the strips of another one in it that are on their way out: each behind all that goes into it."""
    made = list(order)
    for number in was:
        if number not in order:
            sources = [source for source, to in wires if to == number and source in made]
            made.insert(max((made.index(source) + 1 for source in sources), default=0), number)
    return tuple(made)


def at_once(order: Sequence[int], before: Callable[[int], Iterable[int]]) -> list[list[int]]:
    """Strips in their order, those together that do not hear each other; `before` gives those that one hears."""
    rows: list[list[int]] = []
    depth: dict[int, int] = {}
    for number in order:
        depth[number] = max((depth[source] + 1 for source in before(number)), default=0)
        if depth[number] == len(rows):
            rows.append([])
        rows[depth[number]].append(number)
    return rows


class Ways:
    """What goes where among strips in an order: `into` and `keys` have the ends of all wires to each, `rows` those strips
    together that can be at work at once."""

    def __init__(
        self, order: tuple[int, ...], wires: tuple[tuple[int, int], ...], keys: tuple[tuple[int, int], ...]
    ) -> None:
        self.of = order, wires, keys
        self.into: dict[int, list[tuple[int, int]]] = {number: [] for number in order}
        self.keys: dict[int, list[tuple[int, int]]] = {number: [] for number in order}
        for joined, ways in ((self.into, wires), (self.keys, keys)):
            for ends in ways:
                joined.setdefault(ends[1], []).append(ends)
        self.rows = at_once(order, lambda to: [ends[0] for ends in (*self.into[to], *self.keys[to])])
