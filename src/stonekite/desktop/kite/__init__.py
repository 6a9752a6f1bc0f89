"""The kite map."""
