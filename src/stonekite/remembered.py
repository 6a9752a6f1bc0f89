"""What was made of values that never change, remembered for as long as these live."""

import weakref
from collections.abc import Callable, Hashable
from typing import Any, TypeVar

Made = TypeVar("Made")


class Remembered:
    """What was made of values, by their identity and a key: an edit makes new values only where something changed, so
    all others need not even be compared. Values are not held, and have to be of a type that can be referred to weakly.
    """

    def __init__(self) -> None:
        self._made: dict[int, tuple[weakref.ref[Any], dict[Hashable, Any]]] = {}

    def of(self, value: Any, key: Hashable, make: Callable[[], Made]) -> Made:
        """What `make` gives for a value and a key; it is asked once. Whatever it raises is raised, and not remembered."""
        number = id(value)
        known = self._made.get(number)
        if known is None or known[0]() is not value:

            def forget(gone: weakref.ref[Any]) -> None:
                there = self._made.get(number)
                if there is not None and there[0] is gone:
                    del self._made[number]

            known = self._made[number] = weakref.ref(value, forget), {}
        if key not in known[1]:
            known[1][key] = make()
        return known[1][key]

    def turned(self, value: Made, key: Hashable, make: Callable[[], Made]) -> Made:
        """As `of`, where what is made of a value may be the value itself, which is not held then either."""
        made = self.of(value, key, lambda: None if (new := make()) is value else new)
        return value if made is None else made

    def __len__(self) -> int:
        return len(self._made)
