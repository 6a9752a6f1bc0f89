"""Finds behind the window what the open stage's pictures show, again after each edit: what it makes of two tones, and
what goes through it over a range."""

from typing import TYPE_CHECKING

import msgspec
import numpy as np
from PySide6.QtCore import QObject, QTimer

from stonekite.desktop.editors.editor import Editor
from stonekite.desktop.editors.passing_box import PassingBox
from stonekite.desktop.editors.stage_editor import StageEditor
from stonekite.desktop.editors.stage_panel import StagePanel
from stonekite.desktop.links.errands import Errands
from stonekite.desktop.links.transport import Transport
from stonekite.desktop.model.document import Document
from stonekite.desktop.model.stage_actions import StageActions
from stonekite.desktop.pictures.passing_picture import Range
from stonekite.measure.spectrum import BANDS
from stonekite.processes.jobs import Answer, FindTones, PassingSeen, SeePassing, TonesFound
from stonekite.processes.pool import COMPARE
from stonekite.session.types import Output

if TYPE_CHECKING:
    from stonekite.desktop.shell.window import Window

SETTLE_MS = 120
FOLLOW_MS = 2000
RANGE_SETTLE_MS = 400
CLIENT = "passing"


class ToneFinding(QObject):
    """Keeps the tones of the editor in front up to date."""

    def __init__(
        self,
        panel: StagePanel,
        document: Document,
        actions: StageActions,
        errands: Errands,
        transport: Transport,
    ) -> None:
        super().__init__(panel)
        self._panel, self._document, self._actions = panel, document, actions
        self._errands, self._transport = errands, transport
        self._shown: tuple | None = None
        self._settle = QTimer(self)
        self._settle.setSingleShot(True)
        self._settle.timeout.connect(self._ask)
        self._follow = QTimer(self)
        self._follow.setInterval(FOLLOW_MS)
        self._follow.timeout.connect(self.refresh)
        self._follow.start()
        document.opened.connect(self.refresh)
        document.changed.connect(self.refresh)
        actions.chosen_changed.connect(self.refresh)
        panel.editor_made.connect(self._made)

    def _made(self, editor: Editor) -> None:
        if isinstance(editor, StageEditor) and editor.tones is not None:
            editor.tones.asked.connect(self.refresh)

    def _editor(self) -> StageEditor | None:
        """The editor in front, if it shows tones."""
        stage = self._actions.stage
        if stage is None:
            return None
        editor = self._panel.editors[stage.__struct_config__.tag]
        shows = isinstance(editor, StageEditor) and editor.tones is not None and editor.isVisible()
        return editor if shows else None  # type: ignore[return-value]

    def refresh(self, *_: object) -> None:
        """Ask when edits have settled, if anything has changed."""
        if self._editor() is not None and not self._settle.isActive():
            self._settle.start(SETTLE_MS)

    def _ask(self) -> None:
        editor = self._editor()
        if editor is None or editor.tones is None:
            return
        if self._errands.busy:
            self._settle.start(SETTLE_MS)
            return
        stem, stage = self._document.stem, self._actions.stage
        frame = int(self._transport.position_s * stem.source.rate) if editor.tones.of_programme else None
        upstream = None
        if frame is not None:
            upstream = (stem.source, msgspec.structs.replace(stem.strip, output=Output()), frame)
        wanted = (stage, stem.strip.split, upstream)
        if wanted == self._shown:
            return
        tones = editor.tones

        def show(answer: Answer) -> None:
            if isinstance(answer, TonesFound):
                self._shown = wanted  # if another errand comes between, it is asked again
                tones.show_found(answer.heard)

        self._errands.send(lambda number: FindTones(number, stem, stage.id, frame), "", show)


class PassingFinding(QObject):
    """Keeps the spectrograms of the editor in front up to date, where they show a range."""

    def __init__(self, window: "Window") -> None:
        super().__init__(window)
        self._window = window
        self._shown: object = None
        """What is shown, or was asked for."""
        self._settle = QTimer(self)
        self._settle.setSingleShot(True)
        self._settle.timeout.connect(self._ask)
        for signal in (window.document.opened, window.document.changed, window.stages.chosen_changed):
            signal.connect(self.refresh)
        window.panel.editor_made.connect(self._made)

    def _made(self, editor: Editor) -> None:
        if isinstance(editor, StageEditor) and editor.passing is not None:
            editor.passing.asked.connect(self.refresh)
            editor.passing.placed.connect(self._go_to)

    def _go_to(self, seconds: float) -> None:
        self._window.transport.seek(int(seconds * self._window.document.stem.source.rate))

    def _box(self) -> PassingBox | None:
        """The spectrograms in front, if they show a range."""
        stage = self._window.stages.stage
        if stage is None:
            return None
        editor = self._window.panel.editors[stage.__struct_config__.tag]
        box = editor.passing if isinstance(editor, StageEditor) and editor.isVisible() else None
        return None if box is None or box.over == "lately" else box

    def refresh(self, *_: object) -> None:
        """Look again when edits have settled, if anything has changed."""
        if self._box() is not None:
            self._settle.start(RANGE_SETTLE_MS)

    def show_position(self, seconds: float) -> None:
        """Where it plays."""
        if (box := self._box()) is not None:
            box.picture.show_position(seconds)

    def _ask(self) -> None:
        box, document = self._box(), self._window.document
        stage = self._window.stages.stage
        if box is None or stage is None:
            return
        stem, loop = document.stem, document.desk.loop
        rate, frames = stem.source.rate, stem.source.frames
        span = (0, frames)
        if box.over == "loop" and loop is not None:
            span = int(loop.start_s * rate), int((loop.end_s - loop.start_s) * rate)
        wanted = stem.source, stem.strip, stage.id, span
        if wanted == self._shown:
            return
        ends = span[0] / rate, (span[0] + span[1]) / rate
        if not isinstance(self._shown, tuple) or self._shown[2:] != wanted[2:]:
            box.show_range(
                Range(*ends, None)
            )  # until it is known; after an edit what there was stays so long
        self._shown = wanted

        def show(answer: Answer) -> None:
            if isinstance(answer, PassingSeen):
                levels = np.frombuffer(answer.levels, dtype=np.float32).reshape(4, BANDS, -1)
                box.show_range(Range(*ends, levels))

        def lost() -> None:
            self._shown = None

        self._window.workers.ask(
            CLIENT, COMPARE, lambda number: SeePassing(number, stem, stage.id, span), show, lost
        )
