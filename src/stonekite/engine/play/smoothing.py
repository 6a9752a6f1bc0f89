"""Widths of the bands that live spectra can be shown in."""

SMOOTHINGS = (3, 6, 12, 24)
"""Parts of an octave."""
DEFAULT_SMOOTHING = 12
