"""Recordings that are made up for trying the program: synthesised, and written where they are asked for."""
