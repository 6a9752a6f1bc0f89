"""What the player is told: which settings, in which range, what of them is listened to."""

from PySide6.QtCore import QObject, Signal

from stonekite.desktop.links.transport import Transport
from stonekite.desktop.model.document import Document
from stonekite.desktop.model.stage_actions import StageActions
from stonekite.desktop.timeline.timeline import Timeline
from stonekite.desktop.views.listen_panel import ListenPanel
from stonekite.desktop.views.switching import Switching
from stonekite.engine.play.audition import Audition, auditioned
from stonekite.engine.play.listen import Listening
from stonekite.engine.play.smoothing import DEFAULT_SMOOTHING
from stonekite.session import tree
from stonekite.session.mix import places
from stonekite.session.types import LegName, Loop, Sound, Strip
from stonekite.words import said

_WORDS = {
    "out": said("Hearing the result without this stage."),
    "change": said("Hearing only what this stage changes."),
    "band": said("Hearing only the range of this band."),
    "detector": said("Hearing what the detector hears."),
}


class Hearing(QObject):
    """Keeps the player in step with the session. `said` has words, `alone` says what is heard alone (or None),
    `compared` the strip of the version that was listened to last (or None).

    While `handed_over` is true somebody else tells the player what to play.
    """

    said = Signal(str)
    alone = Signal(object)
    compared = Signal(object)

    def __init__(
        self,
        document: Document,
        transport: Transport,
        switching: Switching,
        listen: ListenPanel,
        actions: StageActions,
        timeline: Timeline,
        parent: QObject,
    ) -> None:
        super().__init__(parent)
        self._document, self._transport, self._switching = document, transport, switching
        self._listen, self._actions, self._timeline = listen, actions, timeline
        self.handed_over = self.slowed = False
        self._audition: Audition | None = None
        self._smoothing = DEFAULT_SMOOTHING
        self._last_loop: Loop | None = None
        self._feeds: tuple[object, ...] = ()
        self._rate = 0
        self._strip: Strip | None = None
        listen.chosen.connect(self.listen_to)
        document.edited.connect(self._edited)
        actions.chosen_changed.connect(self._opened_another)

    # Settings

    def load(self) -> None:
        """Play the document's recording."""
        sound = self._document.session.sound
        self._feeds, self._strip = places.feeding(sound), self._document.strip
        self._rate = places.timeline(sound)[0]
        sound, heard, _ = self._switching.played(self._sounding(), self._listen.listening)
        self._transport.load(sound, heard, self._document.place)
        self._watch()
        self.listen_to(self._listen.listening)
        self.send_loop()

    def change_source(self) -> None:
        """Other recordings, or at other times: go on where it was, without a gap where the rate is the same."""
        sound = self._document.session.sound
        if not self.handed_over and places.timeline(sound)[0] == self._rate:
            self._feeds = places.feeding(sound)  # what is sent after this is not the same to the player
        else:
            self._transport.at_the_same_place(self.load)

    def forget(self) -> None:
        """Another session: nothing is heard alone, and no range was dragged."""
        self._audition = self._last_loop = None
        self.compared.emit(None)

    @property
    def other_source(self) -> bool:
        """Whether the document's recording is another one than the player has."""
        return places.feeding(self._document.session.sound) != self._feeds

    def _sounding(self) -> Sound:
        """The sound of now, as the open strip is listened to."""
        strip = auditioned(self._document.strip, self._audition)
        return tree.put_strip(self._document.session.sound, self._document.place, strip)

    def _edited(self) -> None:
        """An edit is to be heard: not a version that is listened to."""
        if self._listen.version is not None and self._document.strip is not self._strip:
            self._listen.choose("processed")

    def follow(self) -> None:
        """Play the document as it is now."""
        self._strip = self._document.strip
        self.send()
        self.send_loop()

    def send(self, listening: Listening | None = None) -> None:
        """Have played what is heard as the result: the state now, or a version of it."""
        if self.handed_over:
            return
        now = self._sounding()
        heard = self._switching.sound(now)
        if heard is not now:
            self.compared.emit(tree.strip_in(heard, self._document.place))
        wanted = listening or self._listen.listening
        if self._switching.left_out:
            sound, number, chosen = self._switching.without(heard, wanted)
        else:
            sound, number, chosen = self._switching.played(heard, wanted)
        beside = self._switching.beside(now, sound)
        told = None if listening is None and sound is heard else chosen
        self._transport.update(sound, number, self._document.place, beside, told)

    def listen_to(self, listening: Listening) -> None:
        """Hear what the listen panel says."""
        if self.handed_over:
            if self.slowed:
                self._transport.listen(Listening("processed", listening.only))
            return
        if not self._document.is_open:
            self._transport.listen(listening)
            return
        if listening.what == "reference":  # one that is left stays ready: it is still faded out
            self._transport.refer(*self._switching.referred())
        self.send(listening)

    def played(self) -> tuple[Sound, int]:
        """What would be heard as the result, whatever speed it is listened to: a sound, and the strip of it."""
        heard = self._switching.sound(self._sounding())
        sound, number, chosen = self._switching.played(heard, self._listen.listening)
        if chosen.what == "unprocessed":
            sound = tree.put_strip(sound, number, Strip())
        return sound, number

    def slow_down(self) -> None:
        """What is slowed down plays now: one component of it can be heard alone, all else is in it."""
        self.handed_over = self.slowed = True
        self._transport.listen(Listening("processed", self._listen.listening.only))

    def take_back(self) -> None:
        """Play the document again, from where what somebody else had played was."""
        self.handed_over = self.slowed = False
        if self._document.is_open:
            self._transport.at_the_same_place(self.load)

    # The open stage

    def _opened_another(self) -> None:
        self.hear_alone(None)
        self._watch()

    def _watch(self) -> None:
        chosen = self._actions.chosen
        self._transport.watch(chosen[0] if chosen else -1, self._smoothing)

    def smooth(self, parts: int) -> None:
        """Take spectra in bands of an octave over `parts`."""
        self._smoothing = parts
        self._watch()

    def hear_band(self, what: tuple[LegName, int] | None) -> None:
        """Hear only the range of a band of the open stage."""
        if what is None:
            self.hear_alone(None)
        else:
            self.hear_alone("band", *what)

    def hear_alone(self, what, leg: LegName = "upper", slot: int = 0) -> None:
        """Listen to the open stage taken out, to its change or to a band of it; None: to the strip as it is."""
        chosen = self._actions.chosen
        audition = Audition(chosen[0], what, leg, slot) if what is not None and chosen else None
        self.alone.emit(audition.what if audition is not None else None)
        if audition == self._audition:
            return
        self._audition = audition
        self.said.emit("" if audition is None else _WORDS[audition.what])
        if self._document.is_open:
            self.send()

    def hear_without(self, spur: int, gain_db: float) -> None:
        """Listen to the strip without a spur, turned by a gain in dB; 0 for no spur: as it is."""
        audition = Audition(spur, "without", gain_db=gain_db) if spur else None
        if audition != self._audition and self._document.is_open:
            self._audition = audition
            self.send()

    @property
    def spur_out(self) -> int:
        """The spur without which is listened to; 0 for none."""
        held = self._audition
        return held.stage if held is not None and held.what == "without" else 0

    @property
    def without_stage(self) -> bool:
        """Whether the open stage is held out."""
        return self._audition is not None and self._audition.what == "out"

    # Place and range

    def toggle_play(self) -> None:
        """Play or pause."""
        if self._document.is_open:
            if self._transport.playing:
                self._transport.pause()
            else:
                self._transport.play()

    def rewind(self) -> None:
        """Back to the start, or to that of the loop."""
        if self._document.is_open:
            loop, rate = self._document.session.desk.loop, self._document.stem.source.rate
            self._transport.seek(int(loop.start_s * rate) if loop is not None else 0)

    def set_loop(self, loop: tuple[float, float] | None) -> None:
        """Repeat a range in seconds."""
        if self._document.is_open:
            self._document.set_loop(Loop(start_s=loop[0], end_s=loop[1]) if loop else None)

    def toggle_loop(self) -> None:
        """Repeat the last range, or what the timeline shows; or no longer."""
        if not self._document.is_open:
            return
        loop = self._document.session.desk.loop
        if loop is not None:
            self._last_loop = loop
            self._document.set_loop(None)
        elif self._last_loop is not None:
            self._document.set_loop(self._last_loop)
        else:
            start, stop = self._timeline.view
            self._document.set_loop(Loop(start_s=start, end_s=stop))

    def send_loop(self) -> None:
        """Have the document's loop repeated."""
        loop, source = self._document.session.desk.loop, self._document.stem.source
        frames = (0, 0)
        if loop is not None:
            frames = (int(loop.start_s * source.rate), min(source.frames, int(loop.end_s * source.rate)))
        self._transport.set_loop(*frames)
