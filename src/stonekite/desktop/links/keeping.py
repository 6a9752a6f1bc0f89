"""While hands rest, what the stems of a mix sound like is computed behind the window and kept, and need not be computed
while it plays."""

import contextlib
from collections import deque
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal

from stonekite.desktop.model.document import Document
from stonekite.files import kept
from stonekite.player.protocol import KeptAs
from stonekite.processes.jobs import Answer, Failed, Keep, KeptAt
from stonekite.processes.pool import ERRAND, Pool
from stonekite.session import tree
from stonekite.session.mix import places, wires
from stonekite.session.types import Sound, Stem

REST_S = 2.0
"""So long after the last edit it begins."""
REMEMBERED = 8
"""So many results of each stem are known at the most: an edit that is taken back has its own at once."""
CLIENT = "keeping"


class Keeper(QObject):
    """Knows what is kept of a document's stems. `changed` tells that it is more, or less."""

    changed = Signal()

    def __init__(self, document: Document, workers: Pool, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.on = True
        self._document, self._workers = document, workers
        self._known: dict[int, deque[tuple[Any, KeptAs]]] = {}
        self._left: dict[int, Any] = {}
        """Of a stem by its id what is not kept: it costs too little, or there is no room."""
        self._asked: tuple[int, Any] | None = None
        self._rest = QTimer(self)
        self._rest.setSingleShot(True)
        self._rest.setInterval(int(REST_S * 1000))
        self._rest.timeout.connect(self._next)
        document.changed.connect(self._edited)
        document.opened.connect(self._opened)

    def kept_of(self, sound: Sound) -> tuple[KeptAs, ...]:
        """What is kept of a sound."""
        if not self.on or not self._known:
            return ()
        found = (self._find(number, key) for number, key in _keys(sound))
        return tuple(one for one in found if one is not None)

    def switch(self, on: bool) -> None:
        """Keep results, or compute all."""
        self.on = on
        if on:
            self._edited()
        else:
            self._stop()
        self.changed.emit()

    def forget_all(self) -> None:
        """Remove all that is kept, of other sessions, too."""
        self._stop()
        self._known.clear()
        self._left.clear()
        kept.forget_all(kept.folder())
        self.changed.emit()
        self._rest.start()

    def lost(self, path: str) -> None:
        """A file cannot be read: it is made anew."""
        with contextlib.suppress(OSError):
            Path(path).unlink()
        for number, known in self._known.items():
            self._known[number] = deque((one for one in known if one[1].path != path), REMEMBERED)
        self.changed.emit()
        self._rest.start()

    def _find(self, number: int, key: Any) -> KeptAs | None:
        return next((one for other, one in self._known.get(number, ()) if other == key), None)

    def _opened(self) -> None:
        self._stop()
        self._known.clear()
        self._left.clear()
        self._rest.start()

    def _edited(self) -> None:
        if self._asked is not None and self._asked not in _keys(self._document.session.sound):
            self._stop()
        self._rest.start()

    def _stop(self) -> None:
        self._rest.stop()
        self._asked = None
        self._workers.drop(CLIENT)

    def _next(self) -> None:
        """Have the next stem kept that is not."""
        if self._asked is not None or not self.on or not self._document.is_open:
            return
        sound = self._document.session.sound
        if places.is_one(sound):
            return
        for stem, (number, key) in zip(sound.stems, _keys(sound), strict=True):
            if self._left.get(number) != key and self._find(number, key) is None and _works(stem):
                self._ask(sound, number, key)
                return

    def _ask(self, sound: Sound, number: int, key: Any) -> None:
        self._asked = number, key
        whole = places.as_stem(sound, number)
        in_use = [Path(one.path).name for one in self.kept_of(sound)]
        self._workers.ask(
            CLIENT,
            ERRAND,
            lambda number: Keep(number, whole, str(kept.folder()), in_use),
            self._hear,
            self._leave,
            "keeping",
        )

    def _hear(self, answer: Answer) -> None:
        if isinstance(answer, KeptAt) and self._asked is not None:
            number, key = self._asked
            self._known.setdefault(number, deque(maxlen=REMEMBERED)).appendleft(
                (key, KeptAs(number, answer.path))
            )
            self._asked = None
            self.changed.emit()
            self._next()
        elif isinstance(answer, Failed):
            self._leave()

    def _leave(self) -> None:
        """Leave what was asked for as it is."""
        if self._asked is not None:
            self._left[self._asked[0]], self._asked = self._asked[1], None
        self._next()


def _keys(sound: Sound) -> Iterator[tuple[int, Any]]:
    """The ids of all stems, each with what is equal for what sounds the same."""
    timeline, keyed = places.timeline(sound), wires.keys(sound)
    for stem in sound.stems:
        heard = places.made_of(sound, stem.id) if keyed.get(stem.id) else None
        yield stem.id, (*places.part_key(stem), stem.strip, timeline, heard)


def _works(stem: Stem) -> bool:
    return any(stage.inserted or stage.rides for _, stage in tree.walk(stem.strip))
