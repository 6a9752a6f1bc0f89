"""The panel of the open stage: what every kind has in common above, the kind's editor below."""

from collections.abc import Callable
from functools import partial

import numpy as np
from PySide6.QtCore import QTimer, Signal
from PySide6.QtWidgets import QFrame, QHBoxLayout, QMenu, QPushButton, QVBoxLayout, QWidget

from stonekite.desktop.controls.choices import Segments, Toggle
from stonekite.desktop.controls.column import Pages, scrolling
from stonekite.desktop.controls.keyed import keyed
from stonekite.desktop.controls.plain import Label
from stonekite.desktop.controls.theme import roles
from stonekite.desktop.editors.bands_editor import BandsEditor
from stonekite.desktop.editors.editor import Editor
from stonekite.desktop.editors.key_button import KeyButton
from stonekite.desktop.editors.stage_editor import StageEditor
from stonekite.desktop.editors.unknown_editor import UnknownEditor
from stonekite.desktop.model.document import Document
from stonekite.desktop.model.stage_actions import StageActions
from stonekite.session import edits
from stonekite.session.types import LEGS, OneComponent
from stonekite.stages import riding
from stonekite.stages.registry import KINDS, kind_of, label_of
from stonekite.words import NAMES, figure, note, said

_LEAST = 150
"""So much height an editor has at the least: where there is no more, it scrolls."""


class _Made(dict[str, Editor]):
    """Editors by kind, made by `make` when they are asked for first."""

    def __init__(self, make: Callable[[str], Editor]) -> None:
        super().__init__()
        self._make = make

    def __missing__(self, kind: str) -> Editor:
        editor = self[kind] = self._make(kind)
        return editor


