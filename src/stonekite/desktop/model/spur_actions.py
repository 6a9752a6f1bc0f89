"""What can be done with the spurs of a document, and which of them is open."""

from typing import Any

import msgspec
from PySide6.QtCore import QObject, Signal

from stonekite.desktop.model.document import Document
from stonekite.session import edits, ride_edits
from stonekite.session.spur import Spur
from stonekite.stages.branch import Branch
from stonekite.stages.compressor import Compressor, CompressorShared, CompressorSide
from stonekite.stages.settings import settings_of
from stonekite.words import said

PRESSED_DB = -12.0
"""A pressed copy comes in so far down, to be eased in."""


def pressed_copy() -> Spur:
    """A copy of both legs, each through a compressor of its own, to be eased in under them."""
    side = CompressorSide(threshold_db=-32.0, ratio=6.0, attack_ms=3.0, release_ms=120.0, makeup_db=8.0)
    stage = Compressor(id=0, upper=side, lower=side, linked=True, shared=CompressorShared(coupling=0.0))
    return Spur(name="Pressed copy", level_db=PRESSED_DB, branch=Branch(stages=(stage,)))


class SpurActions(QObject):
    """Edits spurs through the document. `chosen_changed` comes when another one is opened, `said` with a word."""

    chosen_changed = Signal()
    said = Signal(str)

    def __init__(self, document: Document, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._document = document
        self.chosen = 0

    @property
    def spur(self) -> Spur | None:
        """The open spur, or None."""
        if not self._document.is_open:
            return None
        try:
            return ride_edits.shown(self._document.strip.spur(self.chosen), self._document.shown_s)
        except LookupError:
            return None

    def choose(self, number: int) -> None:
        self.chosen = number
        self.chosen_changed.emit()

    def add(self, spur: Spur, words: str) -> None:
        """Add a spur and open it."""
        if not self._document.is_open:
            return
        try:
            session, number = edits.add_spur(self._document.session, self._document.holder, spur)
        except ValueError as error:
            self.said.emit(str(error))
            return
        self._document.edit(session, words)
        self.choose(number)

    def add_from(self, source: Any) -> None:
        """Add an empty spur from a component, or from both legs."""
        self.add(Spur(source=source), said("Spur added"))

    def press_copy(self) -> None:
        self.add(pressed_copy(), said("Copy pressed"))

    def remove(self, number: int) -> None:
        name = self._document.strip.spur(number).name
        self._document.edit(
            edits.remove_spur(self._document.session, self._document.holder, number),
            said("Spur {name} removed").format(name=name),
        )

    def put(self, field: str, value: Any, token: object = None) -> None:
        """Change one setting of the open spur."""
        spur = self.spur
        if spur is None:
            return
        declared = settings_of(Spur)
        label = declared[field].label.lower() if field in declared else field
        changed = msgspec.structs.replace(spur, **{field: value})
        if field == "source" and not changed.of_both:
            stages = tuple(edits.on_one_leg(stage) for stage in spur.branch.stages)
            branch = msgspec.structs.replace(spur.branch, stages=stages)
            changed = msgspec.structs.replace(changed, branch=branch)
        gesture = None if token is None else (token, "spur", spur.id, field)
        place = [one.id for one in self._document.strip.spurs].index(spur.id)
        self._document.put_shown(
            ("spurs", place),
            changed,
            said("Spur {name}: {label}").format(name=spur.name, label=label),
            gesture,
        )

    def level_paths(self, loudness: dict[int | str, float], words: str) -> None:
        """Turn paths, legs by name and spurs by id, to one loudness: the loudest of theirs in LUFS, as far as can be."""
        self._document.put((), edits.levelled(self._document.strip, loudness), words)
