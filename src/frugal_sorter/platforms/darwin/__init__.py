"""What macOS does differently from other systems of its family: the modules here replace those of `posix`."""
