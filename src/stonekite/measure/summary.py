"""All figures of one stereo signal, fed in blocks: what `stonekite measure` prints."""

import math
from typing import Any

import msgspec
import numpy as np

from stonekite.measure.levels import Levels
from stonekite.measure.loudness import Loudness
from stonekite.measure.peaks import Peaks
from stonekite.signal.decibels import db_of
from stonekite.signal.matrix import COMPONENTS


class ComponentFigures(msgspec.Struct, frozen=True):
    rms_dbfs: float
    peak_dbfs: float
    crest_db: float
    noise_floor_dbfs: float


class Figures(msgspec.Struct, frozen=True):
    """Measures of one signal. Minus infinity stands for silence, not-a-number for what does not exist."""

    integrated_lufs: float
    loudness_range_lu: float
    momentary_max_lufs: float
    short_term_max_lufs: float
    true_peak_dbtp: float
    sample_peak_dbfs: float
    correlation: float
    side_to_mid_db: float
    mono_loss_db: float
    components: dict[str, ComponentFigures]


class Summary:
    """Meters for one signal."""

    def __init__(self, rate: float) -> None:
        self._loudness = Loudness(rate)
        self._peaks = Peaks(rate)
        self._levels = Levels(rate)

    def add(self, block: np.ndarray) -> None:
        """Hear block (2, frames)."""
        self._loudness.add(block)
        self._peaks.add(block)
        self._levels.add(block)

    def figures(self) -> Figures:
        levels = self._levels
        return Figures(
            integrated_lufs=self._loudness.integrated(),
            loudness_range_lu=self._loudness.range(),
            momentary_max_lufs=self._loudness.momentary_max(),
            short_term_max_lufs=self._loudness.short_term_max(),
            true_peak_dbtp=db_of(float(self._peaks.true_peak().max())),
            sample_peak_dbfs=db_of(float(self._peaks.sample.max())),
            correlation=levels.correlation(),
            side_to_mid_db=levels.side_to_mid_db(),
            mono_loss_db=mono_loss_db(levels.side_to_mid_db()),
            components={
                name: ComponentFigures(
                    levels.rms_dbfs(name),
                    levels.peak_dbfs(name),
                    levels.crest_db(name),
                    levels.noise_floor_dbfs(name),
                )
                for name in COMPONENTS
            },
        )


def mono_loss_db(side_to_mid_db: float) -> float:
    """Power lost on folding to mono, in dB: mid alone against mid and side together."""
    return 10 * math.log10(1 + 10 ** (side_to_mid_db / 10)) if side_to_mid_db < 300 else math.inf


def plain(value: Any) -> Any:
    """Structs as plain values for JSON: infinities and not-a-number become None."""
    if isinstance(value, float):
        return value if math.isfinite(value) else None
    if isinstance(value, dict):
        return {key: plain(inner) for key, inner in value.items()}
    if isinstance(value, msgspec.Struct):
        return {name: plain(getattr(value, name)) for name in value.__struct_fields__}
    return value
