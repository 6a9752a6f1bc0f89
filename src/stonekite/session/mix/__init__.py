"""Several strips in one sound: their faders, the wires between them, and what of them is open."""
