"""The editor that every kind of stage gets from its declared settings alone: a picture and rows of controls."""

from typing import Any

import msgspec
import numpy as np
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from stonekite.desktop.controls.choices import Toggle
from stonekite.desktop.controls.plain import Label
from stonekite.desktop.controls.there import there_if
from stonekite.desktop.editors.editor import Editor
from stonekite.desktop.editors.passing_box import PassingBox
from stonekite.desktop.editors.paths_row import PathsRow
from stonekite.desktop.editors.rows import MANY, SettingsRow, SideRow
from stonekite.desktop.editors.taps_row import TapsRow
from stonekite.desktop.editors.view_bar import ViewBar
from stonekite.desktop.model.document import Document
from stonekite.desktop.pictures.echogram import Echogram
from stonekite.desktop.pictures.handle_picture import HandlePicture
from stonekite.desktop.pictures.history_picture import HistoryPicture
from stonekite.desktop.pictures.loop_picture import LoopPicture
from stonekite.desktop.pictures.plan_picture import PlanPicture
from stonekite.desktop.pictures.response_picture import ResponsePicture
from stonekite.desktop.pictures.tones_picture import TonesPicture
from stonekite.desktop.pictures.transfer_picture import BendPicture, CurvePicture, TransferPicture
from stonekite.desktop.pictures.work_picture import WorkPicture
from stonekite.session import edits
from stonekite.session.edits import given, put_linked
from stonekite.session.types import LEGS, LegName, OneComponent
from stonekite.stages import riding
from stonekite.stages.base import Stage
from stonekite.stages.branch import branches_of
from stonekite.stages.echo.settings import MOST_TAPS, Tap
from stonekite.stages.registry import KINDS, kind_of, label_of, shared_type
from stonekite.stages.settings import settings_of
from stonekite.words import NAMES, said

_FEW = 3
"""Both sides stand in one row if each has no more settings."""
_BESIDE = 4
"""So many shared settings stand beside what the picture is looked at by; more have a row of their own."""


