"""Noise reduction: what is known of noise, followed, and taken away."""
