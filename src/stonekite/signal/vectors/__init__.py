"""What kernels of this program are written with: vectors, quick functions, transforms, both legs at once."""
