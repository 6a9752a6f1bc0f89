"""The listen panel: what the ears get, and the figures before and now."""

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QVBoxLayout,
    QWidget,
)

from stonekite.desktop.controls.choices import Toggle
from stonekite.desktop.controls.fields import ValueField
from stonekite.desktop.controls.keyed import hint, keyed
from stonekite.desktop.controls.plain import Label
from stonekite.desktop.controls.theme import roles
from stonekite.desktop.pictures.scope import Scope
from stonekite.desktop.views.listen_parts import Bar, Chips, Choice, Figure
from stonekite.engine.play.listen import Component, Listening, matched_db
from stonekite.session.types import Session
from stonekite.stages.settings import Setting
from stonekite.words import LETTERS, NAMES, figure, said

_CHOICES = (
    ("processed", said("Processed"), said("The result")),
    ("unprocessed", said("Unprocessed"), said("The recording as it came, level-matched")),
    (
        "difference",
        said("Difference"),
        said("Processed minus unprocessed: what the processing adds and takes away"),
    ),
)
_RAISED = Setting(
    label=said("Raised by"),
    unit="dB",
    low=0.0,
    high=48.0,
    step=3.0,
    default=0.0,
    help=said("Gain that makes a quiet difference audible"),
)


def _place(stands: float, moves: float) -> str:
    """Where an image stands and how far it moves, in words."""
    if stands != stands:
        return "–"
    if abs(stands) < 0.5:
        return f"0 ±{moves:.0f}"
    words = said("{place:.0f} left ±{moves:.0f}") if stands < 0 else said("{place:.0f} right ±{moves:.0f}")
    return words.format(place=abs(stands), moves=moves)


