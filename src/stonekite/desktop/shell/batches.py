"""Batches in the window: which recordings, where to, and what became of them."""

import os
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject
from PySide6.QtWidgets import QFileDialog

from stonekite.desktop.dialogs.batch_dialog import BatchDialog, name_of
from stonekite.desktop.links.posting import Posting
from stonekite.desktop.model import preferences
from stonekite.engine.offline.batch import Learn, items_of, only
from stonekite.files.audio import READABLE, AudioError
from stonekite.processes.batching import Batch, Entry, faults_of
from stonekite.reports import batch_table
from stonekite.session import export_sets, tree
from stonekite.session.export_sets import ExportSet
from stonekite.stages.registry import kind_of
from stonekite.words import said

if TYPE_CHECKING:
    from stonekite.desktop.shell.window import Window


class Batches(QObject):
    """Runs one batch at a time."""

    def __init__(self, window: "Window") -> None:
        super().__init__(window)
        self._window = window
        self._deliver = Posting(self)
        self.dialog: BatchDialog | None = None
        self.batch: Batch | None = None

    def ask(self) -> BatchDialog | None:
        """Show the dialog for the open strip (modal to the window, not blocking)."""
        document = self._window.document
        if not document.is_open:
            return None
        if self.dialog is not None and self.dialog.running:
            self.dialog.show()
            return self.dialog
        own, _ = export_sets.own(self._window.sets.folder)
        learns = any(
            kind_of(stage).offers.learning is not None and stage.shared.learned is not None  # type: ignore[attr-defined]
            for _, stage in tree.walk(document.strip)
        )
        sets = [*own, *export_sets.SHIPPED]
        dialog = self.dialog = BatchDialog(document.name, sets, learns, os.cpu_count() or 1, self._window)
        dialog.add_asked.connect(self._ask_more)
        dialog.dropped.connect(self.add)
        dialog.start_asked.connect(self._choose_folder)
        dialog.stop_asked.connect(self.stop)
        dialog.report_asked.connect(self._ask_report)
        dialog.open()
        return dialog

    def _ask_more(self, what: str) -> None:
        start = preferences.last_folder()
        if what == "folder":
            folder = QFileDialog.getExistingDirectory(self.dialog, said("A folder of recordings"), start)
            names = [folder] if folder else []
        else:
            pattern = said("Audio ({names})").format(names=" ".join("*" + s for s in READABLE))
            names, _ = QFileDialog.getOpenFileNames(self.dialog, said("Recordings"), start, pattern)
        if names:
            preferences.note_folder(Path(names[0]))
            self.add([Path(name) for name in names])

    def add(self, paths: list[Path]) -> None:
        """Put files and folders on the list."""
        assert self.dialog is not None
        together = list(dict.fromkeys([*self.dialog.paths, *paths]))
        items = items_of(together, Path("/nowhere"))
        self.dialog.show_paths(together, [name_of(item.path, item.below) for item in items])

    def _choose_folder(self, chosen: ExportSet, learn: bool, jobs: int) -> None:
        folder = QFileDialog.getExistingDirectory(
            self.dialog, said("Where shall the files go?"), preferences.last_folder()
        )
        if folder:
            self.start(chosen, learn, jobs, Path(folder))

    def start(self, chosen: ExportSet, learn: bool, jobs: int, folder: Path) -> None:
        """Begin with what is on the list."""
        dialog, document = self.dialog, self._window.document
        assert dialog is not None
        items = items_of(dialog.paths, folder)
        dialog.show_paths(dialog.paths, [name_of(item.path, item.below) for item in items])
        try:
            self.batch = Batch(
                only(document.session, document.place),
                document.name,
                chosen,
                items,
                folder,
                self._told,
                self._deliver,
                jobs=jobs,
                learn=Learn() if learn else None,
            )
        except OSError as error:
            dialog.words.setText(
                said("Nothing can be written there: {reason}.").format(
                    reason=(error.strerror or str(error)).lower()
                )
            )
            return
        dialog.words.setText("")
        dialog.show_running(True)
        self.batch.start()
        self._if_over()

    def _told(self, entry: Entry) -> None:
        batch, dialog = self.batch, self.dialog
        if batch is None or dialog is None:
            return
        dialog.show_entry(batch.entries.index(entry), entry, batch.done)
        self._if_over()

    def _if_over(self) -> None:
        batch, dialog = self.batch, self.dialog
        if batch is None or dialog is None or not batch.over or not dialog.running:
            return
        dialog.show_running(False)
        wrong = len(faults_of(batch.entries))
        words = said("{count} of {all} recordings are written.").format(
            count=len(batch.entries) - wrong, all=len(batch.entries)
        )
        dialog.words.setText(words)
        self._window.say(words)

    def stop(self) -> None:
        """End it; what was written stays, and the same batch goes on from there."""
        batch, dialog = self.batch, self.dialog
        if batch is not None:
            batch.close()
        if dialog is not None and dialog.running:
            dialog.show_running(False)
            dialog.words.setText(said("Stopped. Written into the same folder, it goes on from here."))

    def _ask_report(self) -> None:
        name, _ = QFileDialog.getSaveFileName(
            self.dialog, said("Report"), preferences.last_folder(), "*.html *.csv *.json"
        )
        if name:
            path = Path(name)
            self.report(path if path.suffix else path.with_suffix(".html"))

    def report(self, path: Path) -> None:
        """Write the table of what is done."""
        assert self.dialog is not None and self.batch is not None
        rows = [entry.row for entry in self.batch.entries if entry.row is not None]
        try:
            batch_table.write(rows, path, said("Batch: {name}").format(name=self._window.document.name))
        except (AudioError, OSError) as error:
            self.dialog.words.setText(str(error))
            return
        self.dialog.words.setText(said("Written: “{name}”.").format(name=path.name))

    def close(self) -> None:
        if self.batch is not None:
            self.batch.close()
