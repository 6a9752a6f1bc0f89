"""Whole recordings: rendered, exported, compared, measured."""
