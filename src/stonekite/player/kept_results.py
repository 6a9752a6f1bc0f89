"""What the player need not compute: results that were kept, in place of the strips that they are of."""

from pathlib import Path

from stonekite.engine.mix.kept import playing, with_kept
from stonekite.engine.mix.layout import Beside, Layout
from stonekite.files.kept import Result
from stonekite.player.protocol import KeptAs
from stonekite.session.types import Strip
from stonekite.stages.machinery.kept import Kept

MOST_OPEN = 256


class KeptResults:
    """Opened by their files; each is one strip for as long as it is, so that nothing of it is built anew."""

    def __init__(self) -> None:
        self._opened: dict[str, Strip] = {}
        self._strips: dict[int, Strip] = {}

    def take(self, kept: tuple[KeptAs, ...]) -> None:
        """Have these, and no others."""
        self._strips = {one.strip: strip for one in kept if (strip := self._open(one.path)) is not None}
        unused = [path for path, strip in self._opened.items() if strip not in self._strips.values()]
        for path in unused[: max(0, len(self._opened) - MOST_OPEN)]:
            del self._opened[path]

    def _open(self, path: str) -> Strip | None:
        if path not in self._opened:
            try:
                self._opened[path] = playing(Result(Path(path)))
            except (OSError, ValueError):
                return None
        return self._opened[path]

    def take_lost(self) -> list[str]:
        """Files of which something could not be read, once: their strips are computed again."""
        lost = [path for path, strip in self._opened.items() if _result(strip).broken]
        for path in lost:
            strip = self._opened.pop(path)
            self._strips = {number: one for number, one in self._strips.items() if one is not strip}
        return lost

    def instead(self, layout: Layout, beside: Beside, computed: set[int]) -> tuple[Layout, Beside]:
        """A layout with what is kept in it, but for strips that are looked into."""
        kept = {number: strip for number, strip in self._strips.items() if number not in computed}
        return with_kept(layout, beside, kept) if kept else (layout, beside)


def _result(strip: Strip) -> Result:
    stage = strip.stages[0]
    assert isinstance(stage, Kept) and isinstance(stage.result, Result)
    return stage.result
