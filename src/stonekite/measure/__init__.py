"""Loudness, peaks, levels and alignment of stereo signals, fed in blocks of shape (2, frames)."""
