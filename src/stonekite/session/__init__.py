"""The tree that a user saves. Nothing here computes sound or draws."""
