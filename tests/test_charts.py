from __future__ import annotations

import struct
from html.parser import HTMLParser
from pathlib import Path

import pytest

from tests.conftest import Frugal
from tests.support import put

VOID = {"meta", "br", "link", "path", "use", "rect", "line"}


class Reader(HTMLParser):
    """Reads a page: which elements are open, and what is in the cells of its tables."""

    def __init__(self) -> None:
        super().__init__()
        self.open: list[str] = []
        self.rows: list[list[str]] = []
        self.seen: set[str] = set()

    def handle_starttag(self, tag: str, _attrs: object) -> None:
        self.seen.add(tag)
        if tag not in VOID:
            self.open.append(tag)
        if tag == "tr":
            self.rows.append([])
        if tag in ("td", "th"):
            self.rows[-1].append("")

    def handle_endtag(self, tag: str) -> None:
        if tag not in VOID:
            assert self.open.pop() == tag

    def handle_data(self, data: str) -> None:
        if self.open and self.open[-1] in ("td", "th"):
            self.rows[-1][-1] += data


def lay_out(folder: Path) -> None:
    for number in range(30):
        put(folder / f"Intake/shelf {number}/a{number}.k{number}", b"x" * (number * 1000 + 1), age_days=number * 60)
    put(folder / "Intake/<script>alert(1) $x_1$/釉薬 & \x07.jpg", b"x" * 50_000)


@pytest.mark.parametrize(("name", "head"), [("c.png", b"\x89PNG"), ("c.svg", b"<?xml"), ("c.pdf", b"%PDF")])
def test_a_figure_in_every_format(folder: Path, frugal: Frugal, name: str, head: bytes) -> None:
    lay_out(folder)
    frugal("inventory", "Intake", "--chart", name)
    raw = (folder / name).read_bytes()
    assert raw.startswith(head)
    if name.endswith(".png"):
        assert struct.unpack(">II", raw[16:24]) == (1280, 800)
    if name.endswith(".svg"):
        assert b"<script>" not in raw
    assert "the file already exists" in frugal("inventory", "Intake", "--chart", name, code=2).stderr
    assert "file name must end in .png, .svg, .pdf" in frugal("inventory", "Intake", "--chart", "c.gif", code=2).stderr


def test_an_empty_folder_has_a_figure_too(folder: Path, frugal: Frugal) -> None:
    (folder / "Intake").mkdir()
    frugal("inventory", "Intake", "--chart", "c.png")
    assert (folder / "c.png").stat().st_size > 1_000


def test_the_page_is_whole_escaped_and_has_every_row(folder: Path, frugal: Frugal) -> None:
    lay_out(folder)
    page = frugal("inventory", "Intake", "--format", "html", "--by", "folder", "--largest", "3").stdout
    reader = Reader()
    reader.feed(page)
    assert not reader.open and "svg" in reader.seen and page.count("<script>") == 1 and "\x07" not in page
    names = [row[0] for row in reader.rows]
    assert "shelf 29" in names and "<script>alert(1) $x_1$" in names and len(names) >= 30 + 4
    assert "http" not in page.replace("http://www.w3.org", "").replace("http://purl.org", "").replace(
        "http://creativecommons.org", ""
    )
