"""Which files are open, and by which program, as far as this user can see."""

from __future__ import annotations

import os

from frugal_sorter.files.record import is_inside


class OpenFiles:
    """Asks the system once, when first asked."""

    def __init__(self) -> None:
        self._holders: dict[tuple[int, int], str] | None = None
        self._writers: dict[tuple[int, int], str] = {}
        self._paths: dict[str, str] = {}
        self.unseen = 0

    def holder(self, dev: int, ino: int) -> str | None:
        """Return the program that has an entry open, such as `writer (process 12)`, or None."""
        if self._holders is None:
            self._holders = self._look()
        return self._holders.get((dev, ino))

    def writer(self, dev: int, ino: int) -> str | None:
        """Return the program that has an entry open for writing, or None."""
        if self._holders is None:
            self._holders = self._look()
        return self._writers.get((dev, ino))

    def holder_below(self, folder: str) -> str | None:
        """Return a program that has a file open somewhere below a folder, or None."""
        if self._holders is None:
            self._holders = self._look()
        return next((who for path, who in self._paths.items() if is_inside(path, folder)), None)

    def _look(self) -> dict[tuple[int, int], str]:
        import psutil

        holders: dict[tuple[int, int], str] = {}
        own = os.getpid()
        for process in psutil.process_iter(["name"]):
            if process.pid == own:
                continue
            try:
                opened = process.open_files()
            except (psutil.Error, OSError):
                self.unseen += 1
                continue
            for one in opened:
                try:
                    status = os.stat(one.path)
                except OSError:
                    continue
                who = f"{process.info['name']} (process {process.pid})"
                holders[status.st_dev, status.st_ino] = who
                if getattr(one, "mode", "w") != "r":  # not every system tells
                    self._writers[status.st_dev, status.st_ino] = who
                self._paths[one.path] = who
        return holders
