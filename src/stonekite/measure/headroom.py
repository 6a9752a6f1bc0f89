"""How much room mid and side of a recording have in a file, and what turns them down so far that they fit."""

import math
from pathlib import Path

import msgspec
import numpy as np

from stonekite.files.audio import Bits, Facts
from stonekite.measure.overview import extremes
from stonekite.signal.decibels import db_of, gain_of
from stonekite.signal.matrix import COMPONENTS, OVER_HALF_SUM, Matrix, component

COLUMNS = 480
STEP_DB = 0.1
"""Trims are so many dB, or as often as it takes."""


class Survey(msgspec.Struct, frozen=True, kw_only=True):
    """What is to be known of a recording before it is encoded. In the order of COMPONENTS, mid and side as half-sums: the
    least and the greatest sample, the level in dBFS, and a picture of COLUMNS least and as many greatest samples.
    """

    rate: int
    frames: int
    subtype: str
    depth: int | None
    extremes: tuple[tuple[float, float], ...]
    rms_db: tuple[float, ...]
    pictures: tuple[tuple[list[float], list[float]], ...]
    repaired: int = 0

    @property
    def facts(self) -> Facts:
        """Of the recording, as far as encoding asks for them."""
        return Facts(Path(), self.rate, self.frames, 2, self.subtype, self.depth)

    def peak_db(self, row: int, matrix: Matrix) -> float:
        """Peak of Mid (row 0) or Side (1) under a matrix, in dBFS."""
        low, high = self.extremes[2 + row]
        return db_of(max(-low, high) * OVER_HALF_SUM[matrix][row])

    def level_db(self, row: int, matrix: Matrix) -> float:
        """Level of Mid (row 0) or Side (1) under a matrix, in dBFS; -200 for silence."""
        return max(-200.0, self.rms_db[2 + row] + db_of(OVER_HALF_SUM[matrix][row]))

    def fits(self, row: int, matrix: Matrix, bits: Bits, trim_db: float = 0.0) -> bool:
        """Whether nothing of Mid (row 0) or Side (1) is cut off in a file of such samples."""
        if bits in ("32f", "64f"):
            return True
        low, high = self.extremes[2 + row]
        scale = 2.0 ** (int(bits) - 1) * OVER_HALF_SUM[matrix][row] * gain_of(trim_db)
        whole = 2.0 ** (int(bits) - 1)
        return round(high * scale) <= whole - 1 and round(low * scale) >= -whole

    def trim_db(self, row: int, matrix: Matrix, bits: Bits) -> float:
        """The least trim, 0 dB or under, with which it fits."""
        if self.fits(row, matrix, bits):
            return 0.0
        steps = max(1, math.floor(self.peak_db(row, matrix) / STEP_DB))
        while not self.fits(row, matrix, bits, -round(steps * STEP_DB, 1)):
            steps += 1
        return -round(steps * STEP_DB, 1)


class Surveyor:
    """Takes a survey from consecutive blocks (2, frames)."""

    def __init__(self, facts: Facts) -> None:
        self._facts = facts
        self._count = min(COLUMNS, facts.frames)
        self._edges = np.linspace(0, facts.frames, self._count + 1).astype(np.int64)
        self._table = np.zeros((4, 2, self._count))
        self._table[:, 0], self._table[:, 1] = math.inf, -math.inf
        self._power = np.zeros(4)
        self._done = 0

    def add(self, block: np.ndarray) -> None:
        """Hear what comes next."""
        start, stop = self._done, self._done + block.shape[1]
        first = int(np.searchsorted(self._edges, start, side="right")) - 1
        at = start
        while at < stop and first < self._count:
            end = min(stop, int(self._edges[first + 1]))
            if end > at:
                piece = block[:, at - start : end - start]
                found = extremes(piece, piece.shape[1])[:, :, 0]
                self._table[:, 0, first] = np.minimum(self._table[:, 0, first], found[:, 0])
                self._table[:, 1, first] = np.maximum(self._table[:, 1, first], found[:, 1])
            at = end
            first += 1
        for row, name in enumerate(COMPONENTS):
            one = component(block, name)
            self._power[row] += float(np.dot(one, one))
        self._peaks(block)
        self._done = stop

    def _peaks(self, block: np.ndarray) -> None:
        exact = [component(block, name) for name in COMPONENTS]
        now = np.array([(one.min(initial=0.0), one.max(initial=0.0)) for one in exact])
        if self._done == 0:
            self._extremes = now
        else:
            self._extremes[:, 0] = np.minimum(self._extremes[:, 0], now[:, 0])
            self._extremes[:, 1] = np.maximum(self._extremes[:, 1], now[:, 1])

    def survey(self, repaired: int = 0) -> Survey:
        """All that was found. At least one block was heard."""
        table = np.where(np.isfinite(self._table), self._table, 0.0)
        return Survey(
            rate=self._facts.rate,
            frames=self._facts.frames,
            subtype=self._facts.subtype,
            depth=self._facts.depth,
            extremes=tuple((float(low), float(high)) for low, high in self._extremes),
            rms_db=tuple(max(-200.0, db_of(math.sqrt(p / max(1, self._done)))) for p in self._power),
            pictures=tuple((row[0].tolist(), row[1].tolist()) for row in table),
            repaired=repaired,
        )
