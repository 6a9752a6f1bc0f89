"""Stone Kite: separate processing of the two halves of a stereo signal."""

__version__ = "0.1.0"
