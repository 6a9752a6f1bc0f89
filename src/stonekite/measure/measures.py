"""All that is compared of one signal: figures, octaves, spectra and curves over time."""

import msgspec
import numpy as np

from stonekite.measure.spectrum import BANDS


class OctaveFigures(msgspec.Struct, frozen=True):
    """An octave around `hertz`. None where there is nothing to compare."""

    hertz: float
    side_to_mid_db: float | None
    mono_loss_db: float | None


class Curves(msgspec.Struct, frozen=True):
    """Curves over time with a point every `step_s` from `start_s` on; None where there is nothing to say."""

    start_s: float
    step_s: float
    short_term_lufs: list[float | None]
    correlation: list[float | None]
    centre: list[float | None]


class Measures(msgspec.Struct, frozen=True):
    """Measures of one signal; None for what does not exist, as the true peak of silence in dB.

    The spectrogram is levels in dB as float16, column after column, each with as many bands as a spectrum.
    """

    seconds: float
    integrated_lufs: float | None
    momentary_max_lufs: float | None
    short_term_max_lufs: float | None
    loudness_range_lu: float | None
    true_peak_dbtp: float | None
    sample_peak_dbfs: float | None
    peak_to_loudness_db: float | None
    correlation: float | None
    correlation_mean: float | None
    correlation_least: float | None
    correlation_below_zero: float | None
    side_to_mid_db: float | None
    mono_loss_db: float | None
    centre: float | None
    centre_spread: float | None
    tilt_db_per_octave: float | None
    offset_samples: float | None
    offset_polarity: int
    offset_confidence: float
    components: dict[str, dict[str, float | None]]
    octaves: list[OctaveFigures]
    spectra_db: list[list[float]]
    curves: Curves
    spectrogram: bytes
    spectrogram_step_s: float

    def spectrogram_db(self) -> np.ndarray:
        """Levels (columns, BANDS) of both sides together."""
        return np.frombuffer(self.spectrogram, dtype=np.float16).reshape(-1, BANDS).astype(float)
