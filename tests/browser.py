"""A browser without a window, driven over its pipe: what a person would click on a page."""

from __future__ import annotations

import fcntl
import json
import os
import select
import shutil
import subprocess
from pathlib import Path
from typing import Any

BROWSER = shutil.which("chromium") or shutil.which("chromium-browser") or shutil.which("google-chrome")
_SECONDS = 90


class Browser:
    """One page in Chromium, asked by the DevTools protocol over a pipe.

    Args:
        folder: where its profile and what it downloads lie.
    """

    def __init__(self, folder: Path) -> None:
        assert BROWSER is not None
        self.downloads = folder / "downloads"
        self.downloads.mkdir()
        # It reads from descriptor 3 and writes to 4.
        to_it, self._say = os.pipe()
        self._hear, from_it = os.pipe()
        # Out of the way of these two numbers.
        ends = to_it, from_it
        to_it, from_it = (fcntl.fcntl(one, fcntl.F_DUPFD, 50) for one in ends)
        command = [BROWSER, "--headless", "--no-sandbox", "--disable-gpu", "--no-first-run", "--disable-background-networking",
                   "--disable-component-update", "--disable-sync", "--disable-dev-shm-usage", f"--user-data-dir={folder / 'profile'}",
                   "--remote-debugging-pipe", "--window-size=1280,800"]  # fmt: skip
        self._process = subprocess.Popen(
            ["/bin/bash", "-c", f'exec "$@" 3<&{to_it} 4>&{from_it}', "bash", *command],
            pass_fds=(to_it, from_it), stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        for one in (*ends, to_it, from_it):
            os.close(one)
        self._number, self._rest, self._session = 0, b"", ""
        target = self._ask("Target.createTarget", url="about:blank")["targetId"]
        self._session = self._ask("Target.attachToTarget", targetId=target, flatten=True)["sessionId"]
        self._ask("Browser.setDownloadBehavior", behavior="allow", downloadPath=str(self.downloads))
        self._ask("Page.enable")

    def close(self) -> None:
        self._process.kill()
        self._process.wait()
        os.close(self._say)
        os.close(self._hear)

    def open(self, path: Path) -> None:
        """Show a page and wait until it is there."""
        self._ask("Page.navigate", url=path.as_uri())
        while self._next().get("method") != "Page.loadEventFired":
            pass

    def run(self, script: str) -> Any:
        """Return what a script on the page comes to."""
        found = self._ask("Runtime.evaluate", expression=script, returnByValue=True, awaitPromise=True)
        assert "exceptionDetails" not in found, found
        return found["result"].get("value")

    def _ask(self, method: str, **parameters: Any) -> dict[str, Any]:
        self._number += 1
        call = {"id": self._number, "method": method, "params": parameters}
        if self._session and not method.startswith("Browser."):
            call["sessionId"] = self._session
        os.write(self._say, json.dumps(call).encode() + b"\0")
        while (answer := self._next()).get("id") != self._number:
            pass
        assert "error" not in answer, answer
        found: dict[str, Any] = answer["result"]
        return found

    def _next(self) -> dict[str, Any]:
        while b"\0" not in self._rest:
            # A browser that hangs must not hold up all other tests.
            assert select.select([self._hear], [], [], _SECONDS)[0], "the browser does not answer"
            part = os.read(self._hear, 1 << 20)
            assert part, "the browser ended"
            self._rest += part
        line, _, self._rest = self._rest.partition(b"\0")
        found: dict[str, Any] = json.loads(line)
        return found
