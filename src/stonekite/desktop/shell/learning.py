"""A stage learns from the recording: from the loop, behind the window."""

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
        window.panel.learn_asked.connect(self.learn)

    def learn(self) -> None:
        """Have the open stage learn from the loop."""
        document, stage = self._window.document, self._window.stages.stage
        if stage is None:
            return
        loop = document.desk.loop
        if loop is None:
            self.said.emit(
                "Loop a pause first, where there is nothing but noise: drag over it on the timeline."
            )
            return
        number, stem = stage.id, document.stem
        editor = self._window.panel.editors[str(stage.__struct_config__.tag)]

        def use(answer: Answer) -> None:
            known = self._window.stages.stage
            same = known is not None and known.id == number
            if same and isinstance(answer, HasLearned) and isinstance(editor, StageEditor):
                editor.use_learned(answer.learned)

        self._window.errands.send(
            lambda n: Learn(n, stem, number, loop.start_s, loop.end_s), "Learning the noise", use
        )
