"""A stage learns from the recording: from the loop, or from where its mark is dragged, behind the window."""

from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Signal

from stonekite.desktop.editors.stage_editor import StageEditor
from stonekite.processes.jobs import Answer, HasLearned, Learn

if TYPE_CHECKING:
    from stonekite.desktop.shell.window import Window


class Learning(QObject):
    """`said` has a word about what is missing."""

    said = Signal(str)

    def __init__(self, window: "Window") -> None:
        super().__init__(window)
        self._window = window
        window.panel.learn_asked.connect(self._learn_from_loop)
        window.timeline.learn_asked.connect(lambda ends: self.learn(*ends))

    def _learn_from_loop(self) -> None:
        loop = self._window.document.desk.loop
        if loop is None:
            self.said.emit(
                "Loop a pause first, where there is nothing but noise: drag over it on the timeline."
            )
            return
        self.learn(loop.start_s, loop.end_s)

    def refresh(self) -> None:
        """Mark on the timeline what the open stage has learned from."""
        stage = self._window.stages.stage
        learned = getattr(getattr(stage, "shared", None), "learned", None)
        self._window.timeline.show_learned(None if learned is None else (learned.start_s, learned.end_s))

    def learn(self, start_s: float, end_s: float) -> None:
        """Have the open stage learn from a range of the recording, in seconds."""
        document, stage = self._window.document, self._window.stages.stage
        if stage is None:
            return
        number, stem = stage.id, document.stem
        editor = self._window.panel.editors[str(stage.__struct_config__.tag)]

        def use(answer: Answer) -> None:
            known = self._window.stages.stage
            same = known is not None and known.id == number
            if same and isinstance(answer, HasLearned) and isinstance(editor, StageEditor):
                editor.use_learned(answer.learned)

        self._window.errands.send(lambda n: Learn(n, stem, number, start_s, end_s), "Learning the noise", use)
