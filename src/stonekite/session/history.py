"""Undo and redo: a list of what a session's sound has been."""

import time
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import NamedTuple

from stonekite.session.types import Session, Sound, Version

LIMIT = 1000
PAUSE_S = 1.0
"""Keys and turns of the wheel that come later than this after the last one are another step. A drag lasts as long as it
is held: its gesture is an object of its own."""


class Kept(NamedTuple):
    """What undo goes through: the sound, and the versions of it."""

    sound: Sound
    versions: tuple[Version, ...]

    @classmethod
    def of(cls, session: Session) -> "Kept":
        return cls(session.sound, session.versions)

    def is_in(self, session: Session) -> bool:
        """Whether a session has just these."""
        return self.sound is session.sound and self.versions is session.versions


@dataclass
class History:
    """What has been, and where in it it is.

    Edits that carry the same `gesture` (one drag of a slider, say) become one step.
    """

    states: list[Kept]
    words: list[str] = field(default_factory=lambda: [""])
    place: int = 0
    clock: Callable[[], float] = time.monotonic
    _gesture: object = None
    _last: float = 0.0

    @classmethod
    def of(cls, session: Session) -> "History":
        return cls([Kept.of(session)])

    @property
    def now(self) -> Kept:
        return self.states[self.place]

    def push(self, session: Session, words: str, gesture: object = None) -> None:
        """Make what a session has the current state; `words` say what was done."""
        if self.now.is_in(session):
            return
        state = Kept.of(session)
        now, before = self.clock(), self._last
        self._last = now
        goes_on = gesture is not None and gesture == self._gesture
        if goes_on and (_is_held(gesture) or now - before < PAUSE_S):
            self.states[self.place] = state
            return
        self._gesture = gesture
        del self.states[self.place + 1 :], self.words[self.place + 1 :]
        self.states.append(state)
        self.words.append(words)
        if len(self.states) > LIMIT:
            del self.states[0], self.words[0]
        self.place = len(self.states) - 1

    def amend(self, session: Session) -> None:
        """Replace the current state without a step, for what follows from the settings by itself."""
        self.states[self.place] = Kept.of(session)

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
        if self.place + 1 >= len(self.states):
            return None
        self.end_gesture()
        self.place += 1
        return self.words[self.place]

    @property
    def next_undo(self) -> str | None:
        return self.words[self.place] if self.place else None

    @property
    def next_redo(self) -> str | None:
        return self.words[self.place + 1] if self.place + 1 < len(self.states) else None


def _is_held(gesture: object) -> bool:
    """Whether a gesture is of a button held down, however long: it carries a token of its own."""
    return type(gesture) is object or (
        isinstance(gesture, tuple) and any(type(part) is object for part in gesture)
    )
