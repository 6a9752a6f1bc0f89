"""A stage learns from the recording: from the loop, or from where its mark is dragged, behind the window."""

from typing import TYPE_CHECKING

import msgspec
from PySide6.QtCore import QObject, Signal

from stonekite.desktop.editors.stage_editor import put_learned
from stonekite.processes.jobs import Answer, HasLearned, Learn
from stonekite.stages.registry import kind_of
from stonekite.words import said

if TYPE_CHECKING:
    from stonekite.desktop.shell.window import Window

LONGEST_S = 60.0
"""So much of a recording is learned from where nothing is looped."""


class Learning(QObject):
    """`said` has a word about what is missing."""

    said = Signal(str)

    def __init__(self, window: "Window") -> None:
        super().__init__(window)
        self._window = window
        window.panel.learn_asked.connect(self._learn_from_loop)
        window.stages.added.connect(self._learn_at_once)
        window.timeline.learn_asked.connect(lambda ends: self.learn(*ends))

    def _learn_at_once(self) -> None:
        stage = self._window.stages.stage
        learning = None if stage is None else kind_of(stage).offers.learning
        if learning is not None and learning.at_once:
            self._learn_from_loop()

    def _learn_from_loop(self) -> None:
        document, stage = self._window.document, self._window.stages.stage
        learning = None if stage is None else kind_of(stage).offers.learning
        loop = document.desk.loop
        if learning is None:
            return
        if loop is not None:
            self.learn(loop.start_s, loop.end_s)
        elif learning.loop:
            self.said.emit(learning.loop)
        else:
            self.learn(0.0, min(LONGEST_S, document.stem.source.frames / document.stem.source.rate))

    def refresh(self) -> None:
        """Mark on the timeline what the open stage has learned from."""
        stage = self._window.stages.stage
        learning = None if stage is None else kind_of(stage).offers.learning
        learned = None if learning is None else stage.shared.learned  # type: ignore[union-attr]
        ends = None if learned is None else (learned.start_s, learned.end_s)
        self._window.timeline.show_learned(ends, "" if learning is None else learning.what)

    def learn(self, start_s: float, end_s: float) -> None:
        """Have the open stage learn from a range of the recording, in seconds."""
        document, stage = self._window.document, self._window.stages.stage
        learning = None if stage is None else kind_of(stage).offers.learning
        if stage is None or learning is None:
            return
        number, stem = stage.id, document.stem

        def use(answer: Answer) -> None:
            # Another recording may be open by now, with another stage of that number.
            same = document.is_open and document.stem.source == stem.source
            now = document.stage(number) if document.is_open else None
            # The number may have come again, for a stage of another kind.
            same = same and now is not None and kind_of(now) is kind_of(stage)
            if same and isinstance(answer, HasLearned):
                put_learned(document, number, msgspec.convert(answer.learned, learning.type))

        about = said("Learning the {what}").format(what=learning.what)
        self._window.errands.send(lambda n: Learn(n, stem, number, start_s, end_s), about, use)
