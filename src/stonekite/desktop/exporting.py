"""Exporting from the window: a dialog, a worker process, progress and cancel."""

from pathlib import Path

from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QFileDialog, QMessageBox, QWidget

from stonekite.desktop.dialogs import ExportDialog
from stonekite.desktop.document import Document
from stonekite.desktop.processes import Child
from stonekite.desktop.theme import NAMES
from stonekite.engine.export import component_path
from stonekite.jobs import Answer, Cancel, Cancelled, Export, Failed, Progress, Written
from stonekite.session.types import LEGS


class Exporting(QObject):
    """Runs one export at a time."""

    said = Signal(str)

    def __init__(self, window: QWidget) -> None:
        super().__init__(window)
        self._window = window
        self._child: Child | None = None
        self._number = 0
        self.dialog: ExportDialog | None = None

    def ask(self, document: Document) -> ExportDialog:
        """Show the dialog; returns it (it is modal to the window but does not block)."""
        strip = document.strip
        names = tuple(NAMES[strip.split.component(leg)] for leg in LEGS)
        dialog = self.dialog = ExportDialog(strip, names, self._window)  # type: ignore[arg-type]
        dialog.on_start = lambda: self._choose_file(document, dialog)
        dialog.on_cancel = self.cancel
        dialog.open()
        return dialog

    def _choose_file(self, document: Document, dialog: ExportDialog) -> None:
        source = Path(document.stem.source.path)
        proposed = source.with_name(f"{document.stem.name} processed{dialog.suffix}")
        name, _ = QFileDialog.getSaveFileName(dialog, "Export", str(proposed), f"*{dialog.suffix}")
        if name:
            path = Path(name)
            if path.suffix.lower() != dialog.suffix:
                path = path.with_name(path.name + dialog.suffix)
            if self._may_overwrite(document, dialog, path):
                self.start(document, dialog, path)

    def _may_overwrite(self, document: Document, dialog: ExportDialog, path: Path) -> bool:
        """The file dialog asked about the name it was given; the names of components are ours to ask about."""
        if dialog.value(dialog.parts) == "result":
            return True
        split = document.strip.split
        there = [p.name for leg in LEGS if (p := component_path(path, split.component(leg))).exists()]
        if not there:
            return True
        question = f"{' and '.join(f'“{name}”' for name in there)} will be overwritten."
        box = QMessageBox(QMessageBox.Icon.NoIcon, "Overwrite?", question, parent=dialog)
        go = box.addButton("Overwrite", QMessageBox.ButtonRole.AcceptRole)
        box.addButton(QMessageBox.StandardButton.Cancel)
        box.exec()
        return box.clickedButton() is go

    def start(self, document: Document, dialog: ExportDialog, path: Path) -> None:
        """Begin to export to a file that the user chose (and agreed to overwrite)."""
        if self._child is None:
            self._child = Child("stonekite.worker", Answer, parent=self)
            self._child.told.connect(self._hear)
            self._child.ended.connect(self._ended)
        self._number += 1
        dialog.show_running()
        self._child.send(
            Export(
                self._number,
                document.session,
                str(path),
                dialog.value(dialog.bits),  # type: ignore[arg-type]
                None,
                dialog.value(dialog.parts),  # type: ignore[arg-type]
                dialog.dither.isChecked(),
            )
        )

    def cancel(self) -> None:
        """End the running export; nothing of it stays on disk."""
        if self._child is not None:
            self._child.send(Cancel(self._number))

    def _hear(self, answer: Answer) -> None:
        dialog = self.dialog
        if answer.number != self._number or dialog is None:
            return
        if isinstance(answer, Progress):
            dialog.show_progress(answer.done)
        elif isinstance(answer, Written):
            dialog.show_end(_told(answer), complete=True)
            self.said.emit(f"Exported “{Path(answer.paths[0]).name}”.")
        elif isinstance(answer, Cancelled):
            dialog.show_end("Cancelled. Nothing was written.", complete=False)
        elif isinstance(answer, Failed):
            dialog.show_end(answer.sentence, complete=False)

    def _ended(self, code: int) -> None:
        self._child = None
        if self.dialog is not None and self.dialog.running:
            self.dialog.show_end("The export stopped unexpectedly; nothing was written.", complete=False)

    def close(self) -> None:
        """End the worker."""
        if self._child is not None:
            self._child.close()
            self._child = None


def _told(written: Written) -> str:
    names = ", ".join(f"“{Path(p).name}”" for p in written.paths)
    sentences = [f"Written: {names}."]
    if written.overs:
        sentences.append(f"{written.overs} samples were over full scale and were cut off there.")
    if written.repaired:
        sentences.append(f"{written.repaired} damaged samples were written as silence.")
    if written.dithered:
        sentences.append("With TPDF dither.")
    return " ".join(sentences)
