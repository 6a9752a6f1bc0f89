"""The open session and what can be done with it. Knows no widget."""
