"""How high a signal is at its tops, from samples that stand around them."""

from stonekite.signal.kernel import inlined
from stonekite.signal.vectors.fused import fused

_TINY = 1e-30


@inlined
def height_squared(before, middle, after):
    """Square of the height of the tone through three samples if the middle one is the top, otherwise of the middle one.

    With y0 in the middle of y1 and y2, the cosine of the tone's step is (y1 + y2) / 2 y0, and the square of its height
    y0^2 + y0^2 (y1 - y2)^2 / (4 y0^2 - (y1 + y2)^2): exact for every tone. It is never more than twice y0^2.
    """
    power = middle * middle
    apart, together = after - before, after + before
    more = apart * apart / fused(-together, together, fused(4.0, power, _TINY))
    more = more if more > 0.0 else 0.0
    more = more if more < 1.0 else 1.0
    more = more if abs(middle) >= abs(before) else 0.0
    more = more if abs(middle) >= abs(after) else 0.0
    return fused(power, more, power)
