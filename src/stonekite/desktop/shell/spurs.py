"""Spurs in the window: adding, opening and removing them, aligning them, and bringing paths to equal loudness."""

from functools import partial
from typing import TYPE_CHECKING, Any

import msgspec
from PySide6.QtCore import QObject, QPoint, QPointF, Signal
from PySide6.QtWidgets import QCheckBox, QDialog, QDialogButtonBox, QMenu, QVBoxLayout

from stonekite.desktop.controls.plain import Label
from stonekite.desktop.shell.learning import LONGEST_S
from stonekite.desktop.shell.menus import fill_with_kinds
from stonekite.processes.jobs import Align, Aligned, Answer, HasLearned, Learn, MeasurePaths, PathsMeasured
from stonekite.session import edits, tree, wide
from stonekite.session.mix import places
from stonekite.session.spur import Spur
from stonekite.session.types import LEGS
from stonekite.stages.amp import Learned
from stonekite.stages.settings import settings_of
from stonekite.words import NAMES, figure, said

if TYPE_CHECKING:
    from stonekite.desktop.shell.window import Window


class PathsDialog(QDialog):
    """Asks which legs and spurs are to be equally loud."""

    def __init__(self, paths: dict[int | str, str], chosen: set[int | str], parent: Any) -> None:
        super().__init__(parent)
        self.setWindowTitle(said("Match levels"))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(20, 18, 20, 16)
        layout.setSpacing(8)
        layout.addWidget(Label(said("Bring to the loudness of the loudest of them, each heard alone:")))
        self.boxes: dict[int | str, QCheckBox] = {}
        for path, name in paths.items():
            box = self.boxes[path] = QCheckBox(name)
            box.setChecked(path in chosen)
            layout.addWidget(box)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Cancel)
        self.go = buttons.addButton(said("Match"), QDialogButtonBox.ButtonRole.AcceptRole)
        self.go.setDefault(True)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        layout.addWidget(buttons)

    @property
    def chosen(self) -> list[int | str]:
        return [path for path, box in self.boxes.items() if box.isChecked()]