class StagePanel(QFrame):
    """Shows the stage that `actions` has open. `change_asked` is a wish to hear only what it changes. Editors are made
    when they are asked for first, which `editor_made` tells: all of them at once would hold the window's start up.
    """

    editor_made = Signal(object)
    match_asked = Signal()
    change_asked = Signal(bool)
    presets_asked = Signal()
    ride_asked = Signal(int, str)
    smoothing_asked = Signal(object)
    detector_asked = Signal(object)
    band_asked = Signal(object)
    enter_asked = Signal(int)
    learn_asked = Signal()
    response_asked = Signal()

    def __init__(self, document: Document, actions: StageActions) -> None:
        super().__init__()
        self.setObjectName("panel")
        self._document, self._actions = document, actions
        self._changes: dict[int, float] = {}
        self._heard: str | None = None
        self._smoothing: int | None = None
        self.title = Label("")
        self.title.setObjectName("title")
        self.words = Label("")
        self.words.setObjectName("muted")
        self.leg_choice = Segments({"upper": said("Mid"), "lower": said("Side")}, said("Leg to edit"), "")
        self.side_on = Toggle(
            said("On this leg"),
            said("Stage on this leg"),
            said("Whether the stage works on this leg, or lets it pass untouched"),
        )
        self.linked = Toggle(
            said("Linked"),
            said("Linked"),
            "",
        )
        self.level_kept = Toggle(
            said("Keep level"),
            said("Keep level"),
            said(
                "Give back the loudness that the stage adds or takes, as measured over the whole file, so that "
                "in and out are equally loud"
            ),
            rides=True,
        )
        self.change = Toggle(
            said("Hear change"),
            said("Hear the change"),
            said("Hear only what the stage takes away or adds, while this is on"),
        )
        self.presets = QPushButton(said("Presets…"))
        self.more = QPushButton(said("More"))
        for button, help in (
            (
                self.presets,
                said("Kept settings for this stage or for one leg of it: try, use, keep, import, export"),
            ),
            (
                self.more,
                said("Reset, copy to the other leg, swap legs, ring on when taken out, copy and paste"),
            ),
        ):
            button.setObjectName("small")
            button.setToolTip(help)
        self.inserted = Segments(
            {True: said("In"), False: said("Out")},
            said("Stage in or out"),
            rides=True,
        )
        keyed(self.leg_choice, said("Which leg is in front"), "other-leg")
        keyed(
            self.linked,
            said(
                "An edit of one side goes to the other, keeping the offset there is. Click the mark beside a "
                "value to leave that one on its leg"
            ),
            "link",
        )
        keyed(self.inserted, said("Take the stage out and in; hold H to hear it out"), "in-out")
        head = QHBoxLayout()
        head.setSpacing(10)
        for part in (self.title, self.leg_choice, self.side_on, self.linked, self.words):
            head.addWidget(part)
        head.addStretch()
        self.key = KeyButton(document)
        self.key.refused.connect(actions.said)
        for widget in (self.key, self.level_kept, self.change, self.presets, self.more, self.inserted):
            head.addWidget(widget)
        self.editors = _Made(self._make)
        self._stack = Pages()
        self._room = scrolling(self._stack)
        self._room.setMinimumHeight(_LEAST)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(12, 8, 12, 10)
        layout.setSpacing(6)
        layout.addLayout(head)
        layout.addWidget(self._room, 1)
        self.leg_choice.chosen.connect(
            lambda leg: actions.choose(actions.chosen[0], leg) if actions.chosen else None
        )
        self.side_on.clicked.connect(
            lambda on: actions.set_side(*actions.chosen, on) if actions.chosen else None
        )
        self.linked.clicked.connect(actions.toggle_linked)
        self.level_kept.clicked.connect(actions.toggle_level_kept)
        self.inserted.chosen.connect(lambda on: actions.toggle_inserted())
        for switch, path in ((self.level_kept, "level_kept"), (self.inserted, "inserted")):
            switch.ride_asked.connect(partial(self._ask_ride, path))
        self.change.clicked.connect(self.change_asked)
        self.presets.clicked.connect(self.presets_asked)
        self.more.clicked.connect(self.open_more)

    def _make(self, kind: str) -> Editor:
        """The editor of a kind's stages."""
        actions = self._actions
        made: type[BandsEditor | StageEditor | UnknownEditor] = StageEditor
        if kind not in KINDS:
            made = UnknownEditor
        elif KINDS[kind].offers.bands:
            made = BandsEditor
        editor: Editor = made(self._document, kind)
        editor.show_heard(self._heard)
        if self._smoothing is not None:
            editor.view.smoothing.show_value(self._smoothing)
        self._stack.addWidget(editor)
        editor.refused.connect(actions.said)
        editor.tie_asked.connect(actions.link_setting)
        editor.ride_asked.connect(self._ask_ride)
        editor.view.smoothing_asked.connect(self._smoothing_chosen)
        editor.detector_asked.connect(self.detector_asked)
        editor.alone_asked.connect(self.band_asked)
        editor.enter_asked.connect(self.enter_asked)
        editor.learn_asked.connect(self.learn_asked)
        editor.response_asked.connect(self.response_asked)
        editor.leg_asked.connect(
            lambda leg: actions.choose(actions.chosen[0], leg) if actions.chosen else None
        )
        if isinstance(editor, BandsEditor):
            editor.match_asked.connect(self.match_asked)
        self.editor_made.emit(editor)
        return editor

    def _ask_ride(self, path: str) -> None:
        if self._actions.chosen is not None:
            self.ride_asked.emit(self._actions.chosen[0], path)

    @property
    def eq(self) -> BandsEditor:
        editor = self.editors["eq"]
        assert isinstance(editor, BandsEditor)
        return editor

    def prepare(self) -> None:
        """Make and lay out every editor before it is asked for, one after the other."""
        for place, kind in enumerate(KINDS):
            QTimer.singleShot(100 * (place + 1), self, lambda kind=kind: self._lay_out(kind))

    def _lay_out(self, kind: str) -> None:
        editor = self.editors[kind]
        editor.ensurePolished()
        for part in editor.findChildren(QWidget):
            part.ensurePolished()
        editor.resize(self._stack.size())
        if (layout := editor.layout()) is not None:
            layout.activate()

    def open_more(self) -> QMenu:
        """What is needed less often."""
        menu = QMenu(self)
        actions = self._actions
        other = (
            NAMES[self._document.split_of(actions.chosen[0]).component(edits.other(actions.chosen[1]))]
            if actions.chosen
            else ""
        )
        menu.addAction(said("Reset"), actions.reset)
        menu.addAction(said("Copy settings to {other}").format(other=other), actions.copy_across)
        menu.addAction(said("Swap legs"), actions.swap)
        ring = menu.addAction(
            said("Rings on when taken out"),
            lambda: actions.toggle("rings_on", said("rings on"), said("stops")),
        )
        ring.setCheckable(True)
        ring.setChecked(actions.stage is not None and actions.stage.rings_on)
        menu.addSeparator()
        menu.addAction(said("Copy stage"), actions.copy)
        menu.addAction(said("Paste stage behind it"), actions.paste)
        menu.addAction(said("Paste settings on this leg"), actions.paste_on_leg)
        menu.popup(self.more.mapToGlobal(self.more.rect().bottomLeft()))
        return menu

    def show_heard(self, what: str | None) -> None:
        """What is listened to alone: "change", "band", "detector" or nothing of the kind."""
        self._heard = what
        self.change.setChecked(what == "change")
        for editor in self.editors.values():
            editor.show_heard(what)

    def _smoothing_chosen(self, parts: int) -> None:
        self._smoothing = parts
        for editor in self.editors.values():
            editor.view.smoothing.show_value(parts)
        self.smoothing_asked.emit(parts)

    def show_changes(self, changes: dict[int, float]) -> None:
        """Loudness that each stage adds, in LU, as measured; nothing while it is not known."""
        self._changes = changes
        self.refresh()

    def refresh(self) -> None:
        """Show the open stage."""
        stage, chosen = self._actions.stage, self._actions.chosen
        if stage is None or chosen is None:
            return
        leg = chosen[1]
        split = self._document.split_of(stage.id)
        both = not isinstance(split, OneComponent)
        for control in (self.leg_choice, self.side_on, self.linked):
            control.setVisible(both)
        colours = {name: roles.component(split.component(name)) for name in LEGS}
        self.leg_choice.set_words({name: NAMES[split.component(name)] for name in LEGS}, colours)
        self.leg_choice.show_value(leg)
        self.title.setText(label_of(stage))
        remark = kind_of(stage).offers.remark
        told = "" if remark is None else remark(stage, leg, self._document.stem.source.rate)
        self.words.setText(" · ".join(words for words in (self._level_words(stage), told) if words))
        self.linked.setChecked(stage.linked)
        self.key.show_stage(stage)
        self.level_kept.setChecked(stage.level_kept)
        self.inserted.show_value(stage.inserted)
        ridden = riding.ridden(stage, "")
        self.level_kept.set_ridden("level_kept" in ridden)
        self.inserted.set_ridden("inserted" in ridden)
        self.side_on.setChecked(getattr(stage, leg) is not None)
        self.side_on.set_colour(colours[leg])
        editor = self.editors[stage.__struct_config__.tag]
        editor.show_stage(stage.id, leg)
        self._stack.setCurrentWidget(editor)
        self._room.setMinimumWidth(editor.minimumSizeHint().width())

    def _level_words(self, stage) -> str:
        change = self._changes.get(stage.id)
        if change is None:
            return ""
        words = figure(change, "LU", sign=True)
        return said("{words}, given back").format(words=words) if stage.level_kept else words

    def show_live(self, status: np.void) -> None:
        """What the player says of the open stage, 30 times a second."""
        editor = self._stack.currentWidget()
        assert isinstance(editor, Editor)
        editor.show_live(status)
        self._show_notes(status)

    def _show_notes(self, status: np.void) -> None:
        """The note that the open stage follows, if it follows any."""
        stage, chosen = self._actions.stage, self._actions.chosen
        if stage is None or chosen is None or kind_of(stage).offers.follows is None:
            return
        hz = float(status["follows"][LEGS.index(chosen[1])]) if status["playing"] else 0.0
        words = (
            said("follows {note} ({hz:.1f} Hz)").format(note=note(hz), hz=hz)
            if hz > 0.0
            else said("no note to follow")
        )
        if self.words.text() != words:
            self.words.setText(words)
