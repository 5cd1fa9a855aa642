from __future__ import annotations

import pytest
from hypothesis import given

from frugal_sorter.filesystem.record import TYPE_OF_SUFFIX, TYPES, stem_of, suffix_of
from tests.support import file_names


@pytest.mark.parametrize(
    ("name", "stem", "suffix"),
    [
        ("kiln.log", "kiln", "log"),
        ("PRICES.TXT", "PRICES", "txt"),
        ("logs.tar.gz", "logs", "tar.gz"),
        ("LOGS.TAR.GZ", "LOGS", "tar.gz"),
        (".tar.gz", ".tar", "gz"),
        ("catalogue.pdf.part", "catalogue.pdf", "part"),
        (".profile", ".profile", ""),
        (".profile.txt", ".profile", "txt"),
        ("README", "README", ""),
        ("trailing.", "trailing.", ""),
        ("Firing schedule v1.2 final", "Firing schedule v1.2 final", ""),
        ("..log", "..log", ""),
        ("a.b c.txt", "a.b c", "txt"),
        ("photo.İ", "photo", "i̇"),
    ],
)
def test_suffix_and_stem(name: str, stem: str, suffix: str) -> None:
    assert (stem_of(name), suffix_of(name)) == (stem, suffix)


@given(file_names)
def test_stem_and_suffix_make_the_name_again(name: str) -> None:
    stem, suffix = stem_of(name), suffix_of(name)
    assert stem and name.startswith(stem)
    assert name[len(stem) :].lower() == (f".{suffix}" if suffix else "")


def test_every_suffix_has_a_known_type() -> None:
    assert set(TYPE_OF_SUFFIX.values()) <= set(TYPES)
    assert all(suffix == suffix.lower() and not suffix.startswith(".") for suffix in TYPE_OF_SUFFIX)