class Spurring(QObject):
    """What menus, the map and the spur's view wish of spurs."""

    said = Signal(str)

    def __init__(self, window: "Window") -> None:
        super().__init__(window)
        self._window = window
        self._actions = window.spurs
        self.dialog: PathsDialog | None = None
        kite, view = window.kite, window.spur_view
        kite.spur_chosen.connect(self._actions.choose)
        kite.spur_asked.connect(self.ask)
        kite.spur_removed.connect(self._actions.remove)
        kite.spur_menu_asked.connect(self._menu)
        view.add_asked.connect(self._ask_stage)
        view.align_asked.connect(self.align)
        view.match_asked.connect(self.ask_match)
        view.refused.connect(self.said)
        self._actions.said.connect(self.said)
        view.without_asked.connect(self.hear_without)
        self._actions.chosen_changed.connect(lambda: self.hear_without(False))
        window.stages.chosen_changed.connect(lambda: window.spur_view.without.setChecked(False))
        window.document.changed.connect(self._measure_again)

    def ask(self) -> None:
        """Where a new spur is to come from."""
        window = self._window
        if not window.document.is_open:
            return
        menu = self.popup = QMenu(window)
        menu.setAccessibleName(said("New spur"))
        heading = menu.addAction(said("A spur from"))
        heading.setEnabled(False)
        split = window.document.strip.split
        legs = [split.component(leg) for leg in LEGS]
        words = settings_of(Spur)["source"].words or {}
        for source in [*legs, *(name for name in words if name not in legs)]:
            menu.addAction(words[source], partial(self._actions.add_from, source))
        menu.addSeparator()
        menu.addAction(said("Press a copy\tboth legs compressed, to be eased in"), self._actions.press_copy)
        three = menu.addMenu(said("Three amps wide, from"))
        for source in [*legs, *(name for name in words if name not in (*legs, "both"))]:
            three.addAction(words[source], partial(self.three_amps, source))
        menu.popup(window.kite.mapToGlobal(window.kite.new_spur_centre().toPoint()))

    def three_amps(self, source: Any) -> None:
        """Three amplifiers from a component, as loud as each other, and the legs down: measured first, then one step."""
        document = self._window.document
        before = document.session
        try:
            session, numbers = wide.three_amps(before, document.holder, source)
        except ValueError as error:
            self.said.emit(str(error))
            return
        errands = self._window.errands
        place, holder = document.place, document.holder
        first = tree.strip_at(session, holder).spur(numbers[0]).branch.stages[0]
        seconds = document.stem.source.frames / document.stem.source.rate
        loop = document.desk.loop
        start, end = (0.0, min(LONGEST_S, seconds)) if loop is None else (loop.start_s, loop.end_s)

        def level(answer: Answer) -> None:
            if not isinstance(answer, HasLearned):
                return
            learned = msgspec.convert(answer.learned, Learned)
            heard = wide.with_learned(session, holder, numbers, learned)
            stem = places.as_stem(heard.sound, place)

            def finish(answer: Answer) -> None:
                if not isinstance(answer, PathsMeasured) or document.session is not before:
                    return
                known: dict[int | str, float] = {
                    n: loud for n, loud in zip(numbers, answer.loudness, strict=True) if loud is not None
                }
                strip = edits.levelled(stem.strip, known) if known else stem.strip
                document.edit(edits.put(heard, ("sound", *holder, "strip"), strip), said("Three amps wide"))
                self._actions.choose(numbers[0])
                words = (
                    said("{max:.1f} LUFS each; the legs are down").format(max=max(known.values()))
                    if known
                    else said("all silent")
                )
                self.said.emit(f"Three amplifiers: {words}.".replace("-", "−"))

            paths: list[int | str] = [*numbers]
            errands.send(lambda n: MeasurePaths(n, stem, paths), said("Measuring three amplifiers"), finish)

        stem = places.as_stem(session.sound, place)
        errands.send(lambda n: Learn(n, stem, first.id, start, end), said("Measuring the level"), level)

    def _menu(self, number: int, place: QPointF) -> None:
        actions = self._actions
        spur = self._window.document.strip.spur(number)
        actions.choose(number)
        menu = self.popup = QMenu(self._window)
        menu.addAction(
            said("Not muted") if spur.muted else said("Mute"), lambda: actions.put("muted", not spur.muted)
        )
        menu.addAction(
            said("Not alone") if spur.alone else said("Alone"), lambda: actions.put("alone", not spur.alone)
        )
        menu.addAction(said("Align to leg"), lambda: self.align(number))
        menu.addAction(said("Match levels…"), self.ask_match)
        menu.addSeparator()
        menu.addAction(said("Remove the spur"), lambda: actions.remove(number))
        menu.popup(QPoint(int(place.x()), int(place.y())))

    def _ask_stage(self, number: int) -> None:
        menu = self.popup = QMenu(self._window)
        fill_with_kinds(menu, lambda tag: self._window.stages.add(tag, "upper", number))
        button = self._window.spur_view.add
        menu.popup(button.mapToGlobal(button.rect().bottomLeft()))

    def align(self, number: int) -> None:
        """Find the delay at which a spur adds best, and use it."""
        window = self._window
        stem = window.document.stem
        spur = stem.strip.spur(number)

        def use(answer: Answer) -> None:
            if isinstance(answer, Aligned) and self._actions.chosen == number:
                self._actions.put("delay_ms", round(answer.delay_ms, 3))
                window.spur_view.show_aligned(spur, answer)

        window.errands.send(
            lambda n: Align(n, stem, number), said("Aligning {name}").format(name=spur.name), use
        )

    def hear_without(self, on: bool) -> None:
        """Hear all but the open spur, as loud as with it: measured behind the window, and until then as it comes."""
        window = self._window
        window.spur_view.without.setChecked(on)
        number = self._actions.chosen if on else 0
        if not number and not window.hearing.spur_out:
            return
        window.hearing.hear_without(number, 0.0)
        if number:
            self._measure_without(number)

    def _measure_without(self, number: int) -> None:
        window = self._window
        stem = window.document.stem

        def use(answer: Answer) -> None:
            if not isinstance(answer, PathsMeasured) or window.hearing.spur_out != number:
                return
            whole, rest = answer.loudness
            if whole is None or rest is None:
                self.said.emit(said("It is silent without this spur: there is nothing to match."))
                return
            window.hearing.hear_without(number, round(whole - rest, 2))
            change = figure(whole - rest, "dB", 2, sign=True)
            self.said.emit(
                said("Without {name}, turned by {change} to be as loud as with it.").format(
                    name=stem.strip.spur(number).name, change=change
                )
            )

        paths: list[int | str] = ["all", f"without {number}"]
        window.errands.send(lambda n: MeasurePaths(n, stem, paths), said("Measuring without the spur"), use)

    def _measure_again(self) -> None:
        """An edit has changed what is heard with and without the spur."""
        number = self._window.hearing.spur_out
        if number and any(spur.id == number for spur in self._window.document.strip.spurs):
            self._measure_without(number)

    def ask_match(self) -> PathsDialog | None:
        """Which paths are to be equally loud."""
        document = self._window.document
        if not document.is_open:
            return None
        split = document.strip.split
        paths: dict[int | str, str] = {leg: f"{NAMES[split.component(leg)]} leg" for leg in LEGS}
        paths |= {spur.id: spur.name for spur in document.strip.spurs}
        dialog = self.dialog = PathsDialog(paths, set(paths), self._window)
        dialog.accepted.connect(lambda: self.match(dialog.chosen))
        dialog.open()
        return dialog

    def match(self, paths: list[int | str]) -> None:
        """Bring paths to equal loudness: measure, then set their levels in one step."""
        if len(paths) < 2:
            self.said.emit(said("Choose at least two paths to match."))
            return
        stem = self._window.document.stem

        def use(answer: Answer) -> None:
            if not isinstance(answer, PathsMeasured):
                return
            known = {p: level for p, level in zip(paths, answer.loudness, strict=True) if level is not None}
            if len(known) < 2:
                self.said.emit(said("All but one of them are silent: there is nothing to match."))
                return
            self._actions.level_paths(known, said("Levels matched"))
            self.said.emit(
                f"{len(known)} paths brought to {max(known.values()):.1f} LUFS each.".replace("-", "−")
            )

        self._window.errands.send(lambda n: MeasurePaths(n, stem, paths), said("Measuring paths"), use)