class StageEditor(Editor):
    """Edits a stage of any kind that has no editor of its own."""

    def __init__(self, document: Document, kind: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._document = document
        self._number = -1
        self._leg: LegName = "upper"
        handles = KINDS[kind].offers.handles
        self.picture = HandlePicture(handles) if handles else ResponsePicture()
        self.view = ViewBar(self.picture)
        self.rows: dict[LegName, SideRow] = {leg: SideRow(KINDS[kind].side, leg) for leg in LEGS}
        shared = shared_type(kind)
        self.shared = SettingsRow(shared, said("Shared"), rides=True) if shared is not None else None
        count = sum(not setting.seldom for setting in settings_of(KINDS[kind].side).values())
        more = any(setting.seldom for setting in settings_of(KINDS[kind].side).values())
        few, self._many = count <= _FEW, count > MANY or more
        sides = QHBoxLayout() if few else QVBoxLayout()
        sides.setSpacing(24 if few else 6)
        for leg, row in self.rows.items():
            sides.addWidget(row)
            row.moved.connect(lambda field, value, token, leg=leg: self._put(leg, {field: value}, token))
            row.refused.connect(self.refused)
            row.tie_asked.connect(self.tie_asked)
            row.ride_asked.connect(lambda field, leg=leg: self.ride_asked.emit(f"{leg}.{field}"))
        every: list[SettingsRow] = [*self.rows.values(), *([self.shared] if self.shared is not None else [])]
        self.further = Toggle(
            said("Further"), said("Further settings"), said("Show what is wanted less often")
        )
        there_if(self.further, any(one.has_seldom for one in every))
        for one in every:
            if one.has_seldom:
                self.further.clicked.connect(lambda on, row=one.seldom: row.setVisible(on))
        self.paths = self._build_paths(kind)
        self.taps = self._build_taps(kind)
        self._shared_row: QWidget | None = None
        last = QHBoxLayout()
        last.setSpacing(24)
        if self.shared is not None:
            self.shared.moved.connect(self._put_shared)
            self.shared.ride_asked.connect(lambda field: self.ride_asked.emit(f"shared.{field}"))
            self.shared.refused.connect(self.refused)
            often = sum(not setting.seldom for setting in settings_of(shared).values())  # type: ignore[arg-type]
            if often > _BESIDE and KINDS[kind].offers.echoes is None:  # echoes have no bar to look at
                last.addStretch(1)
                self._shared_row = self.shared
            else:
                last.addWidget(self.shared, 1)
        else:
            last.addStretch(1)
        learning = KINDS[kind].offers.learning
        needs_loop = learning is not None and learning.loop
        self.learn = QPushButton(
            said("Learn from the loop") if needs_loop else said("Learn from the recording")
        )
        self.learn.setObjectName("small")
        self.learn.setToolTip("" if learning is None else learning.hint)
        self.learn.clicked.connect(lambda: self.learn_asked.emit())
        self.forget = QPushButton(said("Forget it"))
        self.forget.setObjectName("small")
        self.forget.setToolTip("" if learning is None else learning.forget)
        self.forget.clicked.connect(lambda: self.use_learned(None))
        self.learned = Label("")
        self.learned.setObjectName("muted")
        self._learn_row = QWidget()
        learn_row = QHBoxLayout(self._learn_row)
        learn_row.setContentsMargins(0, 0, 0, 0)
        learn_row.setSpacing(10)
        for part in (self.learn, self.forget, self.learned):
            learn_row.addWidget(part)
        learn_row.addStretch(1)
        there_if(self._learn_row, learning is not None)
        self._placing_row = self._build_placing_row()
        there_if(self._placing_row, KINDS[kind].offers.placing is not None)
        self.detector = Toggle(
            said("Hear detector"),
            said("Hear the detector"),
            said("Hear what the detector of this leg hears, while this is on"),
        )
        there_if(self.detector, KINDS[kind].offers.detector is not None)
        self.detector.clicked.connect(lambda on: self.detector_asked.emit(self._leg if on else None))
        last.addWidget(self.detector)
        last.addWidget(self.view)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(5)
        layout.addLayout(self._build_pictures(kind), 1)
        layout.addLayout(sides)
        layout.addWidget(self._learn_row)
        layout.addWidget(self._placing_row)
        if self._shared_row is not None:
            layout.addWidget(self._shared_row)
        if self.taps is not None:
            layout.addWidget(self.taps)
        elif self.paths is not None:
            layout.addWidget(self.paths)
        last.addWidget(self.further)
        layout.addLayout(last)
        if isinstance(self.picture, HandlePicture):
            self.picture.moved.connect(lambda values, token: self._put(self._leg, values, token))

    def _build_placing_row(self) -> QWidget:
        """Of a kind with microphones: what they do to each other, and a way to a response of one's own."""
        self.respond = QPushButton(said("Own response…"))
        self.respond.setObjectName("small")
        self.respond.setToolTip(
            said("Choose a file to be the response of this leg: WAV, FLAC or AIFF, up to 2 s of it")
        )
        self.respond.clicked.connect(self.response_asked)
        self.told = Label("")
        self.told.setObjectName("muted")
        widget = QWidget()
        row = QHBoxLayout(widget)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(10)
        row.addWidget(self.respond)
        row.addWidget(self.told)
        row.addStretch(1)
        return widget

    def _build_paths(self, kind: str) -> PathsRow | None:
        """Of a kind whose stages have branches: what stands in each."""
        if KINDS[kind].branching is None:
            return None
        default = getattr(KINDS[kind].side(), "paths", None)
        most = len(branches_of(KINDS[kind].stage(id=0)))
        row = PathsRow(None if default is None else type(default[0]), most)
        row.moved.connect(self._put_path)
        row.refused.connect(self.refused)
        row.enter_asked.connect(lambda k: self.enter_asked.emit(self._number))
        row.ride_asked.connect(lambda k, name: self.ride_asked.emit(f"{self._leg}.paths.{k}.{name}"))
        return row

    def _put_path(self, branch: int, field: str, value: Any, token: object) -> None:
        """Change one setting of a branch, as the leg in front goes through it."""
        stage = self.stage
        if stage is None:
            return
        name = kind_of(stage).branching.names(stage, self._leg)[branch]  # type: ignore[union-attr]
        gesture = None if token is None else (token, self._number, self._leg, branch, field)
        changed = put_linked(stage, self._leg, ("paths", branch, field), value)
        self._document.put_stage(changed, f"{label_of(stage)}, {name}: {field.removesuffix('_db')}", gesture)

    def _build_taps(self, kind: str) -> TapsRow | None:
        """Of a kind that repeats sound: what it repeats once."""
        if KINDS[kind].offers.echoes is None:
            return None
        row = TapsRow(Tap, MOST_TAPS)
        row.moved.connect(lambda tap, field, value, token: self._put_tap(tap, {field: value}, token))
        row.refused.connect(self.refused)
        row.added.connect(self._add_tap)
        row.removed.connect(self._remove_tap)
        row.ride_asked.connect(lambda k, name: self.ride_asked.emit(f"shared.taps.{k}.{name}"))
        return row

    def _put_tap(self, tap: int, values: dict[str, Any], token: object) -> None:
        stage: Any = self.stage
        if stage is None:
            return
        changed = stage.shared.taps[tap] if tap < len(stage.shared.taps) else None
        if changed is None:
            return
        for field, value in values.items():
            changed = given(changed, field, value)
        taps = tuple(changed if k == tap else one for k, one in enumerate(stage.shared.taps))
        words = ", ".join(settings_of(Tap)[field].label.lower() for field in values)
        gesture = None if token is None else (token, self._number, "tap", tap, *sorted(values))
        self._put_taps(stage, taps, said("tap {count}, {words}").format(count=tap + 1, words=words), gesture)

    def _put_taps(self, stage: Any, taps: tuple[Tap | None, ...], words: str, gesture: object = None) -> None:
        changed = edits.put(stage, ("shared", "taps"), taps)
        self._document.put_stage(changed, f"{label_of(stage)}: {words}", gesture)

    def _add_tap(self, time_ms: float | None = None) -> None:
        """A tap at a time, or behind the last one by as much as that is behind the one before it."""
        stage: Any = self.stage
        if stage is None or len(stage.shared.there) >= MOST_TAPS:
            return
        taps, slots = stage.shared.there, list(stage.shared.taps)
        if time_ms is None:
            last = max((tap.time_ms for tap in taps), default=0.0)
            before = max((tap.time_ms for tap in taps if tap.time_ms < last), default=0.0)
            time_ms = settings_of(Tap)["time_ms"].held(last + (last - before or 250.0))
        place = taps[-1].place if taps else 100.0
        new = Tap(time_ms=time_ms, place=-place, level_db=-8.0)
        slot = slots.index(None) if None in slots else len(slots)
        self._put_taps(stage, (*slots[:slot], new, *slots[slot + 1 :]), said("new tap"))
        assert self.taps is not None
        self.taps.choose(slot)

    def _remove_tap(self, tap: int) -> None:
        stage: Any = self.stage
        if stage is None or not 0 <= tap < len(stage.shared.taps):
            return
        slots = [None if k == tap else one for k, one in enumerate(stage.shared.taps)]
        while slots and slots[-1] is None:
            slots.pop()
        self._put_taps(stage, tuple(slots), said("tap {count} removed").format(count=tap + 1))

    def _build_pictures(self, kind: str) -> QHBoxLayout:
        """The response; before it, where level in and out differ, the curve and what it did lately; where the stage
        bends, its curve and what it makes of two tones.
        """
        row = QHBoxLayout()
        row.setSpacing(10)
        self.curve: TransferPicture | None = None
        self.history: HistoryPicture | None = None
        self.tones: TonesPicture | None = None
        offers = KINDS[kind].offers
        if offers.curve is not None and offers.curve_handle is not None:
            self.curve = CurvePicture(offers.curve_handle)
            self.history = HistoryPicture()
            self.picture.show_title(said("what the detector hears"))
            there_if(self.picture, offers.detector is not None)
            there_if(self.view, offers.detector is not None)
        elif offers.bend is not None and offers.bend_handle is not None:
            self.curve = BendPicture(offers.bend_handle)
            self.tones = TonesPicture()
        self.plan: PlanPicture | None = None
        if offers.placing is not None:
            self.plan = PlanPicture()
            self.plan.moved.connect(lambda values, token: self._put(self._leg, values, token))
            row.addWidget(self.plan, 5)
        self.work: WorkPicture | None = None
        if offers.worked_db is not None:
            self.work = WorkPicture()
        self.passing: PassingBox | None = None
        if offers.noise_now is not None:
            self.passing = PassingBox()
            row.addWidget(self.passing, 3)
        self.echogram: Echogram | None = None
        self.loop: LoopPicture | None = None
        if offers.echoes is not None and self.taps is not None:
            self.echogram, self.loop = Echogram(), LoopPicture()
            self.picture.hide()
            self.view.hide()
            self.echogram.moved.connect(self._put)
            self.echogram.leg_chosen.connect(self.leg_asked)
            self.echogram.tap_moved.connect(self._put_tap)
            self.echogram.tap_chosen.connect(self.taps.choose)
            self.echogram.tap_asked.connect(self._add_tap)
            self.echogram.tap_removed.connect(self._remove_tap)
            row.addWidget(self.echogram, 3)
            beside = QVBoxLayout()
            beside.setSpacing(3)
            beside.addWidget(self.loop, 1)
            if self.paths is not None:
                beside.addWidget(self.paths)
            row.addLayout(beside, 1)
            return row
        if self.curve is not None:
            self.curve.moved.connect(lambda values, token: self._put(self._leg, values, token))
            row.addWidget(self.curve, 2)
        if self.work is not None:
            row.addWidget(self.work, 2)
        for picture in (self.history, self.tones):
            if picture is not None:
                row.addWidget(picture, 4)
        row.addWidget(self.picture, 4)
        return row

    @property
    def main_picture(self) -> QWidget:
        """The picture that says most about a stage of this kind."""
        return self.echogram or self.curve or self.plan or self.picture

    @property
    def stage(self) -> Stage | None:
        return self._document.stage(self._number)

    def show_stage(self, number: int, leg: LegName) -> None:
        """Edit a stage, with one leg in front of the picture."""
        if number != self._number:
            for passing in (self.history, self.passing):
                if passing is not None:
                    passing.forget()
        self._number, self._leg = number, leg
        stage = self.stage
        if stage is None:
            return
        split = self._document.split_of(number)
        one = isinstance(split, OneComponent)
        if self.curve is not None:
            self.curve.show_stage(stage, leg, split)
        if self.history is not None:
            self.history.show_stage(leg, split)
        if self.passing is not None:
            self.passing.show_stage(split)
        placing, side = kind_of(stage).offers.placing, getattr(stage, leg)
        if self.plan is not None and placing is not None:
            self.plan.show_stage(stage, leg, split)
            self.told.setText("" if side is None else placing.words(side))
            self.respond.setEnabled(side is not None)
        parts = kind_of(stage).offers.parts_worked
        if self.work is not None and parts is not None:
            self.work.show_stage(parts(stage, leg), leg, split)
        rate, tempo = self._document.stem.source.rate, self._document.session.sound.tempo
        if self.echogram is not None and self.loop is not None:
            self.echogram.show_stage(stage, leg, split, tempo, rate)
            self.loop.show_stage(stage, leg, split, rate)
        else:
            self.picture.show_stage(stage, leg, split, rate)
        for name, row in self.rows.items():
            row.setVisible(name == leg or not (self._many or one))
            row.bpm = tempo.bpm
            row.show_side(
                getattr(stage, name), split.component(name), stage.unlinked if stage.linked else None
            )
            row.show_ridden(riding.ridden(stage, f"{name}."))
        self._disable_unused(stage)
        if self.paths is not None:
            self.paths.setVisible(getattr(stage, leg) is not None)
            self.paths.show_paths(stage, leg, split.component(leg))
        if (learning := kind_of(stage).offers.learning) is not None:
            self.learned.setText(learning.told(stage))
            self.forget.setEnabled(stage.shared.learned is not None)  # type: ignore[attr-defined]
        if self.taps is not None:
            self.taps.show_taps(stage, tempo.bpm, not one)
        if self.shared is not None:
            self.shared.show_values(stage.shared, both=not one)  # type: ignore[attr-defined]
            self.shared.show_ridden(riding.ridden(stage, "shared."))

    def use_learned(self, learned: Any) -> None:
        """Have the stage know something of its recording, or nothing."""
        put_learned(self._document, self._number, learned)

    def _disable_unused(self, stage: Any) -> None:
        """What the points of the picture move that are not there has no effect."""
        for name, row in self.rows.items():
            side = getattr(stage, name)
            for handle in kind_of(stage).offers.handles:
                if handle.shown is not None and side is not None:
                    row.controls[handle.x or handle.y].setEnabled(handle.shown(side))

    def show_heard(self, what: str | None) -> None:
        self.detector.setChecked(what == "detector")

    def show_live(self, status: np.void) -> None:
        spectra = np.asarray(status["spectra"])
        self.picture.show_spectra(spectra)
        if not status["playing"]:
            return
        peak_in, reduction = np.array(status["peak_in"]), np.array(status["reduction"])
        if self.curve is not None:
            self.curve.show_live(peak_in, reduction)
        if self.echogram is not None:
            self.echogram.show_levels(peak_in)
        if self.history is not None:
            self.history.add(peak_in, reduction)
        if self.work is not None:
            self.work.show_live(peak_in, np.array(status["worked"]))
        if self.passing is not None:
            self.passing.add(spectra)
        self.picture.show_noise(np.array(status["noise"]), np.array(status["noise_gains"]))

    def _put(self, leg: LegName, values: dict[str, Any], token: object) -> None:
        stage = self.stage
        if stage is None:
            return
        component = NAMES[self._document.split_of(self._number).component(leg)]
        labels = settings_of(kind_of(stage).side)
        words = ", ".join(labels[field].label.lower() for field in values)
        gesture = None if token is None else (token, self._number, leg, *sorted(values))
        for field, value in values.items():
            stage = put_linked(stage, leg, (field,), value)
        self._document.put_stage(stage, f"{component} {label_of(stage)}: {words}", gesture)

    def _put_shared(self, field: str, value: Any, token: object) -> None:
        stage = self.stage
        if stage is not None:
            put_shared(self._document, stage, field, value, token)


def put_learned(document: Document, number: int, learned: Any) -> None:
    """Have a stage, if it is still there, know something of its recording; nothing for None."""
    stage: Any = document.stage(number)
    learning = None if stage is None else kind_of(stage).offers.learning
    if learning is None or not (learned is None or isinstance(learned, learning.type)):
        return
    if (changed := learning.taken(stage, learned)) != stage:
        words = said("forgotten") if learned is None else said("learned")
        document.put_stage(changed, f"{label_of(stage)}: {words}")


def put_shared(document: Document, stage: Any, field: str, value: Any, token: object) -> None:
    """Change one shared setting of a stage."""
    label = settings_of(type(stage.shared))[field].label.lower()
    shared = msgspec.structs.replace(stage.shared, **{field: value})
    gesture = None if token is None else (token, stage.id, field)
    changed = msgspec.structs.replace(stage, shared=shared)
    document.put_stage(changed, f"{label_of(stage)}: {label}", gesture)
