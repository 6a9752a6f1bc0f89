"""A look at what arrived: figures of each component of a recording, for the verdicts."""

import math

import numpy as np

from stonekite.measure.levels import Levels
from stonekite.measure.loudness import BIN_S, Binned, gating_blocks, integrated, k_weighting
from stonekite.measure.spectrum import BandMap
from stonekite.measure.verdicts import Course, Findings, SideFindings
from stonekite.signal.alignment import Alignment
from stonekite.signal.filters import biquads
from stonekite.signal.matrix import COMPONENTS, component

CLIP_LEVEL = 10 ** (-1 / 20)
CLIP_RUN = 3
"""So many equal samples in a row at CLIP_LEVEL or above are clipped."""
OUTSIDE = 1e-7
"""The share of the power that lies above the bandwidth."""
_STEPS = 400
"""The image over time has at most so many values, of 0.1 s at least."""
_QUIET = 1e-12
"""The mean square under which a side is silent."""


class _Spectrum:
    """Average power spectrum of each component."""

    def __init__(self, rate: float) -> None:
        self._size = 1 << int(np.round(np.log2(rate * 0.085)))
        self._window = np.hanning(self._size + 1)[:-1]
        self._rate = rate
        self._rest = np.empty((2, 0))
        self._count = 0
        self.power = dict.fromkeys(COMPONENTS, np.zeros(self._size // 2 + 1))

    def add(self, block: np.ndarray) -> None:
        joined = np.concatenate([self._rest, block], axis=1)
        count = joined.shape[1] // self._size
        self._rest = joined[:, count * self._size :].copy()
        if not count:
            return
        self._count += count
        frames = joined[:, : count * self._size].reshape(2, count, self._size)
        left, right = np.fft.rfft(frames * self._window, axis=2)
        for name, spectrum in zip(
            COMPONENTS, (left, right, 0.5 * (left + right), 0.5 * (left - right)), strict=True
        ):
            self.power[name] = self.power[name] + (spectrum.real**2 + spectrum.imag**2).sum(axis=0)

    def levels_db(self) -> np.ndarray:
        """Levels (components, BANDS) in bands of 1/12 octave; a full-scale sine reads 0 dB."""
        scale = 32.0 / (3.0 * self._size**2 * max(1, self._count))
        power = np.stack([self.power[name] for name in COMPONENTS]) * scale
        return BandMap(self._rate, self._size, 1 / 12).levels_db(power)

    def bandwidth_hz(self, name: str) -> float | None:
        """Frequency below which all but OUTSIDE of the power lies; None for silence."""
        power = self.power[name].copy()
        power[:2] = 0.0  # a constant is not sound
        total = power.sum()
        if total <= 0.0:
            return None
        above = np.cumsum(power[::-1])[::-1]
        place = int(np.flatnonzero(above > OUTSIDE * total)[-1])
        return place * self._rate / self._size


class SourceCheck:
    """Hears a recording in blocks and answers with its figures."""

    def __init__(self, rate: int) -> None:
        self.rate = rate
        self._levels = Levels(rate)
        self._alignment = Alignment(rate)
        self._spectrum = _Spectrum(rate)
        sections = k_weighting(rate)
        self._weighting = biquads.pack(sections, sections)
        self._state = biquads.rest(len(self._weighting))
        self._position = 0
        self._power = {name: Binned(rate) for name in COMPONENTS}
        self._means = _Means(rate)
        self._clips = [_Clips(), _Clips()]

    def add(self, block: np.ndarray) -> None:
        """Hear block (2, frames)."""
        if not block.shape[1]:
            return
        self._levels.add(block)
        self._alignment.add(block)
        self._spectrum.add(block)
        self._means.add(block)
        for clips, row in zip(self._clips, block, strict=True):
            clips.add(row)
        weighted = np.array(block, order="C")
        biquads.cascade(weighted, self._position, self._weighting, self._state)
        self._position += block.shape[1]
        for name in COMPONENTS:
            self._power[name].add(component(weighted, name) ** 2)

    def findings(self) -> Findings:
        """All figures of what was heard."""
        offset = self._alignment.offset()
        dc = self._means.constant()
        offsets = dict(zip(COMPONENTS, (dc[0], dc[1], dc.mean(), 0.5 * (dc[0] - dc[1])), strict=True))
        clipped = dict(zip(("left", "right"), (c.finish() for c in self._clips), strict=True))
        return Findings(
            components={
                name: SideFindings(
                    rms_dbfs=_finite(self._levels.rms_dbfs(name)),
                    lufs=_finite(integrated(gating_blocks(self._power[name].means()))),
                    peak_dbfs=_finite(self._levels.peak_dbfs(name)),
                    clipped=clipped.get(name, 0),
                    dc=float(offsets[name]),
                    noise_floor_dbfs=_finite(self._levels.noise_floor_dbfs(name)),
                    bandwidth_hz=self._spectrum.bandwidth_hz(name),
                )
                for name in COMPONENTS
            },
            rate=self.rate,
            seconds=self._position / self.rate,
            correlation=_finite(self._levels.correlation()),
            side_to_mid_db=_finite(self._levels.side_to_mid_db()),
            offset_samples=offset.samples,
            polarity=offset.polarity,
            confidence=offset.confidence,
            coherence=self._alignment.coherence(),
            spectra_db=[[round(level, 2) for level in row] for row in self._spectrum.levels_db().tolist()],
            course=self._course(),
        )

    def _course(self) -> Course:
        bins = {name: self._levels.bins(name) for name in COMPONENTS}
        count = len(bins["left"])
        bins_per_step = max(10, math.ceil(count / _STEPS))
        steps = count // bins_per_step
        left, right, mid, side = (
            bins[name][: steps * bins_per_step].reshape(steps, bins_per_step).mean(axis=1)
            for name in COMPONENTS
        )
        heard = (left > _QUIET) & (right > _QUIET)
        norm = np.sqrt(np.where(heard, left * right, 1.0))
        correlation = np.clip(
            (mid - side) / norm, -1.0, 1.0
        )  # left times right is mid squared less side squared
        balance = 10 * np.log10(np.where(heard, left, 1.0) / np.where(heard, right, 1.0))
        return Course(
            step_s=bins_per_step * BIN_S,
            correlation=[
                round(c, 4) if h else None for c, h in zip(correlation.tolist(), heard, strict=True)
            ],
            balance_db=[round(b, 2) if h else None for b, h in zip(balance.tolist(), heard, strict=True)],
        )


class _Means:
    """The mean of both sides, from second to second: a constant is the same in all of them, rumble is not."""

    def __init__(self, rate: int) -> None:
        self._size = rate
        self._rest = np.empty((2, 0))
        self._found: list[np.ndarray] = []

    def add(self, block: np.ndarray) -> None:
        joined = np.concatenate([self._rest, block], axis=1)
        count = joined.shape[1] // self._size
        self._rest = joined[:, count * self._size :].copy()
        for k in range(count):
            self._found.append(joined[:, k * self._size : (k + 1) * self._size].mean(axis=1))

    def constant(self) -> np.ndarray:
        """The constant in each side (2,); 0 where the means wander more than they are."""
        found = list(self._found)
        if not found and self._rest.shape[1]:
            found.append(self._rest.mean(axis=1))
        if not found:
            return np.zeros(2)
        means = np.array(found)
        return np.where(np.abs(means.mean(axis=0)) > 2.0 * means.std(axis=0), means.mean(axis=0), 0.0)


class _Clips:
    """Counts samples in runs of equal ones at the top."""

    def __init__(self) -> None:
        self._count = 0
        self._run = 0  # repetitions in the run that is still open
        self._last = 0.0

    def add(self, row: np.ndarray) -> None:
        previous = np.concatenate([[self._last], row[:-1]])
        self._last = row[-1]
        same = (row == previous) & (np.abs(row) >= CLIP_LEVEL)
        edges = np.diff(np.concatenate([[False], same, [False]]).astype(np.int8))
        runs = np.flatnonzero(edges < 0) - np.flatnonzero(edges > 0)
        if not len(runs) or not same[0]:
            self._close()
        if not len(runs):
            return
        runs[0] += self._run
        self._run = 0
        if same[-1]:
            self._run = int(runs[-1])
            runs = runs[:-1]
        self._count += int((runs[runs >= CLIP_RUN - 1] + 1).sum())

    def _close(self) -> None:
        if self._run >= CLIP_RUN - 1:
            self._count += self._run + 1
        self._run = 0

    def finish(self) -> int:
        """How many samples were clipped."""
        self._close()
        return self._count


def _finite(value: float) -> float | None:
    return value if math.isfinite(value) else None
