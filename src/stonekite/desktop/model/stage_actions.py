"""What can be done with the stages of a document, and which of them is open."""

from collections.abc import Callable
from typing import Any

import msgspec
from PySide6.QtCore import QMimeData, QObject, Signal
from PySide6.QtGui import QGuiApplication

from stonekite.desktop.model.document import Document
from stonekite.session import edits, presets, tree
from stonekite.session.types import LegName, Session
from stonekite.stages.base import Stage
from stonekite.stages.registry import KINDS, AnyStage, kind_of, label_of
from stonekite.words import NAMES, said

MIME = "application/x-stonekite-stage+json"
LEG_MIME = "application/x-stonekite-leg"
"""Which leg was in front when the stage was copied."""


class StageActions(QObject):
    """Edits stages through the document. `chosen_changed` comes when another one is opened, `said` with a word."""

    chosen_changed = Signal()
    added = Signal()
    said = Signal(str)

    def __init__(self, document: Document, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._document = document
        self.chosen: tuple[int, LegName] | None = None

    @property
    def branch(self) -> int:
        """The branch that the open stage stands in; the legs without one."""
        stage = self.stage
        return tree.LEGS_BRANCH if stage is None else tree.home(self._document.strip, stage.id).branch

    @property
    def stage(self) -> Any:
        """The open stage, or None."""
        return self._document.stage(self.chosen[0]) if self.chosen and self._document.is_open else None

    def choose(self, number: int | None, leg: LegName = "upper") -> None:
        """Open a stage with one leg in front, or none."""
        self.chosen = None if number is None else (number, leg)
        self.chosen_changed.emit()

    def choose_other_leg(self) -> None:
        if self.chosen is not None:
            self.choose(self.chosen[0], edits.other(self.chosen[1]))

    def choose_what_is_left(self) -> bool:
        """After a change: if the open stage is gone, open the last one; whether there was anything to do."""
        if self.chosen is None or self._document.stage(self.chosen[0]) is not None:
            return False
        stages = self._document.strip.stages
        self.choose(stages[-1].id if stages else None, self.chosen[1])
        return True

    def _edit(self, change: Callable[[], Session], words: str) -> bool:
        """Make an edit that can be refused; whether it was made."""
        try:
            session = change()
        except ValueError as error:
            self.said.emit(str(error))
            return False
        return self._document.edit(session, words)

    def _put(self, stage: Stage, words: str) -> None:
        self._document.put_stage(stage, f"{label_of(stage)} {words}")

    def add(self, kind: str, leg: LegName = "upper", branch: int | None = None) -> None:
        """Add a stage at the end of a branch, of that of the open stage if none is named, and open it."""
        if not self._document.is_open:
            return
        where = self.branch if branch is None else branch
        number = tree.next_id(self._document.session)
        added = self._edit(
            lambda: edits.add_stage(self._document.session, self._document.holder, kind, None, where)[0],
            said("{label} added").format(label=KINDS[kind].label),
        )
        if added:
            self.choose(number, "upper" if tree.carries_one(self._document.strip, where) else leg)
            self.added.emit()

    def remove(self, number: int | None = None) -> None:
        """Remove a stage: the open one, if none is named."""
        stage = self.stage if number is None else self._document.stage(number)
        if stage is not None:
            session = edits.remove_stage(self._document.session, self._document.holder, stage.id)
            self._document.edit(session, said("{label} removed").format(label=label_of(stage)))

    def move(self, number: int, place: int, branch: int | None = None) -> None:
        """Put a stage at a place of its branch, or of another one."""
        session = self._document.session
        moved = self._edit(
            lambda: edits.move_stage(session, self._document.holder, number, place, branch),
            said("Stages reordered"),
        )
        if moved and self.chosen is not None and self.chosen[0] == number:
            self.choose(*self.chosen)

    def set_side(self, number: int, leg: LegName, on: bool) -> None:
        """Put a stage on a leg with fresh settings, or take it off."""
        stage = self._document.stage(number)
        if stage is not None and (getattr(stage, leg) is not None) != on:
            side = kind_of(stage).side() if on else None
            name = NAMES[self._document.split_of(number).component(leg)]
            self._put(
                msgspec.structs.replace(stage, **{leg: side}),
                (said("on {name}") if on else said("off {name}")).format(name=name),
            )

    def open_side(self, number: int, leg: LegName) -> None:
        """Open a stage with a leg in front; put it on the leg if it is not there."""
        stage = self._document.stage(number)
        if stage is not None and getattr(stage, leg) is None:
            self.set_side(number, leg, True)
        self.choose(number, leg)

    def toggle(self, name: str, on_words: str, off_words: str) -> None:
        """Turn one of the open stage's switches over."""
        stage = self.stage
        if stage is not None:
            on = not getattr(stage, name)
            self._put(msgspec.structs.replace(stage, **{name: on}), on_words if on else off_words)

    def toggle_inserted(self) -> None:
        self.toggle("inserted", said("in"), said("out"))

    def toggle_linked(self) -> None:
        self.toggle("linked", said("linked"), said("unlinked"))

    def toggle_level_kept(self) -> None:
        self.toggle("level_kept", said("keeps its level"), said("no longer keeps its level"))

    def reset(self) -> None:
        if self.stage is not None:
            self._put(edits.reset(self.stage), said("reset"))

    def copy_across(self) -> None:
        """Give the other leg the settings of the leg in front."""
        if self.stage is not None and self.chosen is not None:
            leg = self.chosen[1]
            name = NAMES[self._document.split_of(self.stage.id).component(edits.other(leg))]
            self._put(edits.copied_across(self.stage, leg), said("copied to {name}").format(name=name))

    def swap(self) -> None:
        if self.stage is not None:
            self._put(edits.swapped(self.stage), said("legs swapped"))

    def link_setting(self, name: str, on: bool) -> None:
        """Carry a setting of the open stage across, or leave it on its leg."""
        if self.stage is not None:
            self._put(
                edits.link_setting(self.stage, name, on),
                said("setting linked") if on else said("setting unlinked"),
            )

    # Clipboard

    def copy(self) -> None:
        """Put the open stage on the clipboard, for this or another session."""
        if self.stage is None:
            return
        text = msgspec.json.encode(tree.unkeyed(self.stage))  # a key belongs to the session
        data = QMimeData()
        data.setData(MIME, text)
        data.setText(text.decode())
        if self.chosen is not None:
            data.setData(LEG_MIME, self.chosen[1].encode())
        QGuiApplication.clipboard().setMimeData(data)
        self.said.emit(
            said("{label} copied. Ctrl+V puts it behind the open stage.").format(label=label_of(self.stage))
        )

    def _pasted(self) -> Stage | None:
        data = QGuiApplication.clipboard().mimeData()
        if not data.hasFormat(MIME) and not data.hasText():
            return None
        text = data.data(MIME).data() if data.hasFormat(MIME) else data.text().encode()
        try:
            return msgspec.json.decode(text, type=AnyStage)
        except (msgspec.DecodeError, UnicodeDecodeError, RecursionError):
            return None

    def paste(self) -> None:
        """Put the stage on the clipboard behind the open one, and open it."""
        if not self._document.is_open:
            return
        stage = self._pasted()
        if stage is None:
            self.said.emit(said("There is no stage on the clipboard: copy one first."))
            return
        strip, branch = self._document.strip, self.branch
        stages = tree.branch(strip, branch).stages
        place = stages.index(self.stage) + 1 if self.stage else len(stages)
        if tree.carries_one(strip, branch):
            stage = edits.on_one_leg(stage)
        number = tree.next_id(self._document.session)
        pasted = self._edit(
            lambda: edits.insert_stage(self._document.session, self._document.holder, stage, place, branch)[
                0
            ],
            said("{label} pasted").format(label=label_of(stage)),
        )
        if pasted:
            self.choose(number, self.chosen[1] if self.chosen else "upper")

    def paste_on_leg(self) -> None:
        """Give the leg in front the settings of the leg that was in front when a stage of its kind was copied."""
        stage, here = self._pasted(), self.stage
        if here is None or self.chosen is None:
            return
        if stage is None or type(stage) is not type(here):
            self.said.emit(said("There is no {label} on the clipboard.").format(label=label_of(here)))
            return
        data = QGuiApplication.clipboard().mimeData()
        there = "lower" if data.data(LEG_MIME).data() == b"lower" else "upper"
        side = getattr(stage, there)
        leg = self.chosen[1]
        self._put(msgspec.structs.replace(here, **{leg: side}), said("settings pasted"))

    # Presets

    def use_preset(self, preset: presets.Preset, gesture: object = None) -> None:
        """Hear a preset; those tried with the same gesture are one step to undo."""
        if preset.scope == "strip":
            first = tree.next_id(self._document.session)
            strip = presets.on_strip(preset, self._document.strip, first)
            self._document.put((), strip, said("Preset “{name}”").format(name=preset.name), gesture)
            if self.chosen is None and strip.stages:
                self.choose(strip.stages[0].id)
        elif self.stage is not None and self.chosen is not None:
            if preset.scope == "stage":
                stage = presets.on_stage(preset, self.stage, tree.next_id(self._document.session))
                if tree.carries_one(self._document.strip, self.branch):
                    stage = edits.on_one_leg(stage)
            else:
                stage = presets.on_leg(preset, self.stage, self.chosen[1])
            self._document.put_stage(stage, said("Preset “{name}”").format(name=preset.name), gesture)
