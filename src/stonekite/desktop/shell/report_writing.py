"""What is compared, written to a page or its table to a file."""

from pathlib import Path

from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QFileDialog, QWidget

from stonekite.desktop.model.document import Document
from stonekite.desktop.views.compare_view import CompareView
from stonekite.desktop.views.switching import Switching
from stonekite.files.audio import AudioError
from stonekite.reports.making import of_session, write
from stonekite.words import said


class ReportWriting(QObject):
    """Asks where to and writes. `said` has words, `complained` what must be seen."""

    said = Signal(str)
    complained = Signal(str)

    def __init__(self, window: QWidget, document: Document, view: CompareView, switching: Switching) -> None:
        super().__init__(window)
        self._window, self._document, self._view, self._switching = window, document, view, switching

    def ask(self) -> None:
        names = self._view.keys()
        before, after = self._view.before, self._view.after
        order = [before, after, *(key for key in names if key not in (before, after))]
        known = {key: self._switching.figures(key) for key in order}
        if known[before] is None or known[after] is None:
            self.complained.emit(said("The figures are still being measured: try again in a moment."))
            return
        columns = [(names[key], found) for key, found in known.items() if found is not None]
        name, _ = QFileDialog.getSaveFileName(
            self._window,
            said("Report"),
            f"{self._document.stem.name} report.html",
            said("Page (*.html);;Table (*.csv *.json)"),
        )
        if not name:
            return
        about = [f"{self._document.name}, {self._view.words.text()}"]
        try:
            write(of_session(self._document.session, self._document.place, columns, about), Path(name))
        except AudioError as error:
            self.complained.emit(str(error))
        else:
            self.said.emit(said("Written: {name}").format(name=name))
            self._view.words.setText(said("Written: {name}").format(name=Path(name).name))
