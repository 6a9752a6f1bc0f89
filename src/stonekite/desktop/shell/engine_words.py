"""How the engine is doing, in the bar above the window: rate, latency, load, and where the sound goes."""

from PySide6.QtCore import QObject, Signal

from stonekite.desktop.controls.plain import Label
from stonekite.desktop.links.transport import Transport
from stonekite.desktop.model.document import Document
from stonekite.player.protocol import AHEAD_S, Making, Overloaded
from stonekite.session.differences import names_of
from stonekite.words import said


class EngineWords(QObject):
    """Keeps a label in step with the player. `said` tells when the output changes."""

    said = Signal(str)

    def __init__(self, label: Label, document: Document, transport: Transport) -> None:
        super().__init__(label)
        self._label, self._document, self._transport = label, document, transport
        self._output = said("starting the player…")
        self.simulated = False
        self._making: Making | None = None
        self._needs = 0.0
        transport.output_changed.connect(self._show_output)
        transport.ready.connect(self.refresh)
        transport.making.connect(self._show_making)
        transport.refused.connect(self._tell_refused)
        transport.overloaded.connect(self._tell_overloaded)

    def _show_output(self, name: str, simulated: bool, rate: int) -> None:
        if simulated and not self.simulated:
            self.said.emit(said("No sound device: playing into the simulated output."))
        elif self.simulated and not simulated:
            self.said.emit(said("Playing through {name}.").format(name=name))
        self.simulated = simulated
        self._output = name
        self._label.setToolTip(said("Sound goes to: {name}, {rate} Hz").format(name=name, rate=rate))
        self.refresh()

    def _show_making(self, making: Making) -> None:
        before, self._making = self._making, making if making.seconds else None
        if self._making is None and before is not None:
            self.said.emit(said("All that this needs has been prepared."))
        if self._making is not None or before is not None:
            self.refresh()

    def _place_of(self, stage: int) -> str:
        return names_of(self._document.strip).get(stage, "") if self._document.is_open else ""

    def _tell_refused(self, stage: int, sentence: str) -> None:
        place = self._place_of(stage)
        if place:
            self.said.emit(
                said("{place}: {sentence} What was there before goes on.").format(
                    place=place, sentence=sentence
                )
            )
        else:
            self.said.emit(sentence)

    def _tell_overloaded(self, event: Overloaded) -> None:
        self._needs = event.load
        if event.load:
            most = said(", ").join(
                said("{name} {share:.0f} %").format(name=self._place_of(stage), share=100 * share)
                for stage, share in event.stages
                if self._place_of(stage)
            )
            self.said.emit(
                said(
                    "The processor does not keep up: {load:.1f} times what it has is needed, and there are gaps. "
                    "Most is taken by {most}."
                ).format(load=event.load, most=most or said("the paths together"))
            )
        else:
            self.said.emit(said("The processor keeps up again."))
        self.refresh()

    def _words_of_making(self, making: Making) -> str:
        what = said(", ").join(making.labels) or said("what every sound needs")
        words = said("preparing {what} for the first time: {seconds:.0f} s").format(
            what=what, seconds=making.seconds
        )
        return (
            words
            if making.waits or not making.labels
            else said("{words}, playing without").format(words=words)
        )

    def refresh(self) -> None:
        words = self._output
        if self._making is not None:
            words = self._words_of_making(self._making)
        elif self._document.is_open:
            status = self._transport.status
            queued, load, ahead = (float(status[name]) for name in ("queued_s", "load", "ahead_s"))
            further = (
                said(" ({count:.0f} ms ahead)").format(count=ahead * 1000) if ahead > AHEAD_S + 0.001 else ""
            )
            first = said(" · real-time") if self._transport.realtime else ""
            words = said(
                "{rate:g} kHz · latency {latency:.0f} ms{further} · engine {load:.0f} %{first} · {words}"
            ).format(
                rate=self._document.stem.source.rate / 1000,
                latency=queued * 1000,
                further=further,
                load=max(load, self._needs) * 100,
                first=first,
                words=words,
            )
        if words != self._label.text():
            self._label.setText(words)
