"""A cabinet gets a response of the user's own, from a file."""

from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec
from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QFileDialog

from stonekite.desktop.model import preferences
from stonekite.processes.jobs import Answer, ReadResponse, ResponseRead
from stonekite.stages.registry import label_of
from stonekite.words import NAMES, said

if TYPE_CHECKING:
    from stonekite.desktop.shell.window import Window

_FILTER = said("Audio (*.wav *.flac *.aif *.aiff);;All files (*)")


class Responses(QObject):
    """`said` has a word about what goes on."""

    said = Signal(str)

    def __init__(self, window: "Window") -> None:
        super().__init__(window)
        self._window = window
        window.panel.response_asked.connect(self._ask)

    def _ask(self) -> None:
        chosen = self._window.stages.chosen
        if chosen is None:
            return
        path, _ = QFileDialog.getOpenFileName(
            self._window, said("Response of a cabinet"), preferences.last_folder(), _FILTER
        )
        if path:
            preferences.note_folder(Path(path))
            self.use(Path(path))

    def use(self, path: Path) -> None:
        """Have the leg in front of the open stage sound by a file."""
        chosen = self._window.stages.chosen
        if chosen is None:
            return
        number, leg = chosen

        def take(answer: Answer) -> None:
            document = self._window.document
            stage = document.stage(number)
            side: Any = None if stage is None else getattr(stage, leg)
            if not isinstance(answer, ResponseRead) or stage is None or not hasattr(side, "own"):
                return  # the number may have come again, for a stage of another kind
            changed = msgspec.structs.replace(side, cabinet="own", own=answer.response)
            component = NAMES[document.split_of(number).component(leg)]
            document.put_stage(
                msgspec.structs.replace(stage, **{leg: changed}),
                f"{component} {label_of(stage)}: {answer.response.name}",
            )
            self.said.emit(
                said("“{name}” is in the session now; the file is not needed any more.").format(
                    name=answer.response.name
                )
            )

        self._window.errands.send(
            lambda n: ReadResponse(n, str(path)), said("Reading “{name}”").format(name=path.name), take
        )
