"""Export sets in the window: the dialog, the folder, and what would be overwritten."""

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject
from PySide6.QtWidgets import QFileDialog

from stonekite.desktop.controls.plain import may_overwrite
from stonekite.desktop.dialogs.sets_dialog import SetsDialog
from stonekite.desktop.links.export_queue import ExportQueue
from stonekite.desktop.model import preferences
from stonekite.session import export_sets
from stonekite.session.export_sets import ExportSet
from stonekite.words import said

if TYPE_CHECKING:
    from stonekite.desktop.shell.window import Window


class Sets(QObject):
    """Holds the queue of a window."""

    def __init__(self, window: "Window") -> None:
        super().__init__(window)
        self._window = window
        self.queue = ExportQueue(window.workers, self)
        self.queue.said.connect(window.say)
        self.folder = export_sets.user_folder()
        self.dialog: SetsDialog | None = None

    def ask(self) -> SetsDialog | None:
        """Show the sets for what is open (modal to the window, not blocking)."""
        document = self._window.document
        if not document.is_open:
            return None
        name = document.path.stem if document.path is not None else document.stem.name
        dialog = self.dialog = SetsDialog(document.session, name, self.queue, self.folder, self._window)
        dialog.write_asked.connect(lambda chosen: self._choose_folder(chosen, name))
        dialog.open()
        for fault in dialog.faults:
            self._window.say(fault)
        return dialog

    def _choose_folder(self, chosen: ExportSet, name: str) -> None:
        source = self._window.document.stem.source
        start = preferences.last_folder() if source.generator is not None else str(Path(source.path).parent)
        folder = QFileDialog.getExistingDirectory(self.dialog, said("Where shall the files go?"), start)
        if folder:
            self.write(chosen, name, Path(folder))

    def write(self, chosen: ExportSet, name: str, folder: Path) -> None:
        """Put a set into the queue, if what is there already may be overwritten."""
        session = self._window.document.session
        parts = export_sets.parts_of(chosen, session, name)
        there = [file for _, files in parts for file in files.values() if (folder / file).exists()]
        if may_overwrite(there, self.dialog):
            self.queue.add(chosen, session, name, folder)
