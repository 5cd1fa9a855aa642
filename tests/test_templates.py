from __future__ import annotations

import os
from pathlib import Path

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from frugal_sorter.filesystem.record import TYPE_OF_SUFFIX, FileRecord, Identity, Place
from frugal_sorter.platforms import system
from frugal_sorter.rules.fields import Facts
from frugal_sorter.rules.templates import Filling, Missing, parse_template
from frugal_sorter.rules.units import InvalidValue
from tests.support import NOW_NS, WORLD, file_names

PLACES = {"store": "/srv/{odd} store", "home": "/home/maren"}


def facts_named(name: str, mtime_ns: int = NOW_NS) -> Facts:
    identity = Identity("file", 1, 2, 1_234, mtime_ns, None)
    record = FileRecord(Place("/studio/Intake/sub", name), identity, mtime_ns, mtime_ns, 0o644, 1, 0, 0, 0)
    return Facts(record, "/studio/Intake", TYPE_OF_SUFFIX, WORLD)


@pytest.mark.parametrize(
    ("template", "name", "segments"),
    [
        ("Photos/{type}", "a.jpg", ["Photos", "image"]),
        ("{typefolder}", "a.iso", ["Disk-image"]),
        ("{typefolder}", "a.jpg", ["Glaze photos"]),
        ("{modified:%Y/%m %B}", "a.jpg", ["2026", "11 November"]),
        ("{modified:%Y}-{ext}", "a.JPG", ["2026-jpg"]),
        ("{modified}", "a", ["2026-11-23"]),
        ("{initial}", "émail", ["É"]),
        ("{initial}", "-- 6 tiles", ["6"]),
        ("{ext|\"none\"}", "README", ["none"]),
        ("{initial|ext|\"x/y:z\"}", "--", ["x_y:z"]),
        ("{folder}/{depth}/{size}", "a", ["sub", "2", "1234"]),
        ("{path}", "a", ["_studio_Intake_sub_a"]),
        ("{{{stem}}}", "a.txt", ["{a}"]),
        ("../Sorted/./x//y", "a", ["..", "Sorted", "x", "y"]),
        ("{stem}", "..x.txt", ["_.x"]),
        ("{stem}", "con.txt", ["con_"]),
        ("{stem}.old", "nul.txt", ["nul_.old"]),
        ("{stem}", "a. .txt", ["a"]),
        ("{stem}", "tab\there.txt", ["tab_here"]),
        ("{name}", "con. ", ["con. "]),
        ("{store}/{ext}", "a.txt", ["srv", "{odd} store", "txt"]),
        ("/abs/{ext}", "a.txt", ["abs", "txt"]),
    ],
)  # fmt: skip
def test_filling_in(template: str, name: str, segments: list[str]) -> None:
    assert parse_template(template, PLACES).fill(facts_named(name), Filling({"image": "Glaze photos"})) == segments


@pytest.mark.parametrize(("template", "name"), [("{ext}", "README"), ("{initial}", "--"), ("x/{ext|initial}", "...")])
def test_what_has_no_value_is_missing(template: str, name: str) -> None:
    filled = parse_template(template, PLACES).fill(facts_named(name), Filling())
    assert isinstance(filled, Missing)
    assert "no value" in filled.reason


@pytest.mark.parametrize(
    ("template", "rename", "hint"),
    [
        ("", False, "name a folder"),
        ("{}", False, "{type}"),
        ("{exxt}", False, "did you mean `ext`"),
        ("{hidden}", False, "choose from"),
        ("a{b", False, "double it"),
        ("{ext:%Y}", False, "dates take one"),
        ("{modified:Y}", False, "%Y"),
        ("{modified:%Q}", False, "%Y is the year"),
        ("{store}x", False, "{store}/Sorted"),
        ("a/{store}", False, "write the full folder path"),
        ("a/b", True, "move"),
        ("/a", True, "move"),
        ("{modified:%Y/%m}", True, "move"),
    ],
)
def test_wrong_targets(template: str, rename: bool, hint: str) -> None:
    with pytest.raises(InvalidValue) as caught:
        parse_template(template, PLACES, rename=rename)
    assert hint in caught.value.hint


@given(
    name=file_names,
    template=st.sampled_from(["{stem}", "x{stem}", "{name}{stem}", "{ext|stem}", "{path}", "{stem}{initial|'-'}"]),
)
def test_a_value_never_leaves_its_segment(name: str, template: str) -> None:
    template = template.replace("'", '"')
    filled = parse_template(template, {}).fill(facts_named(name), Filling())
    if isinstance(filled, Missing):
        return
    assert len(filled) == 1
    assert filled[0] not in ("", ".", "..")
    assert "/" not in filled[0] and "\0" not in filled[0]
    assert len(os.fsencode(filled[0])) <= system.LONGEST
    assert not filled[0].startswith(".")


@given(
    stem=st.text(st.characters(exclude_categories=["Cs"], exclude_characters="/\0"), min_size=1, max_size=300),
    mark=st.sampled_from(["", "_2", "_1000"]),
)
def test_shortened_names_fit_and_keep_their_suffix(stem: str, mark: str) -> None:
    assume(stem.strip("."))  # what is all dots has no suffix: it is hidden
    name = system.shortened(f"{stem}.jpeg", mark)
    assert len(os.fsencode(name)) <= system.LONGEST
    assert name.endswith(f"{mark}.jpeg")
    assert os.fsencode(name).decode("utf-8") == name


def test_numbers_stand_before_double_suffixes() -> None:
    assert system.shortened("logs.tar.gz", "_2") == "logs_2.tar.gz"
    assert system.shortened("no suffix", "_2") == "no suffix_2"
    assert system.shortened(".profile", "_2") == ".profile_2"
    assert Path(system.shortened("a.b", "_2")).suffix == ".b"
