"""Whether the processor keeps up with what plays, and which stages take most where it does not."""

from collections.abc import Callable

from stonekite.engine.play.playback import Playback
from stonekite.player.protocol import Event, Overloaded

TOO_MUCH, ENOUGH = 0.97, 0.85
"""Shares of the time that blocks take: from the first on it does not keep up, from the second on it does again."""
FORGET = 0.98
"""So much of what blocks took counts for a look later."""
OVER_S, AGAIN_S = 1.0, 15.0
"""It is said after so long, and again after so long."""
MOST_NAMED = 3


class LoadWatch:
    """Says it by `send` when the processor does not keep up, and when it does again."""

    def __init__(self, send: Callable[[Event], None]) -> None:
        self._send = send
        self._needed = self._made_s = 0.0
        self._since = self._told = 0.0

    @property
    def over(self) -> bool:
        """Whether more is needed than there is."""
        return bool(self._since)

    def took(self, seconds: float, sound_s: float) -> None:
        """So much of the processor's time was taken for so much sound."""
        self._needed += seconds
        self._made_s += sound_s

    def look(self, now: float, playback: Playback | None) -> None:
        """Called thirty times a second, with the time."""
        self._needed, self._made_s = FORGET * self._needed, FORGET * self._made_s
        if playback is None or not playback.playing:
            self._needed = self._made_s = 0.0
        needed = self._needed / self._made_s if self._made_s else 0.0
        if needed < (ENOUGH if self._since else TOO_MUCH):
            if self._told:
                self._send(Overloaded(0.0))
            self._since = self._told = 0.0
        elif not self._since:
            self._since = now
        if playback is None:
            return
        playback.hurried = self.over
        long = self._since and now - self._since >= OVER_S and now - self._told >= AGAIN_S
        if long and needed >= TOO_MUCH:
            spent = playback.take_spent_s()
            whole = sum(spent.values()) or 1.0
            most = sorted(spent.items(), key=lambda one: -one[1])[:MOST_NAMED]
            self._send(Overloaded(needed, tuple((stage, share / whole) for stage, share in most)))
            self._told = now
