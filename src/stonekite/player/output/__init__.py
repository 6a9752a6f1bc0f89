"""Where the player's sound goes, and what it asks of the system for that: outside the window, only here is Qt."""
