"""Sessions kept whole: mended, found again, gathered, and their earlier saves."""
