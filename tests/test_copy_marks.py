"""The marks that file managers and browsers give to copies, in the languages they speak, and what only looks like one."""

from __future__ import annotations

from pathlib import Path

import pytest

from frugal_sorter.rules.fields import may_be_marked, unmarked_name
from tests.conftest import Frugal
from tests.support import put

MARKED = {
    "plate.jpg": [
        "plate (1).jpg", "plate (2).jpg", "plate (17).jpg", "plate(1).jpg", "plate copy.jpg", "plate copy 2.jpg",
        "plate - Copy.jpg", "plate - Copy (2).jpg", "plate - Copy (13).jpg", "plate_copy.jpg", "plate-copy.jpg", "Copy of plate.jpg",
        "Copy (2) of plate.jpg", "plate (copy).jpg", "plate (copy 1).jpg", "plate (another copy).jpg", "plate (3rd copy).jpg",
        "plate - Kopie.jpg", "plate - Kopie (2).jpg", "plate Kopie.jpg", "Kopie von plate.jpg", "plate (Kopie).jpg", "plate (weitere Kopie).jpg",
        "plate - Copie.jpg", "plate - Copie (3).jpg", "Copie de plate.jpg", "plate (copie).jpg", "plate (autre copie).jpg", "plate copie.jpg",
        "plate - copia.jpg", "plate - copia (2).jpg", "Copia de plate.jpg", "Copia di plate.jpg", "plate (copia).jpg", "plate (otra copia).jpg",
        "plate - Cópia.jpg", "plate (cópia).jpg", "Cópia de plate.jpg", "plate kopia.jpg", "plate - kopia (2).jpg",
        "Kopie van plate.jpg", "plate - kopie.jpg", "plate (kopie).jpg", "plate — копия.jpg", "plate - копия (2).jpg", "plate (копия).jpg",
        "plate - 副本.jpg", "plate - 副本 (2).jpg", "plate - コピー.jpg", "plate - コピー (2).jpg", "plate - 복사본.jpg", "plate - Kopya.jpg",
        "plate - másolat.jpg", "plate - Kopi.jpg", "plate - Αντίγραφο.jpg",
    ],
    "plate - Copy.jpg": ["plate - Copy - Copy.jpg", "plate - Copy (1).jpg".replace(" (1)", " copy")],
    "plate (1).jpg": ["plate (1) (1).jpg", "plate (1) copy.jpg"],
    "kiln.tar.gz": ["kiln (1).tar.gz", "kiln copy.tar.gz"],
    "notes": ["notes (1)", "notes copy"],
}  # fmt: skip
UNMARKED = [
    "plate.jpg", "photocopy.jpg", "hardcopy.pdf", "copy.txt", "Copy.jpg", "(1).jpg", "bill (2024).pdf", "plate_2.jpg", "plate 2.jpg",
    "chapter 1.txt", "Copyright.txt", "scopy.txt", "plate (a).jpg", "plate (0).jpg", "plate (1)x.jpg", "xerocopie.pdf", "copy of.txt",
]  # fmt: skip


@pytest.mark.parametrize(("name", "plain"), [(name, plain) for plain, names in MARKED.items() for name in names])
def test_a_mark_is_known_and_taken_off(name: str, plain: str) -> None:
    assert may_be_marked([name]) and unmarked_name(name) == plain


def test_the_table_is_wide_enough() -> None:
    assert sum(map(len, MARKED.values())) >= 40


@pytest.mark.parametrize("name", UNMARKED)
def test_what_only_looks_like_a_mark_is_none(name: str) -> None:
    assert unmarked_name(name) is None


@pytest.mark.parametrize("mark", [" (1)", " copy", " - Kopie", " - Copy - Copy", " (1) (1)"])
def test_the_original_stays_and_the_copy_goes(folder: Path, frugal: Frugal, mark: str) -> None:
    put(folder / "in/plate.jpg", "the same" * 500, age_days=1)
    put(folder / f"in/plate{mark}.jpg", "the same" * 500, age_days=20)
    frugal("duplicates", "in", "--do", "trash", "--yes")
    assert [path.name for path in (folder / "in").iterdir()] == ["plate.jpg"]
