"""What several kinds are made of, and no kind by itself."""
