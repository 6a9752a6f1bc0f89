"""A strip at work: lines of stages, spurs, the ends of a strip, and probes into it."""
