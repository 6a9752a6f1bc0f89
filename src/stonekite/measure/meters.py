"""Measures of one signal, fed in blocks."""

import math

import msgspec
import numpy as np

from stonekite.measure.image_meter import OCTAVES_HZ, ImageMeter
from stonekite.measure.levels import Levels
from stonekite.measure.loudness import BIN_S, Loudness
from stonekite.measure.measures import Curves, Measures, OctaveFigures
from stonekite.measure.peaks import Peaks
from stonekite.measure.summary import ComponentFigures
from stonekite.signal.decibels import db_of
from stonekite.signal.matrix import COMPONENTS

STEP_S = 0.1
"""Curves over time have a point for every step."""
_CORRELATION_S = 0.4
MOST_POINTS = 6000
"""A curve over time has at most so many points; longer recordings have longer steps."""


def _known(value: float) -> float | None:
    return float(value) if math.isfinite(value) else None


def loss_db(mid: float, side: float) -> float | None:
    """Power lost on folding to mono, in dB; None for silence."""
    if mid <= 0.0:
        return None if side <= 0.0 else 120.0
    return 10 * math.log10(1 + side / mid)


class Meters:
    """Hears a signal in blocks and answers with its Measures. `start_s` is where it begins in its recording."""

    def __init__(self, rate: float, start_s: float = 0.0) -> None:
        self.rate, self.start_s = rate, start_s
        self._loudness = Loudness(rate)
        self._peaks = Peaks(rate)
        self._levels = Levels(rate)
        self._image = ImageMeter(rate)
        self._frames = 0

    def add(self, block: np.ndarray) -> None:
        """Hear block (2, frames)."""
        self._loudness.add(block)
        self._peaks.add(block)
        self._levels.add(block)
        self._image.add(block)
        self._frames += block.shape[1]

    def measures(self) -> Measures:
        """All measures of what was heard; call it once, at the end."""
        self._image.finish()
        levels, image = self._levels, self._image
        integrated, peak = self._loudness.integrated(), db_of(float(self._peaks.true_peak().max()))
        correlation = self._correlations()
        heard = correlation[np.isfinite(correlation)]
        centre, spread = image.centre()
        offset = image.offset()
        spectrogram = image.spectrogram_db()
        seconds = self._frames / self.rate
        return Measures(
            seconds=seconds,
            integrated_lufs=_known(integrated),
            momentary_max_lufs=_known(self._loudness.momentary_max()),
            short_term_max_lufs=_known(self._loudness.short_term_max()),
            loudness_range_lu=_known(self._loudness.range()) if math.isfinite(integrated) else None,
            true_peak_dbtp=_known(peak),
            sample_peak_dbfs=_known(db_of(float(self._peaks.sample.max()))),
            peak_to_loudness_db=_known(peak - integrated) if math.isfinite(integrated) else None,
            correlation=_known(levels.correlation()),
            correlation_mean=_known(float(heard.mean())) if len(heard) else None,
            correlation_least=_known(float(heard.min())) if len(heard) else None,
            correlation_below_zero=_known(100.0 * float((heard < 0).mean())) if len(heard) else None,
            side_to_mid_db=_known(levels.side_to_mid_db()),
            mono_loss_db=loss_db(levels.energy("mid"), levels.energy("side")),
            centre=_known(centre),
            centre_spread=_known(spread),
            tilt_db_per_octave=_known(image.tilt_db()),
            offset_samples=_known(offset.samples) if offset.confidence > 0 else None,
            offset_polarity=offset.polarity,
            offset_confidence=offset.confidence,
            components={
                name: {
                    key: _known(value) for key, value in msgspec.structs.asdict(self._component(name)).items()
                }
                for name in COMPONENTS
            },
            octaves=self._octaves(),
            spectra_db=np.round(image.spectra_db(), 3).tolist(),
            curves=self._curves(correlation),
            spectrogram=spectrogram.astype(np.float16).tobytes(),
            spectrogram_step_s=seconds / len(spectrogram) if len(spectrogram) else image.hop_s,
        )

    def _component(self, name: str) -> ComponentFigures:
        levels = self._levels
        return ComponentFigures(
            levels.rms_dbfs(name),
            levels.peak_dbfs(name),
            levels.crest_db(name),
            levels.noise_floor_dbfs(name),
        )

    def _octaves(self) -> list[OctaveFigures]:
        power = self._image.octaves()
        floor = 1e-12 * max(float(power["mid"].max()), float(power["side"].max()), 1e-30)
        found = []
        for k, hertz in enumerate(OCTAVES_HZ):
            mid, side = float(power["mid"][k]), float(power["side"][k])
            if hertz > 0.5 * self.rate or mid + side <= floor:
                found.append(OctaveFigures(hertz, None, None))
                continue
            ratio = _known(10 * math.log10(side / mid)) if mid > floor and side > floor else None
            found.append(OctaveFigures(hertz, ratio, loss_db(mid if mid > floor else 0.0, side)))
        return found

    def _correlations(self) -> np.ndarray:
        """Correlation of the sides over 0.4 s, every STEP_S; NaN where a side is silent."""
        left, right, mid, side = (self._levels.bins(name) for name in COMPONENTS)
        width, step = round(_CORRELATION_S / BIN_S), round(STEP_S / BIN_S)
        if 0 < len(left) < width:
            width = len(left)
        if not len(left):
            return np.empty(0)

        def sums(bins: np.ndarray) -> np.ndarray:
            return np.lib.stride_tricks.sliding_window_view(bins, width)[::step].sum(axis=1)

        norm = np.sqrt(sums(left) * sums(right))
        product = sums(mid) - sums(side)
        quiet = norm <= 1e-6 * max(float(norm.max()), 1e-30)
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.where(quiet, np.nan, np.clip(product / norm, -1.0, 1.0))

    def _curves(self, correlation: np.ndarray) -> Curves:
        """All on one grid of time, which stands for the ends of what they look at."""
        count = int(self._frames / self.rate / STEP_S)
        share = max(1, -(-count // MOST_POINTS))
        times = (np.arange(0, count, share) + 1) * STEP_S
        short = self._loudness.short_term()[:: round(STEP_S / BIN_S)]
        places = self._image.centres()

        def at(values: np.ndarray, first_s: float, step_s: float) -> list[float | None]:
            where = np.rint((times - first_s) / step_s).astype(int)
            return [
                _known(round(float(values[k]), 3)) if 0 <= k < len(values) else None for k in where.tolist()
            ]

        return Curves(
            self.start_s + STEP_S,
            share * STEP_S,
            at(short, 3.0, STEP_S),
            at(correlation, _CORRELATION_S, STEP_S),
            at(places, 2 * self._image.hop_s, self._image.hop_s),
        )
