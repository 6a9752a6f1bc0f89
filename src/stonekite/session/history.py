"""Undo and redo: a list of trees."""

import time
from collections.abc import Callable
from dataclasses import dataclass, field

from stonekite.session.types import Session

LIMIT = 1000
PAUSE_S = 1.0
"""Keys and turns of the wheel that come later than this after the last one are another step. A drag lasts as long as it
is held: its gesture is an object of its own."""


@dataclass
class History:
    """The trees a session has been, and where in them it is.

    Edits that carry the same `gesture` (one drag of a slider, say) become one step.
    """

    trees: list[Session]
    words: list[str] = field(default_factory=lambda: [""])
    place: int = 0
    clock: Callable[[], float] = time.monotonic
    _gesture: object = None
    _last: float = 0.0

    @classmethod
    def of(cls, session: Session) -> "History":
        return cls([session])

    @property
    def now(self) -> Session:
        return self.trees[self.place]

    def push(self, session: Session, words: str, gesture: object = None) -> None:
        """Make `session` the current tree; `words` say what was done."""
        if session is self.now:
            return
        now, before = self.clock(), self._last
        self._last = now
        goes_on = gesture is not None and gesture == self._gesture
        if goes_on and (_is_held(gesture) or now - before < PAUSE_S):
            self.trees[self.place] = session
            return
        self._gesture = gesture
        del self.trees[self.place + 1 :], self.words[self.place + 1 :]
        self.trees.append(session)
        self.words.append(words)
        if len(self.trees) > LIMIT:
            del self.trees[0], self.words[0]
        self.place = len(self.trees) - 1

    def amend(self, session: Session) -> None:
        """Replace the current tree without a step, for what is saved but not worth undoing."""
        self.trees[self.place] = session

    def amend_all(self, change: Callable[[Session], Session]) -> None:
        """Change what undo does not touch: in every tree, so that no step loses it."""
        self.trees[:] = [change(tree) for tree in self.trees]

    def end_gesture(self) -> None:
        """The next edit is a step of its own."""
        self._gesture = None

    def undo(self) -> str | None:
        """Step back; the words of what was undone, or None at the beginning."""
        if self.place == 0:
            return None
        self.end_gesture()
        self.place -= 1
        return self.words[self.place + 1]

    def redo(self) -> str | None:
        """Step forward; the words of what was redone, or None at the end."""
        if self.place + 1 >= len(self.trees):
            return None
        self.end_gesture()
        self.place += 1
        return self.words[self.place]

    @property
    def next_undo(self) -> str | None:
        return self.words[self.place] if self.place else None

    @property
    def next_redo(self) -> str | None:
        return self.words[self.place + 1] if self.place + 1 < len(self.trees) else None


def _is_held(gesture: object) -> bool:
    """Whether a gesture is of a button held down, however long: it carries a token of its own."""
    return type(gesture) is object or (
        isinstance(gesture, tuple) and any(type(part) is object for part in gesture)
    )
