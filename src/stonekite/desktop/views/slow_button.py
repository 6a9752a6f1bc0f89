"""Slowed listening: the loop, or what comes next, at a part of its speed and at the same pitch, or transposed."""

import contextlib
import shutil
import tempfile
from collections.abc import Callable
from functools import partial
from pathlib import Path

from PySide6.QtCore import QTimer, Signal
from PySide6.QtWidgets import QMenu, QPushButton

from stonekite.desktop.links.errands import Errands
from stonekite.desktop.links.transport import Transport
from stonekite.desktop.model.document import Document
from stonekite.processes.jobs import Answer, RangeBegun, RangeSlowed, SlowRange
from stonekite.session.mix import places
from stonekite.session.types import Sound, Source, Stem
from stonekite.words import said

SPEEDS = (100, 90, 80, 75, 66, 50, 40, 33, 25)
"""In per cent."""
AHEAD_S = 20.0
"""Without a loop so much from the play position on is slowed down."""
SETTLE_MS = 500


class SlowButton(QPushButton):
    """Chooses speed and pitch. While it is not 100 %, it tells the player what to play (`began` says so, `over` gives
    that back), and makes the range anew when it, or the sound, is another one. Nothing of it is ever exported."""

    over = Signal()
    began = Signal()

    def __init__(
        self,
        document: Document,
        transport: Transport,
        errands: Errands,
        played: Callable[[], tuple[Sound, int]],
    ) -> None:
        super().__init__()
        self._document, self._transport, self._errands, self._played = document, transport, errands, played
        self.speed, self.semitones = 100, 0
        self._folder: Path | None = None
        self._made: tuple[object, ...] = ()
        self._here: float | None = None
        """Where it was when it was slowed down first: the range without a loop stays there while it plays."""
        self._count = 0
        self.setObjectName("small")
        self.setToolTip(
            said(
                "Speed and pitch of listening: the loop, or what comes next, is slowed down at the same pitch. Never "
                "exported."
            )
        )
        self.clicked.connect(lambda: self.menu_of().popup(self.mapToGlobal(self.rect().topLeft())))
        self._settle = QTimer(self)
        self._settle.setSingleShot(True)
        self._settle.setInterval(SETTLE_MS)
        self._settle.timeout.connect(self._make)
        document.changed.connect(self.follow)
        document.opened.connect(self.end)
        self._show()

    @property
    def on(self) -> bool:
        """Whether it is not played as it is."""
        return self.speed != 100 or self.semitones != 0

    def menu_of(self) -> QMenu:
        """Speeds and intervals."""
        menu = QMenu(self)
        for speed in SPEEDS:
            action = menu.addAction(f"{speed} %", partial(self.choose, speed, None))
            action.setCheckable(True)
            action.setChecked(speed == self.speed)
        menu.addSeparator()
        pitch = menu.addMenu(said("Transposed"))
        for semitones in range(12, -13, -1):
            action = pitch.addAction(_interval(semitones), partial(self.choose, None, semitones))
            action.setCheckable(True)
            action.setChecked(semitones == self.semitones)
        return menu

    def choose(self, speed: int | None, semitones: int | None) -> None:
        """Listen at a speed in per cent and so many semitones higher; None: as it is."""
        if not self._document.is_open:
            return
        was = self.on
        self.speed = self.speed if speed is None else speed
        self.semitones = self.semitones if semitones is None else semitones
        self._show()
        if self.on:
            self._make()
        elif was:
            self.end()

    def end(self) -> None:
        """Play as it is again."""
        self.speed, self.semitones, slowed, self._made = 100, 0, bool(self._made), ()
        self._here = None
        self._settle.stop()
        self._show()
        if slowed:
            self.over.emit()

    def _show(self) -> None:
        words = f"{self.speed} %" + (f" {_interval(self.semitones)}" if self.semitones else "")
        self.setText(words)
        self.setAccessibleName(said("Speed of listening: {speed}").format(speed=words))

    def _range(self) -> tuple[float, float]:
        loop = self._document.desk.loop
        source = self._document.stem.source
        if loop is not None:
            return loop.start_s, loop.end_s
        if self._here is None:
            self._here = self._transport.position_s
        start = min(self._here, max(0.0, source.frames / source.rate - 1.0))
        return start, min(start + AHEAD_S, source.frames / source.rate)

    def _wanted(self) -> tuple[object, ...]:
        sound, heard = self._played()
        return (places.as_stem(sound, heard), self._range(), self.speed, self.semitones)

    def follow(self) -> None:
        """The sound or the range may be another one: it is made anew when hands rest."""
        if self.on and self._wanted() != self._made:
            self._settle.start()

    def _make(self) -> None:
        if not self.on or not self._document.is_open or (wanted := self._wanted()) == self._made:
            return
        stem, (start_s, end_s) = wanted[0], self._range()
        assert isinstance(stem, Stem)
        rate = stem.source.rate
        span = int(start_s * rate), int(end_s * rate)
        if self._folder is None:
            self._folder = Path(tempfile.mkdtemp(prefix="stonekite-slowed-"))
        self._count += 1
        path = self._folder / f"{self._count}.wav"

        def play(answer: Answer) -> None:
            if isinstance(answer, RangeBegun | RangeSlowed) and self.on and self._wanted() == wanted:
                there = Path(answer.path) if isinstance(answer, RangeBegun) else path
                self._play(there, answer.frames, rate, start_s, wanted)

        self._errands.send(
            lambda number: SlowRange(
                number, stem, span, self.speed / 100.0, float(self.semitones), str(path)
            ),
            said("Slowing down"),
            play,
        )

    def _play(self, path: Path, frames: int, rate: int, start_s: float, wanted: tuple[object, ...]) -> None:
        if not self._made:
            self.began.emit()
        begun, self._made = self._made == wanted, wanted
        source = Source(path=str(path), rate=rate, frames=frames)
        sound = Sound(stems=(Stem(id=1, name=path.stem, source=source),))
        speed = self.speed / 100.0
        if begun:  # the same from its beginning on, and more
            self._transport.slow_on(sound)
        else:
            self._transport.at_the_same_place(lambda: self._transport.slow(sound, start_s, speed))
        for old in path.parent.glob("*.wav"):
            if int(old.stem.partition("-")[0]) < self._count - 1:
                with contextlib.suppress(OSError):
                    old.unlink()

    def close(self) -> bool:
        """Remove what was made."""
        if self._folder is not None:
            shutil.rmtree(self._folder, ignore_errors=True)
            self._folder = None
        return super().close()


def _interval(semitones: int) -> str:
    return f"{semitones:+d} st".replace("-", "−") if semitones else said("as it is")
