"""The editors of a stage."""
