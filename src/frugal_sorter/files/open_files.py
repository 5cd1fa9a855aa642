"""Which files are open, and by which program, as far as this user can see."""

from __future__ import annotations

import os


class OpenFiles:
    """Asks the system once, when first asked."""

    def __init__(self) -> None:
        self._holders: dict[tuple[int, int], str] | None = None
        self.unseen = 0

    def holder(self, dev: int, ino: int) -> str | None:
        """Return the program that has an entry open, such as `writer (process 12)`, or None."""
        if self._holders is None:
            self._holders = self._look()
        return self._holders.get((dev, ino))

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
                holders[status.st_dev, status.st_ino] = f"{process.info['name']} (process {process.pid})"
        return holders
