"""Exporting from the window: a dialog, a worker process, progress and cancel."""

from pathlib import Path

from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QFileDialog, QWidget

from stonekite.desktop.controls.plain import may_overwrite
from stonekite.desktop.dialogs.dialogs import ExportDialog
from stonekite.desktop.model.document import Document
from stonekite.engine.offline.export import component_path
from stonekite.files.amiss import amiss
from stonekite.processes.jobs import Answer, Export, Failed, Progress, Written
from stonekite.processes.pool import EXPORT, Pool
from stonekite.session.mix import places
from stonekite.session.types import LEGS
from stonekite.words import NAMES, said


class Exporting(QObject):
    """Runs one export at a time."""

    said = Signal(str)

    def __init__(self, window: QWidget, workers: Pool) -> None:
        super().__init__(window)
        self._window = window
        self._workers = workers
        self.dialog: ExportDialog | None = None

    def ask(self, document: Document) -> ExportDialog:
        """Show the dialog; returns it (it is modal to the window but does not block)."""
        strip = places.result(document.session.sound).strip
        names = tuple(NAMES[strip.split.component(leg)] for leg in LEGS)
        dialog = self.dialog = ExportDialog(strip, names, self._window)  # type: ignore[arg-type]
        dialog.on_start = lambda: self._choose_file(document, dialog)
        dialog.on_cancel = self.cancel
        dialog.open()
        return dialog

    def _choose_file(self, document: Document, dialog: ExportDialog) -> None:
        source = Path(document.stem.source.path)
        proposed = source.with_name(f"{document.stem.name} processed{dialog.suffix}")
        name, _ = QFileDialog.getSaveFileName(dialog, said("Export"), str(proposed), f"*{dialog.suffix}")
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
        split = places.result(document.session.sound).strip.split
        there = [p.name for leg in LEGS if (p := component_path(path, split.component(leg))).exists()]
        return may_overwrite(there, dialog)

    def start(self, document: Document, dialog: ExportDialog, path: Path) -> None:
        """Begin to export to a file that the user chose (and agreed to overwrite)."""
        dialog.show_running()
        session, tail_s, bits, parts, dither = (
            document.session,
            dialog.tail_s,
            dialog.value(dialog.bits),
            dialog.value(dialog.parts),
            dialog.dither.isChecked(),
        )
        self._workers.ask(
            "export",
            EXPORT,
            lambda number: Export(number, session, str(path), bits, None, parts, dither, tail_s),  # type: ignore[arg-type]
            self._hear,
            self._lost,
            "writing",
        )

    def cancel(self) -> None:
        """End the running export; nothing of it stays on disk."""
        self._workers.drop("export")
        if self.dialog is not None and self.dialog.running:
            self.dialog.show_end(said("Cancelled. Nothing was written."), complete=False)

    def _hear(self, answer: Answer) -> None:
        dialog = self.dialog
        if dialog is None:
            return
        if isinstance(answer, Progress):
            dialog.show_progress(answer.done)
        elif isinstance(answer, Written):
            dialog.show_end(_told(answer), complete=True)
            self.said.emit(said("Exported “{name}”.").format(name=Path(answer.paths[0]).name))
        elif isinstance(answer, Failed):
            dialog.show_end(answer.sentence, complete=False)

    def _lost(self) -> None:
        if self.dialog is not None and self.dialog.running:
            self.dialog.show_end(
                said("The export stopped unexpectedly; nothing was written."), complete=False
            )


def _told(written: Written) -> str:
    names = ", ".join(f"“{Path(p).name}”" for p in written.paths)
    sentences = [
        said("Written: {names}.").format(names=names),
        *amiss(written.overs, written.repaired, written.guarded),
    ]
    if written.dithered:
        sentences.append(said("With TPDF dither."))
    return " ".join(sentences)
