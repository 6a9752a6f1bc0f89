"""The window's ends of other processes."""
