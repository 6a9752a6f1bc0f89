"""The timeline."""
