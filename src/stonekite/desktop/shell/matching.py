"""A starting curve for an EQ: asked for, measured behind the window, put into the leg in front."""

from pathlib import Path

import numpy as np
from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QFileDialog, QWidget

from stonekite.desktop.dialogs.questions import Question
from stonekite.desktop.links.errands import Errands
from stonekite.desktop.model import preferences
from stonekite.desktop.model.document import Document, session_of
from stonekite.desktop.model.stage_actions import StageActions
from stonekite.files.audio import READABLE, AudioError
from stonekite.measure.spectrum import centres
from stonekite.processes.jobs import Answer, Spectra, SpectraFound
from stonekite.session.edits import other
from stonekite.session.types import LEGS, Source
from stonekite.stages.eq import Band
from stonekite.stages.eq.match import matching_bands
from stonekite.words import NAMES, said


class Matching(QObject):
    """`found` gives the bands and words for undo."""

    found = Signal(object, str)
    said = Signal(str)

    def __init__(self, window: QWidget, document: Document, actions: StageActions, errands: Errands) -> None:
        super().__init__(window)
        self._window, self._document, self._actions, self._errands = window, document, actions, errands
        self.dialog: Question | None = None

    def _name(self, leg) -> str:
        return NAMES[self._document.strip.split.component(leg)]

    def ask(self) -> Question | None:
        """Show the question (modal to the window, not blocking)."""
        if self._actions.chosen is None:
            return None
        leg = self._actions.chosen[1]
        words = said("Bands for {leg} whose curve brings its long-term spectrum to that of:").format(
            leg=self._name(leg)
        )
        answers = {"other": f"{self._name(other(leg))}", "reference": said("A reference recording…")}
        dialog = self.dialog = Question(said("Match"), words, answers, said("Find a curve"), self._window)
        dialog.accepted.connect(lambda: self._choose(dialog.answer))
        dialog.open()
        return dialog

    def _choose(self, answer: str) -> None:
        if answer == "other":
            self.start(None)
            return
        pattern = said("Audio ({names})").format(names=" ".join("*" + s for s in READABLE))
        name, _ = QFileDialog.getOpenFileName(
            self._window, said("Reference"), preferences.last_folder(), pattern
        )
        if name:
            try:
                self.start(session_of(Path(name))[0].sound.stems[0].source)
            except AudioError as error:
                self.said.emit(str(error))

    def start(self, reference: Source | None) -> None:
        """Measure, then offer the bands."""
        if self._actions.chosen is None:
            return
        stage, leg = self._actions.chosen
        stem = self._document.stem
        self._errands.send(
            lambda number: Spectra(number, stem, stage, reference),
            said("Comparing spectra"),
            lambda answer: self._offer(answer, stage, leg, stem.source.rate),
        )

    def _offer(self, answer: Answer, stage: int, leg, rate: int) -> None:
        if not isinstance(answer, SpectraFound) or self._actions.chosen != (stage, leg):
            return
        row = LEGS.index(leg)
        is_db = np.array(answer.legs[row])
        should = answer.reference[row] if answer.reference is not None else answer.legs[1 - row]
        if max(is_db.max(), max(should)) <= -149 or is_db.max() <= -149 or max(should) <= -149:
            self.said.emit(said("One of them is silent: there is nothing to compare."))
            return
        bands: tuple[Band, ...] = matching_bands(is_db, np.array(should), centres(), rate)
        target = said("the reference") if answer.reference is not None else self._name(other(leg))
        self.found.emit(
            bands,
            said("{leg} EQ: starting curve towards {target}").format(leg=self._name(leg), target=target),
        )
        self.said.emit(
            said("{bands} bands bring {leg} towards {target}; go on from there.").format(
                bands=len(bands), leg=self._name(leg), target=target
            )
        )
