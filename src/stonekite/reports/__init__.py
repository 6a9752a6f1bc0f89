"""What a comparison looks like: as a page, a table, JSON."""