class ListenPanel(QFrame):
    """Chooses what is heard; `chosen` gives a Listening. `keep_asked` and `reference_asked` are wishes for more."""

    chosen = Signal(object)
    keep_asked = Signal()
    reference_asked = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("panel")
        self.setFixedWidth(232)
        self._what = "processed"
        self._turned = False
        self._only: Component | None = None
        self.version: int | None = None
        self.reference: int | None = None
        self.loudness: dict[str, float | None] = {}
        self.choices = {}
        title = Label(said("Listen"))
        title.setObjectName("title")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(14, 10, 14, 10)
        layout.setSpacing(5)
        layout.addWidget(title)
        for what, word, help in _CHOICES:
            button = Choice(what, word, help)
            button.clicked.connect(lambda on, what=what: self.choose(what))
            self.choices[what] = button
            layout.addWidget(button)
        self.choices["processed"].setChecked(True)
        self.raised = ValueField(_RAISED, said("Difference"))
        self.raised.hide()
        self.raised.moved.connect(lambda value, token: self._say())
        layout.addWidget(self.raised)
        self.versions = Chips(said("Versions"), said("Keep"), "")
        keyed(self.versions.add, said("Keep the state now as a version"), "keep")
        self.references = Chips(said("References"), "+", said("A finished recording to compare with"))
        self.versions.chosen.connect(self.choose_version)
        self.references.chosen.connect(self.choose_reference)
        self.versions.add_asked.connect(self.keep_asked)
        self.references.add_asked.connect(self.reference_asked)
        layout.addWidget(self.versions)
        layout.addWidget(self.references)
        self.match = Toggle(
            said("Level-matched"),
            said("Level match"),
            "",
        )
        keyed(
            self.match,
            said(
                "Turn all that can be switched to down to the quietest of it, by integrated loudness of the "
                "loop, or of the whole file without one"
            ),
            "match",
        )
        self.match.setChecked(True)
        self.match.clicked.connect(self._say)
        self.match_gain = Label("–")
        self.match_gain.setAccessibleName(said("Level match gain"))
        row = QHBoxLayout()
        row.addWidget(self.match)
        row.addStretch()
        row.addWidget(self.match_gain)
        layout.addSpacing(3)
        layout.addLayout(row)
        only = QHBoxLayout()
        only.setSpacing(6)
        label = Label(said("Only"))
        label.setObjectName("muted")
        only.addWidget(label)
        only.addStretch()
        self.only = {}
        for name, letter in LETTERS.items():
            more = {"mid": said(": what is left in mono"), "side": said(": what cancels in mono")}.get(
                name, ""
            )
            toggle = Toggle(
                letter,
                said("{name} alone").format(name=NAMES[name]),
                "",
            )
            keyed(
                toggle,
                said("Hear {name} alone, centred in both ears{more}").format(name=NAMES[name], more=more),
                f"{name}-alone",
            )
            toggle.set_colour(roles.component(name))
            toggle.clicked.connect(lambda on, name=name: self.choose_only(name if on else None))
            self.only[name] = toggle
            only.addWidget(toggle)
        layout.addLayout(only)
        self.scope = Scope()
        layout.addWidget(self.scope, 1)
        self.correlation = Figure(
            said("Correlation"), said("Of left and right, over the last 0.4 s, now and unprocessed")
        )
        self.bar = Bar()
        self.centre = Figure(
            said("Centre"),
            said(
                "Where the image stands in the range of a voice, from 100 left to 100 right, and how far that "
                "moved in the last 3 s: now and unprocessed"
            ),
        )
        self.momentary = Figure(
            said("Momentary"), said("Loudness over the last 0.4 s, processed and unprocessed")
        )
        self.figures = {
            "integrated": Figure(
                said("Integrated"), said("Integrated loudness of the whole file (ITU-R BS.1770)")
            ),
            "true_peak": Figure(said("True peak"), said("Greatest level between samples of the whole file")),
            "side_to_mid": Figure(
                said("Side to Mid"), said("Level of Side against Mid over the whole file (RMS)")
            ),
            "mono_loss": Figure(said("Mono loss"), said("Power lost when the result is folded to mono")),
        }
        layout.addWidget(self.correlation)
        layout.addWidget(self.bar)
        layout.addWidget(self.centre)
        layout.addWidget(self.momentary)
        for shown in self.figures.values():
            layout.addWidget(shown)
        self.state = Label("")
        self.state.setObjectName("muted")
        layout.addWidget(self.state)

    @property
    def heard(self) -> str:
        """The key of what is heard: processed, unprocessed, difference, version 1, reference 0 and so on."""
        if self._what == "processed" and self.version is not None:
            return f"version {self.version}"
        if self._what == "reference":
            return f"reference {self.reference}"
        return self._what

    @property
    def listening(self) -> Listening:
        """What is chosen, with the gains that match the levels."""
        gains = self._gains()
        result = "processed" if self.version is None else f"version {self.version}"
        return Listening(
            self._what,  # type: ignore[arg-type]
            self._only,
            gains.get(result, 0.0),
            gains.get("unprocessed", 0.0),
            gains.get(f"reference {self.reference}", 0.0),
            float(self.raised.value),
            self._turned,
        )

    def _gains(self) -> dict[str, float]:
        return matched_db(self.loudness) if self.match.isChecked() else {}

    def show_loudness(self, loudness: dict[str, float | None]) -> None:
        """Integrated loudness of all that can be switched to, by key, as far as it is known."""
        if loudness != self.loudness:
            self.loudness = dict(loudness)
            self._say()

    def show_session(self, session: Session | None) -> None:
        """The versions and references that there are."""
        versions = () if session is None else session.versions
        references = () if session is None else session.desk.references
        if self.version is not None and self.version not in [v.number for v in versions]:
            self.version = None
        if self.reference is not None and self.reference >= len(references):
            self.choose("processed")
        self.versions.show_chips(
            [
                (
                    v.number,
                    str(v.number),
                    said("{name}\nHear it {hint}").format(
                        name=f"{v.name}: {v.note}" if v.note else v.name, hint=hint(f"version-{v.number}")
                    ),
                )
                for v in versions
            ],
            self.version if self._what == "processed" else None,
        )
        self.references.show_chips(
            [
                (
                    k,
                    chr(ord("a") + k),
                    said("{name}\nHear this reference (R goes round)").format(name=reference.name),
                )
                for k, reference in enumerate(references)
            ],
            self.reference if self._what == "reference" else None,
        )

    def choose(self, what: str) -> None:
        """Hear processed (the state now), unprocessed or difference."""
        self._what = what
        self.version = self.reference = None
        self._show_choice()
        self._say()

    def choose_version(self, number: int | None) -> None:
        """Hear a version; None, or the one that is heard: the state now."""
        same = number == self.version and self._what == "processed"
        self._what, self.version, self.reference = "processed", None if same else number, None
        self._show_choice()
        self._say()

    def choose_reference(self, place: int | None) -> None:
        """Hear a reference; None: the state now."""
        if place is None:
            self.choose("processed")
            return
        self._what, self.version, self.reference = "reference", None, place
        self._show_choice()
        self._say()

    def next_reference(self) -> None:
        """Hear the next reference, after the last one the state now."""
        count = len(self.references.chips)
        place = 0 if self.reference is None else self.reference + 1
        self.choose_reference(place if place < count else None)

    def _show_choice(self) -> None:
        for what, button in self.choices.items():
            button.setAutoExclusive(False)
            button.setChecked(what == self._what and self.version is None)
            button.setAutoExclusive(True)
        for key, chip in self.versions.chips.items():
            chip.setChecked(key == self.version)
        for key, chip in self.references.chips.items():
            chip.setChecked(key == self.reference)
        self.raised.setVisible(self._what == "difference")

    def choose_only(self, name: Component | None) -> None:
        """Hear one component alone, or all (None)."""
        self._only = name
        for key, button in self.only.items():
            button.setChecked(key == name)
        self._say()

    def toggle_only(self, name: Component) -> None:
        self.choose_only(None if self._only == name else name)

    def toggle_strip(self) -> None:
        """The strip out: the recording as it came; or in again."""
        self.choose("processed" if self._what == "unprocessed" else "unprocessed")

    def turn(self, on: bool) -> None:
        """Whether the unprocessed signal is turned in phase as the result is."""
        self._turned = on
        self._say()

    def toggle_match(self) -> None:
        self.match.setChecked(not self.match.isChecked())
        self._say()

    def _say(self) -> None:
        gains = self._gains()
        for what in ("processed", "unprocessed"):
            gain = gains.get(what, 0.0)
            self.choices[what].show_detail(figure(gain, "dB", 2) if abs(gain) >= 0.005 else "")
        if not self.match.isChecked():
            text = said("off")
        elif self.heard not in self.loudness and self._what != "difference":
            text = said("measuring…")
        else:
            listening = self.listening
            text = figure(
                {
                    "unprocessed": listening.unprocessed_db,
                    "reference": listening.reference_db,
                }.get(self._what, listening.processed_db),
                "dB",
                2,
            )
        self.match_gain.setText(text)
        self.chosen.emit(self.listening)

    def show_measured(self, before: dict | None, after: dict | None, stale: bool) -> None:
        """Figures of the whole file; while a new measurement runs the old ones stay, muted."""
        before, after = before or {}, after or {}
        for name, key, unit in (
            ("integrated", "integrated_lufs", "LUFS"),
            ("true_peak", "true_peak_dbtp", "dBTP"),
            ("side_to_mid", "side_to_mid_db", "dB"),
            ("mono_loss", "mono_loss_db", "dB"),
        ):
            self.figures[name].show_values(
                figure(after.get(key), unit), figure(before.get(key), "") if before else "", stale
            )

    def forget(self) -> None:
        """Another recording: nothing is known of it yet."""
        self.loudness = {}
        self._what, self.version, self.reference = "processed", None, None
        self._show_choice()
        self.show_measured(None, None, stale=True)
        self._say()

    def show_live(self, status) -> None:
        """Figures of what plays."""
        now, was = (float(v) for v in status["correlation"])
        self.correlation.show_values(
            figure(now, "", 2, sign=True), figure(was, "", 2, sign=True) if was == was else ""
        )
        self.bar.show_value(now)
        places = [_place(float(stands), float(moves)) for stands, moves in status["image"]]
        self.centre.show_values(places[0], places[1] if places[1] != "–" else "")
        now, was = (float(v) for v in status["momentary"])
        quiet = now < -100
        self.momentary.show_values("–" if quiet else figure(now, "LUFS"), "" if quiet else figure(was, ""))
        self.scope.show_samples(status["scope"])
