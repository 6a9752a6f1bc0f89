"""How long responses are cut up for convolution."""


def part_size(taps: int) -> int:
    """Frames in one part for a response of so many taps: the latency of the convolution."""
    return 1 << min(13, max(10, (taps // 4).bit_length() - 1))
