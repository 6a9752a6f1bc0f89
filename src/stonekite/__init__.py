"""Stone Kite: separate processing of the two halves of a stereo signal."""

import os

# The matrices here are small: threads of the linear algebra library would only take cores from the player.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

__version__ = "0.1.0"
