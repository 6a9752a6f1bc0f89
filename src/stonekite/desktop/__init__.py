"""Everything that needs Qt."""
