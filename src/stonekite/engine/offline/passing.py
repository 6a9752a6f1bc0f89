"""What goes through a stage over a range of its recording, by frequency and time."""

from collections.abc import Generator

import numpy as np

from stonekite.engine.graph.chain import Chain
from stonekite.engine.graph.probing import Tap
from stonekite.engine.offline.hearing import WARMEST_S
from stonekite.engine.offline.render import open_source
from stonekite.files.audio import BLOCK
from stonekite.measure.spectrum import BandMap
from stonekite.session.types import Stem

COLUMNS = 480
"""So many at the most, however long the range is."""
SIZE_S = 0.085
"""A spectrum is of about so much sound."""
_HOP_S, _LEAST_S = 0.1, 1.0 / 60.0
"""Spectra begin so far from each other in a long column; a column is no shorter than the second."""
_OCTAVES = 1 / 6
_SILENT_DB = -150.0


class _Columns:
    """Mean power of two legs in each of so many columns of `per` samples."""

    def __init__(self, rate: float, frames: int, columns: int, bands: BandMap, size: int) -> None:
        self._per = frames / columns
        self._hop = self._per / max(1, round(self._per / (_HOP_S * rate)))
        self._window = np.hanning(size + 1)[:-1]
        self._rest = np.zeros((2, size // 2))
        self._first = -(size // 2)
        """The frame of the range with which the rest begins."""
        self._power = np.zeros((columns, 2, size // 2 + 1))
        self._counts = np.zeros(columns)
        self._looks = 0
        self._bands, self._size = bands, size

    def add(self, block: np.ndarray) -> None:
        """Hear block (2, frames)."""
        joined = np.concatenate([self._rest, block], axis=1)
        while True:
            middle = (self._looks + 0.5) * self._hop
            column = int(middle / self._per)
            begin = int(middle) - self._size // 2 - self._first
            if column >= len(self._counts) or begin + self._size > joined.shape[1]:
                break
            spectrum = np.fft.rfft(joined[:, begin : begin + self._size] * self._window, axis=1)
            self._power[column] += (spectrum.real**2 + spectrum.imag**2) * (32.0 / (3.0 * self._size**2))
            self._counts[column] += 1
            self._looks += 1
        done = min(joined.shape[1], max(0, begin))
        self._rest = joined[:, done:].copy()
        self._first += done

    def levels_db(self) -> np.ndarray:
        """(2, BANDS, columns); the end of the range is taken as if silence followed."""
        self.add(np.zeros((2, self._size)))
        power = self._power / np.maximum(1.0, self._counts)[:, None, None]
        return np.stack([self._bands.levels_db(of) for of in power], axis=2)


def passing(stem: Stem, number: int, start: int, frames: int) -> Generator[float, None, np.ndarray]:
    """Levels in dBFS (4, BANDS, columns), float32, of both legs before a stage and after it, in a range of frames; a
    full-scale sine reads 0 dB. Yields progress 0 to 1. Raises AudioError, LookupError where there is no such stage."""
    with open_source(stem.source) as reader:
        rate = reader.facts.rate
        frames = max(1, min(frames, reader.facts.frames - start))
        chain = Chain(stem.strip, rate)
        tap = Tap(number)
        begin = max(0, start - min(chain.memory, int(WARMEST_S * rate)))
        size = 1 << int(np.round(np.log2(SIZE_S * rate)))
        columns = int(max(1, min(COLUMNS, frames / (_LEAST_S * rate))))
        bands = BandMap(rate, size, _OCTAVES)
        ends = [_Columns(rate, frames, columns, bands, size) for _ in range(2)]
        passed = [0, 0]
        whole = start - begin + frames + chain.latency
        for done in range(0, whole, BLOCK):
            count = min(BLOCK, whole - done)
            block = reader.read(begin + done, count)
            chain.process(np.pad(block, ((0, 0), (0, count - block.shape[1]))), begin + done, tap)
            late = chain.latency if tap.node is None else tap.node.late
            own = 0 if tap.node is None else tap.node.latency
            for k, (legs, behind) in enumerate(zip(tap.take(), (late, late + own), strict=True)):
                first = max(0, start - begin + behind - passed[k])
                last = start - begin + behind + frames - passed[k]
                ends[k].add(legs[:, first : max(first, last)])
                passed[k] += legs.shape[1]
            yield (done + count) / whole
    before, after = (of.levels_db() for of in ends)
    return np.maximum(np.concatenate([before, after]), _SILENT_DB).astype(np.float32)
