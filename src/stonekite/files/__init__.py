"""Audio files in and out, and the demo set."""
