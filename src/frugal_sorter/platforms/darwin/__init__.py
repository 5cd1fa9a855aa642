"""What macOS does otherwise than other systems of its family: the modules here stand in the place of those of `posix`."""
