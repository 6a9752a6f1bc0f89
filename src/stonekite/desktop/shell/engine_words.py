"""How the engine is doing, in the bar above the window: rate, latency, load, and where the sound goes."""

from PySide6.QtCore import QObject, Signal

from stonekite.desktop.controls.plain import Label
from stonekite.desktop.links.transport import Transport
from stonekite.desktop.model.document import Document
from stonekite.player.protocol import AHEAD_S
from stonekite.words import said


class EngineWords(QObject):
    """Keeps a label in step with the player. `said` tells when the output changes."""

    said = Signal(str)

    def __init__(self, label: Label, document: Document, transport: Transport) -> None:
        super().__init__(label)
        self._label, self._document, self._transport = label, document, transport
        self._output = said("starting the player…")
        self.simulated = False
        transport.output_changed.connect(self._show_output)
        transport.ready.connect(self.refresh)

    def _show_output(self, name: str, simulated: bool, rate: int) -> None:
        if simulated and not self.simulated:
            self.said.emit(said("No sound device: playing into the simulated output."))
        elif self.simulated and not simulated:
            self.said.emit(said("Playing through {name}.").format(name=name))
        self.simulated = simulated
        self._output = name
        self._label.setToolTip(said("Sound goes to: {name}, {rate} Hz").format(name=name, rate=rate))
        self.refresh()

    def refresh(self) -> None:
        words = self._output
        if self._document.is_open:
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
                load=load * 100,
                first=first,
                words=words,
            )
        if words != self._label.text():
            self._label.setText(words)
