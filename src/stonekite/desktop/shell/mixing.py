"""Several strips in the window: the view of the mix, the bar that says which is open, and how they come in."""

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject
from PySide6.QtWidgets import QFileDialog, QVBoxLayout

from stonekite.desktop.dialogs.fit_dialog import FitDialog
from stonekite.desktop.dialogs.parallel_dialog import ParallelDialog
from stonekite.desktop.dialogs.time_dialog import TimeDialog
from stonekite.desktop.links.keeping import Keeper
from stonekite.desktop.links.overviews import Overviews
from stonekite.desktop.model import preferences
from stonekite.desktop.model.mix_actions import MixActions, recordings_in
from stonekite.desktop.views.mix_view import MixView
from stonekite.desktop.views.span_cell import Stretch
from stonekite.desktop.views.strip_bar import StripBar
from stonekite.engine.offline.fitting import free_beside
from stonekite.files.audio import READABLE
from stonekite.processes.jobs import Analysed, Answer, FindTempo, Fit, Fitted, TempoFound
from stonekite.session import tree
from stonekite.session.keeping.gathering import ARCHIVE
from stonekite.session.mix import places
from stonekite.session.mix.places import name_of
from stonekite.session.mix.spans import span_of
from stonekite.session.storage import SUFFIX
from stonekite.session.types import MIX, Stem
from stonekite.words import figure, said

if TYPE_CHECKING:
    from stonekite.desktop.shell.window import Window


