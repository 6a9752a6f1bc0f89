"""What all parts of the window show: the tree as it is, what was measured, what the player says as it plays."""

from typing import TYPE_CHECKING

from stonekite import commands
from stonekite.desktop.links.measuring import overview
from stonekite.desktop.pictures.turn import turn
from stonekite.engine.offline.render import open_source
from stonekite.files.audio import AudioError
from stonekite.measure.overview import sketch
from stonekite.processes.jobs import Analysed
from stonekite.session import tree
from stonekite.session.differences import names_of
from stonekite.session.types import LEGS, Leg, Strip
from stonekite.words import clock, figure, said

if TYPE_CHECKING:
    from stonekite.desktop.shell.window import Window


class Showing:
    """Keeps what the window shows in step with what there is. `view` is what the middle shows, `measured` what was
    found out about the whole recording last; None while nothing was.
    """

    def __init__(self, window: "Window") -> None:
        self._window = window
        window.riding.moved_on.connect(self.follow_rides)
        self.view = "stage"
        self.measured: Analysed | None = None
        self._guarded = 0
        self._left_out = 0

    def follow_rides(self) -> None:
        """What rides stands elsewhere: the open part shows it there."""
        window = self._window
        for row in window.leg_rows.values():
            row.refresh()
        window.grips.refresh()
        if self.view == "stage" and window.stages.stage is not None and window.stages.stage.rides:
            window.panel.refresh()
        elif self.view == "spur" and window.spurs.spur is not None and window.spurs.spur.rides:
            window.spur_view.refresh()
        elif self.view == "output" and window.document.strip.output.rides:
            window.output_view.refresh()
        elif self.view == "source" and window.document.strip.intake.rides:
            window.source_view.refresh()

    def forget(self) -> None:
        """Another recording is open: nothing of the one before stays."""
        self.measured = None
        self._guarded = 0
        self._window.kite.show_loudness("", "")

    def sketch_waveform(self) -> None:
        """A first picture at once, from a few looks into the file; the whole follows from the worker, and so does all of
        what strips make: the window computes no sound."""
        source = self._window.document.stem.source
        self._window.timeline.show_other(source.frames / source.rate)
        if source.made is not None:
            return
        try:
            with open_source(source) as reader:
                self._window.timeline.show_before(sketch(reader))
        except AudioError as error:
            self._window.say(str(error))

    def show_loop(self) -> None:
        """The range that is repeated, on the timeline and in words."""
        loop = self._window.document.session.desk.loop
        ends = (loop.start_s, loop.end_s) if loop is not None else None
        self._window.timeline.show_loop(ends)
        self._window.transport_row.show_loop(ends)

    def refresh(self) -> None:
        """Everything that shows the tree as it is now."""
        if not self._window.document.is_open:
            return
        self._window.mixing.fit(self.view == "mix")
        stem, strip = self._window.document.stem, self._window.document.strip
        source = stem.source
        length = source.frames / source.rate
        channels = "mono" if self._window.opening.mono else f"{source.rate / 1000:g} kHz"
        self._window.kite.show_strip(
            strip, (stem.name, f"{clock(length, 0)} · {channels}"), (self._result_words(), self._peak_words())
        )
        if self.view == "spur" and self._window.spurs.spur is None:
            self.view = "stage"
        self._window.kite.choose(
            *(self._window.stages.chosen or (None,) if self.view == "stage" else (None,))
        )
        self._window.kite.choose_spur(self._window.spurs.chosen if self.view == "spur" else 0)
        self._window.kite.mark(self.view)
        self._window.timeline.show_split(strip.split)
        # Inside a stage of a spur the map shows nothing that the legs' levels belong to.
        inside = self._window.kite.inside
        of_spur = bool(inside) and tree.find(strip, inside)[0][0] == "spurs"
        for row in self._window.leg_rows.values():
            row.setEnabled(True)
            row.setVisible(not of_spur)
            row.refresh()
        key = (strip.split.mode, strip.split.matrix if strip.split.mode == "mid-side" else "")
        self._window.menus.split_actions[key].setChecked(True)
        self._window.transport_row.show_length(length)
        self._refresh_stage()

    def _refresh_stage(self) -> None:
        stage = self._window.stages.stage
        for action in self._window.menus.needing("stage"):
            action.setEnabled(stage is not None)
        self._window.learning.refresh()
        if self.view == "compare":
            self._window.compare_view.refresh()
        elif self.view == "source":
            self._window.source_view.refresh()
            self._window.middle.setCurrentWidget(self._window.source_view)
        elif self.view == "output":
            self._window.output_view.refresh()
            self._window.middle.setCurrentWidget(self._window.output_view)
        elif self.view == "spur":
            self._window.spur_view.refresh()
            self._window.middle.setCurrentWidget(self._window.spur_view)
        elif stage is None:
            strip = self._window.document.strip
            self._window.empty_view.show_no_stage((strip.upper, strip.lower) == (Leg(), Leg()))
            self._window.middle.setCurrentWidget(self._window.empty_view)
        else:
            self._window.panel.refresh()
            self._window.middle.setCurrentWidget(self._window.panel)

    def _result_words(self) -> str:
        if self.measured is None:
            return said("measuring…")
        return figure(self.measured.after.get("integrated_lufs"), "LUFS")

    def _peak_words(self) -> str:
        return figure(self.measured.after.get("true_peak_dbtp"), "dBTP") if self.measured is not None else ""

    def show_measured(self, measured: Analysed) -> None:
        """The whole recording has been measured."""
        first = self.measured is None
        self.measured = measured
        if first or measured.repaired:
            self._window.timeline.show_before(overview(measured.before_overview))
        self._window.timeline.show_after(overview(measured.after_overview))
        self._window.listen.show_measured(measured.before, measured.after, stale=False)
        self._window.switching.show_analysed(measured)
        self._window.listen.state.setText(said("whole file, now and unprocessed"))
        self._window.source_view.show_findings(measured.findings)
        self._window.panel.show_changes(measured.changes)
        split = self._window.document.strip.split
        levels = [measured.after["components"][split.component(leg)]["rms_dbfs"] for leg in LEGS]
        self._window.kite.show_loudness(*(figure(level, "dBFS") for level in levels))
        self._window.document.keep_levels(measured.changes)
        if measured.repaired:
            self._window.say(
                said("{repaired} damaged samples of the recording are played as silence.").format(
                    repaired=measured.repaired
                )
            )
        self.refresh()

    def show_stale(self) -> None:
        """What was measured is not what is there now."""
        self._window.listen.state.setText(said("measuring…"))
        if self.measured is not None:
            self._window.listen.show_measured(self.measured.before, self.measured.after, stale=True)

    def tick(self) -> None:
        """Thirty times a second: position, meters and spectra.

        While an edit is being painted two looks may be left out; what keeps a history gets the next one for them.
        """
        if not self._window.document.is_open or self._window.blind_testing.running:
            return
        if turn.busy and self._left_out < 2:
            self._left_out += 1
            return
        looks, self._left_out = self._left_out + 1, 0
        status = self._window.transport.status
        position = self._window.transport.position_s
        self._window.timeline.show_position(position)
        if self._window.transport.playing:
            self._window.timeline.follow()
        self._window.transport_row.show_position(position, self._window.transport.playing)
        self._window.riding.tick(position)
        self._window.passing.show_position(position)
        self._window.sections.tick()
        if self._window.stages.branch == tree.LEGS_BRANCH:  # of a spur the player tells other levels
            self._window.kite.show_levels(float(status["leg_levels"][2]), float(status["leg_levels"][3]))
        if self._window.middle.currentWidget() is self._window.panel:
            for _ in range(looks):
                self._window.panel.show_live(status)
        elif self._window.middle.currentWidget() is self._window.output_view and status["playing"]:
            self._window.output_view.show_ceiling(float(status["ceiling"]))
        self._window.listen.show_live(status)
        self._tell_guarded(int(status["guarded"]))
        self._window.engine.refresh()

    def _tell_guarded(self, stage: int) -> None:
        """Say once that a stage was silenced by its guard."""
        if stage == self._guarded:
            return
        self._guarded = stage
        if stage and (name := names_of(self._window.document.strip).get(stage)):
            self._window.say(
                said(
                    "{name} got louder than +12 dBFS and was made silent. It sounds again when playing starts anew; "
                    "less feedback keeps it going."
                ).format(name=name)
            )

    def show_names(self) -> None:
        """Name and state of the session, in the bar and the menus."""
        if self._window.blind_testing.running:
            return
        mark = " •" if self._window.document.modified else ""
        self._window.menus.title.setText(f"{self._window.document.name}{mark}")
        self._window.setWindowTitle(f"{self._window.document.name}{mark} – Stone Kite")
        undo, redo = self._window.document.next_undo, self._window.document.next_redo
        for id, words in (("undo", undo), ("redo", redo)):
            action = self._window.menus.actions_by_id[id]
            name = commands.BY_ID[id].words
            action.setText(f"{name}: {words}" if words else name)
            action.setEnabled(words is not None)
        for action in self._window.menus.needing("session"):
            action.setEnabled(self._window.document.is_open)

    def show_empty(self) -> None:
        """Nothing is open yet."""
        window = self._window
        window.setWindowTitle("Stone Kite")
        window.middle.setCurrentWidget(window.empty_view)
        window.kite.show_strip(Strip(), (said("nothing open"), ""), ("", ""))
        for row in window.leg_rows.values():
            row.setEnabled(False)
        self.show_names()
        for action in window.menus.needing("stage"):
            action.setEnabled(False)
