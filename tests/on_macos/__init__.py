"""The system of macOS faked on another one: `python -m tests.on_macos MODULE...` runs tests on it.

What only Linux has is taken away before anything of the program is loaded; the calls of the C library of macOS are answered by
those of this system; `psutil` answers for the mounts. What it cannot answer is named in `docs/platforms.md`.
"""
