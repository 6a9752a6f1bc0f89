"""Pure functions on arrays. Nothing here knows of sessions or of windows."""
