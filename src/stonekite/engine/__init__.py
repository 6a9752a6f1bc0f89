"""Turns a session into sound, in blocks of any size."""
