"""Finds behind the window what the open stage makes of two tones, again after each edit, and along with the playing."""

import msgspec
from PySide6.QtCore import QObject, QTimer

from stonekite.desktop.editors.editor import Editor
from stonekite.desktop.editors.stage_editor import StageEditor
from stonekite.desktop.editors.stage_panel import StagePanel
from stonekite.desktop.links.errands import Errands
from stonekite.desktop.links.transport import Transport
from stonekite.desktop.model.document import Document
from stonekite.desktop.model.stage_actions import StageActions
from stonekite.processes.jobs import Answer, FindTones, TonesFound
from stonekite.session.types import Output

SETTLE_MS = 120
FOLLOW_MS = 2000


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
