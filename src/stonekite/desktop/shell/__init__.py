"""The window, and what ties everything in it together. The only package that knows all of them."""
