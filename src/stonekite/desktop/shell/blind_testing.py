"""Puts the blind test in place of everything else in the window, and everything back after it."""

from typing import TYPE_CHECKING

from PySide6.QtCore import QObject

from stonekite.desktop.views.blind_view import BlindView
from stonekite.reports.making import verdict
from stonekite.session.types import BlindTest
from stonekite.words import said

if TYPE_CHECKING:
    from stonekite.desktop.shell.window import Window


class BlindTesting(QObject):
    """Runs blind tests of a window. While `running`, the window shows no figures."""

    def __init__(self, window: "Window") -> None:
        super().__init__(window)
        self._window = window
        self.running = False
        self._disabled: list[QObject] = []
        self.view = BlindView(window.compare_view.keys, window.switching.loudness, self._earlier)
        window.pages.addWidget(self.view)
        self.view.hear_asked.connect(self._hear)
        self.view.begun.connect(self._begin)
        self.view.ended.connect(self._end)
        self.view.kept.connect(self._keep)
        self.view.play_asked.connect(window.hearing.toggle_play)
        self.view.left.connect(self._leave)
        window.pages.currentChanged.connect(self._look)
        window.switching.measured.connect(self.view.refresh)

    def _earlier(self) -> list[str]:
        """The results that the session keeps, in words."""
        return [verdict(test) for test in self._window.document.session.desk.blind_tests]

    def ask(self) -> None:
        """Ask what is to be tested: what is compared, if nothing else is chosen."""
        window = self._window
        if not window.document.is_open:
            return
        # Levels have to be known for all of it.
        window.switching.whole_switch = True
        window.switching.refresh()
        loop = window.document.session.desk.loop
        self.view.range_s = None if loop is None else (loop.start_s, loop.end_s)
        window.pages.setCurrentWidget(self.view)
        self.view.open(window.compare_view.after, window.compare_view.before)

    def _begin(self) -> None:
        """Hide all that could tell, and take the keys away that switch."""
        window = self._window
        window.timing.slow.end()
        self.running = window.hearing.handed_over = True
        window.listen.hide()
        window.menus.hide()
        window.setWindowTitle(said("Blind test – Stone Kite"))
        for keyed in window.menus.keyed():
            if keyed.isEnabled():
                keyed.setEnabled(False)
                self._disabled.append(keyed)
        if not window.transport.playing:
            window.transport.play()

    def _hear(self, key: str) -> None:
        """Switch, past the listen panel, which is not to know."""
        window, switching = self._window, self._window.switching
        both = {
            k: v
            for k, v in switching.loudness().items()
            if k in (self.view.first.value, self.view.second.value)
        }
        sound, heard, listening = switching.listening_to(key, both)
        self.view.gains[key] = listening.processed_db
        for chosen in (self.view.first.value, self.view.second.value):
            if chosen.startswith("reference"):
                window.transport.refer(*switching.reference_frames(int(chosen.split()[1])))
        now, place = window.document.session.sound, window.document.place
        window.transport.update(sound, heard, place, switching.beside(now, sound) or (now,), listening)

    def _end(self) -> None:
        window = self._window
        self.running = window.hearing.handed_over = False
        for keyed in self._disabled:
            keyed.setEnabled(True)  # type: ignore[attr-defined]
        self._disabled.clear()
        window.menus.show()
        window.listen.show()
        window.showing.show_names()
        window.listen.choose("processed")

    def _look(self) -> None:
        """Whatever shows another page, a file dropped on the window or an answer that comes late, ends the test."""
        if self.running and self._window.pages.currentWidget() is not self.view:
            self.view.give_up()
            self._window.say(said("The blind test was ended: something else was opened."))

    def _leave(self) -> None:
        self._window.switching.whole_switch = False
        self._window.show_view("compare")

    def _keep(self, test: BlindTest) -> None:
        self._window.document.add_blind_test(test)