class Mixing(QObject):
    """Keeps the strips of a window in step with its document."""

    def __init__(self, window: "Window") -> None:
        super().__init__(window)
        self._window = window
        document = window.document
        self.actions = MixActions(document, self)
        self.view = MixView(document, self.actions, lambda: window.transport.position_s)
        self.bar = StripBar(document)
        self.keeper = Keeper(document, window.workers, self)
        self.keeper.on = preferences.load().keeps
        self.keeper.changed.connect(self._kept)
        window.transport.kept_of = self.keeper.kept_of
        window.transport.lost.connect(self.keeper.lost)
        self.overviews = Overviews(window.workers, self)
        self.overviews.come.connect(self.view.refresh)
        self.view.overview_of = self.overviews.of
        self.view.times_shown.connect(self._want_overviews)
        self.view.seek_asked.connect(lambda seconds: window.transport.seek(int(seconds * window.rate)))
        self._told_db: float | None = None
        self.bar.hide()
        self.view.hide()
        layout = window.work.layout()
        assert isinstance(layout, QVBoxLayout)
        layout.insertWidget(0, self.bar)
        layout.insertWidget(1, self.view, 9)
        document.opened.connect(self._opened)
        document.placed.connect(self._placed)
        document.changed.connect(self.refresh)
        self.actions.said.connect(window.say)
        self.view.opened.connect(self.show_kite)
        self.view.add_asked.connect(self.ask_add)
        self.view.without_asked.connect(self.hear_without)
        window.switching.measured.connect(self._matched)
        self.view.parallel_asked.connect(self.ask_parallel)
        self.view.fit_asked.connect(self.ask_fit)
        self.view.time_asked.connect(self.ask_time)
        window.opening.several_opened.connect(lambda: window.show_view("mix"))
        self.bar.resized.connect(window.fit_timeline)
        self.bar.mix_asked.connect(lambda: window.show_view("mix"))
        self.bar.way_chosen.connect(self.hear_in_the_mix)
        window.transport.ticked.connect(self._look)
        window.measuring.measured.connect(self._show_figures)
        document.edited.connect(lambda: self.view.show_result(""))

    # What is open

    def _opened(self) -> None:
        several = len(self._window.document.session.sound.stems) > 1
        self._window.switching.in_the_mix = several
        self._window.switching.left_out = self.view.left_out = 0
        self.view.chosen = set()
        self.view.show_result("")
        self.refresh()

    def _placed(self) -> None:
        """Another strip is open: what is known of the one before does not hold for it."""
        window = self._window
        document = window.document
        stem = document.stem
        window.showing.forget()
        window.listen.show_measured(None, None, stale=True)
        window.measuring.forget()
        window.timeline.show_other(stem.source.frames / stem.source.rate)
        window.switching.show_analysed(None)
        window.source_view.show_findings(None)
        window.panel.show_changes({})
        first = next((stage for _, stage in tree.walk(document.strip)), None)
        window.stages.chosen = (first.id, "upper") if first is not None else None
        window.spurs.chosen = 0
        window.kite.enter(0)
        if window.showing.view not in ("mix", "compare"):
            window.showing.view = "stage"
        if document.place not in self.view.chosen:
            self.view.chosen = {document.place}

    def refresh(self) -> None:
        """Show the strips of now."""
        if self._window.document.is_open:
            self.bar.refresh(self._window.switching.in_the_mix)
            if self.view.isVisibleTo(self._window.work):
                self.bar.hide()
                kept = self.keeper.kept_of(self._window.document.session.sound)
                self.view.kept = {one.strip for one in kept}
                self._want_overviews()
            self.view.refresh()

    def _kept(self) -> None:
        """More or less is kept: it is played, and shown."""
        if self._window.document.is_open:
            self._window.hearing.send()
        self.refresh()

    def fit(self, on: bool) -> None:
        """Show the mix in place of the map and the editors, or these."""
        if on == self.view.isVisibleTo(self._window.work):
            return
        self.view.setVisible(on)
        map_panel = self._window.kite_room.parentWidget()
        assert map_panel is not None
        for part in (map_panel, self._window.middle):
            part.setVisible(not on)
        self._window.transport.meter(on)
        self.refresh()

    def _look(self) -> None:
        if self.view.isVisible():
            self.view.take_peaks(self._window.transport.status["strips"])
            if self.view.times.isChecked() and self._window.document.is_open:
                self.view.look(self._stretch(), self._window.transport.position_s)

    def _stretch(self) -> Stretch:
        """What of the timeline is in view, and where ends of stems can go."""
        sound, desk = self._window.document.session.sound, self._window.document.session.desk
        ends = [(stem.id, time) for stem in sound.stems for time in (stem.start_s, span_of(stem).end_s)]
        marks = [(0, time) for one in desk.sections for time in (one.start_s, one.end_s)]
        return Stretch(*self._window.timeline.view, places.timeline(sound)[0], (*ends, *marks), sound.tempo)

    def _want_overviews(self) -> None:
        if self.view.times.isChecked() and self._window.document.is_open:
            self.overviews.want([stem.source for stem in self._window.document.session.sound.stems])

    def _show_figures(self, measured: Analysed) -> None:
        if self._window.document.is_open and self._window.document.place == MIX:
            loud = figure(measured.after.get("integrated_lufs"), "LUFS")
            self.view.show_result(f"{loud} · {figure(measured.after.get('true_peak_dbtp'), 'dBTP')}")

    def show_kite(self, number: int) -> None:
        """Open a strip in the map and the editors."""
        self._window.document.go_to(number)
        self._window.show_view("stage")

    def hear_in_the_mix(self, on: bool) -> None:
        """Hear what is open with all that is beside it, or by itself."""
        self._window.switching.in_the_mix = on
        if self._window.document.is_open:
            self._window.switching.refresh()
            self._window.hearing.send(self._window.listen.listening)
            self.bar.refresh(on)

    def hear_without(self, number: int) -> None:
        """Hear the mix without a stem or a bus, as loud as with it; 0: with all of it again."""
        window = self._window
        window.switching.left_out = self.view.left_out = number
        window.switching.refresh()
        window.hearing.send(window.listen.listening)
        self._told_db = None
        self.view.refresh()
        self._matched()

    def _matched(self) -> None:
        """It may be known by now how loud the mix is without what is left out."""
        switching = self._window.switching
        self.view.left_out = switching.left_out
        change = switching.left_out_db if switching.left_out else None
        if change is None or change == self._told_db:
            return
        self._told_db = change
        self._window.hearing.send(self._window.listen.listening)
        name = name_of(tree.holder(self._window.document.session.sound, switching.left_out))
        turned = figure(change, "dB", 2, sign=True)
        self._window.say(
            said("The mix without {name}, turned by {change} to be as loud as with it.").format(
                name=name, change=turned
            )
        )

    # What comes in

    def ask_add(self) -> None:
        """Choose recordings to have beside those that are there."""
        pattern = said("Audio ({names})").format(names=" ".join("*" + suffix for suffix in READABLE))
        names, _ = QFileDialog.getOpenFileNames(
            self._window, said("Add stems"), preferences.last_folder(), pattern
        )
        if names:
            preferences.note_folder(Path(names[0]))
            self.actions.add(Path(name) for name in names)

    def open_paths(self, paths: list[Path]) -> None:
        """Open what was dropped on the window or named at its start: beside what is there if the mix is shown; otherwise
        one file as it is, several recordings or a folder of them as a new session with a stem for each."""
        window = self._window
        session_like = any(path.suffix.lower() in (SUFFIX, ARCHIVE) for path in paths)
        if window.pairs.take_dropped(paths):
            return
        if self.view.isVisible() and not session_like:
            self.actions.add(paths)
        elif window.opening.may_leave():
            found = paths[:1] if session_like else recordings_in(paths)
            if not found:
                window.say(said("There is no recording in this folder."))
                return
            window.opening.open_path(found[0])
            document = window.document
            if len(found) > 1 and document.is_open and Path(document.stem.source.path).name == found[0].name:
                self.actions.add(found[1:])
                window.switching.in_the_mix = True
                window.show_view("mix")

    def ask_time(self, number: int) -> TimeDialog:
        """When a stem is heard (modal to the window, not blocking): heard at once, and taken back if it is not wanted."""
        stem = tree.holder(self._window.document.session.sound, number)
        assert isinstance(stem, Stem)
        dialog, token = TimeDialog(stem, self._window), object()
        dialog.moved.connect(lambda times, _: self.actions.put_time(number, token, stem, **times))
        before = {"start_s": stem.start_s, "from_s": stem.from_s, "length_s": stem.length_s}
        dialog.rejected.connect(lambda: self.actions.put_time(number, token, stem, **before))
        dialog.open()
        return dialog

    def ask_fit(self, number: int) -> FitDialog:
        """To which tempo a stem is fitted (modal to the window, not blocking)."""
        sound = self._window.document.session.sound
        stem = tree.holder(sound, number)
        assert isinstance(stem, Stem)
        dialog = FitDialog(stem, sound.tempo, self._window)

        def use(answer: Answer) -> None:
            if isinstance(answer, TempoFound):
                dialog.show_found(answer.bpm, answer.first_beat_s)

        dialog.find_asked.connect(
            lambda: self._window.errands.send(
                lambda n: FindTempo(n, stem.source), said("Finding the tempo"), use
            )
        )
        dialog.accepted.connect(lambda: self._fit(stem, dialog.speed, dialog.beat_s))
        dialog.open()
        return dialog

    def _fit(self, stem: Stem, speed: float, beat_s: float) -> None:
        path = free_beside(Path(stem.source.path), said("fitted {share}").format(share=f"{100 * speed:.1f}"))

        def use(answer: Answer) -> None:
            sound = self._window.document.session.sound
            if isinstance(answer, Fitted) and any(one.id == stem.id for one in sound.stems):
                self.actions.fit(stem.id, path, speed, beat_s)

        self._window.errands.send(
            lambda n: Fit(n, stem.source, speed, str(path)),
            said("Fitting {name}").format(name=stem.name),
            use,
        )

    def ask_parallel(self) -> ParallelDialog:
        """A bus beside the mix (modal to the window, not blocking)."""
        dialog = ParallelDialog(self._window.document.session.sound, self.view.chosen, self._window)
        dialog.accepted.connect(lambda: self._add_parallel(dialog))
        dialog.open()
        return dialog

    def _add_parallel(self, dialog: ParallelDialog) -> None:
        number = self.actions.add_parallel(dialog.stems, dialog.start)
        if number:
            self._window.document.go_to(number)
