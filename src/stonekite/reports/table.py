"""The table of a comparison: what its rows are called, where their values are, and how they are written."""

import csv
import io
from collections.abc import Sequence
from typing import Any, NamedTuple

import msgspec

from stonekite.measure.measures import Measures
from stonekite.words import NAMES, number, said

Column = tuple[str, Measures]
"""The name of what was measured, and its measures."""


class Row(NamedTuple):
    """A measure: where it is listed, its name, unit and digits, and the path to it from Measures."""

    group: str
    label: str
    unit: str
    digits: int
    path: tuple[str | int, ...]
    help: str
    signed: bool = False

    def value(self, measures: Measures) -> float | None:
        found: Any = measures
        for step in self.path:
            found = getattr(found, step) if hasattr(type(found), "__struct_fields__") else found[step]  # type: ignore
        return found

    def text(self, value: float | None) -> str:
        """The value as it is shown, without its unit."""
        if value is None:
            return "–"
        if self.path[-1] == "centre":
            return "0 %" if abs(value) < 0.5 else f"{abs(value):.0f} % {'L' if value < 0 else 'R'}"
        return number(value, self.digits, self.signed)

    def change(self, before: float | None, after: float | None) -> str:
        """The difference of two values, with its sign; a dash where there is none."""
        if before is None or after is None:
            return "–"
        return number(after - before, self.digits, True)


def _component_rows() -> list[Row]:
    return [
        Row(NAMES[name], label, unit, 1, ("components", name, key), help)
        for name in ("mid", "side", "left", "right")
        for label, unit, key, help in (
            (said("Level, RMS"), "dBFS", "rms_dbfs", said("Mean level")),
            (said("Crest"), "dB", "crest_db", said("Highest peak over the mean level")),
            (
                said("Noise floor"),
                "dBFS",
                "noise_floor_dbfs",
                said("Level of the quietest twentieth, in 50 ms"),
            ),
        )
    ]


_OCTAVE_NAMES = ("31 Hz", "63 Hz", "125 Hz", "250 Hz", "500 Hz", "1 kHz", "2 kHz", "4 kHz", "8 kHz", "16 kHz")


def _octave_rows(group: str, key: str, help: str) -> list[Row]:
    return [
        Row(
            group,
            name,
            "dB",
            1,
            ("octaves", k, key),
            said("{help} in the octave around {name}").format(help=help, name=name),
        )
        for k, name in enumerate(_OCTAVE_NAMES)
    ]


ROWS: tuple[Row, ...] = (
    Row(
        said("Loudness"),
        said("Integrated"),
        "LUFS",
        1,
        ("integrated_lufs",),
        said("Loudness of all of it (ITU-R BS.1770)"),
    ),
    Row(
        said("Loudness"),
        said("Loudest 3 s"),
        "LUFS",
        1,
        ("short_term_max_lufs",),
        said("Short-term loudness at its most"),
    ),
    Row(
        said("Loudness"),
        said("Range"),
        "LU",
        1,
        ("loudness_range_lu",),
        said("Loudness range (EBU Tech 3342)"),
    ),
    Row(
        said("Loudness"),
        said("True peak"),
        "dBTP",
        1,
        ("true_peak_dbtp",),
        said("Highest level at and between samples"),
    ),
    Row(
        said("Loudness"),
        said("Peak to loudness"),
        "dB",
        1,
        ("peak_to_loudness_db",),
        said("True peak over integrated loudness"),
    ),
    Row(
        said("Image"),
        said("Side against Mid"),
        "dB",
        1,
        ("side_to_mid_db",),
        said("RMS level of Side over that of Mid"),
    ),
    Row(
        said("Image"),
        said("Correlation, mean"),
        "",
        2,
        ("correlation_mean",),
        said("Of left and right, over 0.4 s"),
        True,
    ),
    Row(
        said("Image"),
        said("  least"),
        "",
        2,
        ("correlation_least",),
        said("The lowest correlation over 0.4 s"),
        True,
    ),
    Row(
        said("Image"),
        said("  below zero"),
        "%",
        1,
        ("correlation_below_zero",),
        said("Share of the time with a correlation below 0"),
    ),
    Row(
        said("Image"), said("Loss in mono"), "dB", 1, ("mono_loss_db",), said("Power lost on folding to mono")
    ),
    Row(
        said("Image"),
        said("Centre"),
        "",
        0,
        ("centre",),
        said("Where the range of a voice stands: L left, R right of the middle"),
    ),
    Row(
        said("Image"),
        said("  moves by"),
        "%",
        0,
        ("centre_spread",),
        said("How far the centre moves (standard deviation)"),
    ),
    Row(
        said("Image"),
        said("Right late"),
        said("samples"),
        1,
        ("offset_samples",),
        said("Offset of the sides; negative: left is late"),
    ),
    Row(
        said("Spectrum"),
        said("Tilt"),
        "dB/oct",
        2,
        ("tilt_db_per_octave",),
        said("Slope from 100 Hz to 10 kHz; pink noise has 0"),
        True,
    ),
    *_component_rows(),
    *_octave_rows(
        said("Side against Mid by octave"), "side_to_mid_db", said("RMS level of Side over that of Mid")
    ),
    *_octave_rows(said("Loss in mono by octave"), "mono_loss_db", said("Power lost on folding to mono")),
)


def scalars(measures: Measures) -> dict[str, Any]:
    """All figures of a signal without its curves and spectra, as plain values, under the names of `stonekite measure`."""
    found = msgspec.to_builtins(measures)
    for name in ("spectra_db", "curves", "spectrogram", "spectrogram_step_s"):
        del found[name]
    found["offset"] = {name: found.pop(f"offset_{name}") for name in ("samples", "polarity", "confidence")}
    return found


def as_csv(columns: Sequence[Column]) -> str:
    """The table as CSV text: group, measure, unit, then a column for each signal, with full precision."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["group", "measure", "unit", *(name for name, _ in columns)])
    for row in ROWS:
        values = [row.value(measures) for _, measures in columns]
        writer.writerow(
            [row.group, row.label.strip(), row.unit, *("" if v is None else f"{v:.6g}" for v in values)]
        )
    return out.getvalue()


def as_dict(columns: Sequence[Column]) -> dict[str, Any]:
    """The table as plain values for JSON: for each signal its figures."""
    return {name: scalars(measures) for name, measures in columns}
