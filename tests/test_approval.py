"""The owner of a machine approves a plan on a page, and exactly that is carried out."""

from __future__ import annotations

import json
import os
import re
from pathlib import Path

import pytest

from tests.browser import BROWSER, Browser
from tests.conftest import Frugal
from tests.support import aged, names, rules_text, wait_until

RULE = 'in = "."\nwhere = "ext is txt"\nmove = "Texts"'
HOSTILE = (
    "<img src=x onerror=alert(1)>.txt", "<script>document.title='gone'<script>.txt", "\" onclick='x' & .txt",
    "a\u202etxt.txt", "line\nbreak.txt", "{{ 7 * 7 }}{% raw %}.txt", "</textarea>.txt".replace("/", "\u2215"), "`${1}`.txt",
)  # fmt: skip


def _plan(frugal: Frugal, folder: Path, count: int = 6, rule: str = RULE) -> str:
    """Save a plan of some moves with its page, and return its digest."""
    for number in range(1, count + 1):
        aged(folder / f"f{number}.txt", 30)
    (folder / "rules.toml").write_text(rules_text(rule))
    frugal("preview", "rules.toml", "--save", "monday.plan", "--page", "review.html")
    found = re.search(r'", "([0-9a-f]{32})"\]', (folder / "review.html").read_text(errors="surrogateescape"))
    assert found is not None
    return found[1]


def _answer(folder: Path, digest: str, stays: str, changes: int = 6, by: str = "Maren") -> None:
    (folder / "review.txt").write_text(
        f"Answer to a frugal plan, format 1\r\nPlan: {digest}\r\nFrom: {by}\r\nOn: 2026-11-23T11:00:00.000Z\r\n"
        f"Changes: {changes}\r\nStays: {stays}\r\n"
    )


def _tidy(frugal: Frugal, *more: str, code: int = 0) -> str:
    done = frugal("tidy", "--plan", "monday.plan", "--approved", "review.txt", "--yes", *more, code=code)
    return done.stdout + done.stderr


def test_what_was_approved_is_done_and_who_approved_it_is_kept(folder: Path, frugal: Frugal) -> None:
    _answer(folder, _plan(frugal, folder), "2-3,6")
    aged(folder / "late.txt", 30)  # came after the plan: nobody approved it
    said = _tidy(frugal)
    assert "approved by Maren, 2026-11-23 12:00: 3 of 6 changes" in said
    assert names(folder / "Texts") == {"f1.txt", "f4.txt", "f5.txt"}
    assert {"f2.txt", "f3.txt", "f6.txt", "late.txt"} <= names(folder)
    assert "approved by Maren, 2026-11-23 12:00: 3 of 6 changes" in frugal("history", "1").stdout
    assert json.loads(frugal("history", "1", "--format", "json").stdout)["approved"].startswith("Maren, ")
    frugal("undo", "--yes")
    assert {f"f{number}.txt" for number in range(1, 7)} <= names(folder)


def test_what_the_owner_keeps_becomes_an_exception_when_asked_for(folder: Path, frugal: Frugal) -> None:
    _answer(folder, _plan(frugal, folder), "2")
    assert "rules.toml" in _tidy(frugal, "--keep-out", "rules.toml")
    assert "f2.txt" in (folder / "rules.toml").read_text()
    frugal("tidy", "rules.toml", "--yes", code=None)
    assert "f2.txt" in names(folder)


def test_all_may_stay(folder: Path, frugal: Frugal) -> None:
    _answer(folder, _plan(frugal, folder), "1-6")
    _tidy(frugal)
    assert not (folder / "Texts").exists()


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (("Answer to", "Reply to"), "review.txt:1: not the answer to a plan"),
        (("Plan: ", "Plan: 0"), "answer to another plan than monday.plan"),
        (("Plan: ", "Plan "), "review.txt:2: this line of the answer was changed"),
        (("Changes: 6", "Changes: 5"), "answer to another plan"),
        (("From: Maren", "From: "), "review.txt:3"),
        (("From: Maren", "From: Ma\x07ren"), "review.txt:3: this is not a name"),
        (("From: Maren", f"From: {'M' * 201}"), "review.txt:3: this is not a name"),
        (("2026-11-23", "2026-11-40"), "review.txt:4: this is not a date"),
        (("Stays: 2", "Stays: 7"), "review.txt:6"),
        (("Stays: 2", "Stays: 0"), "review.txt:6"),
        (("Stays: 2", "Stays: 3-2"), "review.txt:6"),
        (("Stays: 2", "Stays: 2,2"), "review.txt:6"),
        (("Stays: 2", "Stays: f2.txt"), "review.txt:6"),
        (("Stays: 2\r\n", ""), "the answer is not whole"),
        (("Stays: 2\r\n", "Stays: 2\r\nMore: 1\r\n"), "review.txt:7"),
    ],
)
def test_an_answer_that_was_not_given_is_refused_and_nothing_is_done(
    folder: Path, frugal: Frugal, change: tuple[str, str], said: str
) -> None:
    _answer(folder, _plan(frugal, folder), "2")
    with open(folder / "review.txt", newline="") as file:
        text = file.read()
    with open(folder / "review.txt", "w", newline="") as file:
        file.write(text.replace(*change))
    assert said in _tidy(frugal, code=2)
    assert not (folder / "Texts").exists()


def test_a_plan_that_was_changed_since_is_refused(folder: Path, frugal: Frugal) -> None:
    _answer(folder, _plan(frugal, folder), "2")
    lines = (folder / "monday.plan").read_text().splitlines(keepends=True)
    (folder / "monday.plan").write_text("".join(lines[:-1]))
    assert "answer to another plan" in _tidy(frugal, code=2)


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["preview", "rules.toml", "--page", "x.html"], "--page needs --save"),
        (["purge", ".", "--older-than", "1d", "--page", "x.html"], "--page needs --save"),
        (["tidy", "rules.toml", "--approved", "review.txt"], "--approved needs --plan"),
        (["preview", "rules.toml", "--save", "y.plan", "--page", "review.html"], "review.html: the file already exists"),
    ],
)
def test_options_that_belong_together_are_asked_for(folder: Path, frugal: Frugal, words: list[str], said: str) -> None:
    _plan(frugal, folder)
    assert said in frugal(*words, code=2).stderr


def test_a_one_line_job_has_a_page_too(folder: Path, frugal: Frugal) -> None:
    aged(folder / "old.log", 90)
    frugal("purge", ".", "--older-than", "30d", "--by", "modified", "--permanent", "--save", "p.plan", "--page", "p.html")
    page = (folder / "p.html").read_text()
    assert "old.log" in page and "cannot be restored" in page and "Is it all right to make this change?" in page


def test_the_page_needs_nothing_from_outside(folder: Path, frugal: Frugal) -> None:
    pillow = pytest.importorskip("PIL.Image")
    pillow.new("RGB", (900, 600), "teal").save(folder / "bowl.jpg")
    (folder / "broken.jpg").write_bytes(b"\xff\xd8\xff no picture")
    _plan(frugal, folder, rule='in = "."\nwhere = "type is image"\nmove = "Photos"')
    page = (folder / "review.html").read_text()
    assert page.count("data:image/jpeg;base64,") == 1
    assert not re.search(r"https?:|\bsrc=\"(?!data:)|<link|@import", page)


@pytest.fixture
def browser(tmp_path_factory: pytest.TempPathFactory) -> Browser:
    if BROWSER is None:
        pytest.skip("no Chromium here: the page is not shown in a browser")
    try:
        return Browser(tmp_path_factory.mktemp("browser"))
    except (AssertionError, OSError) as error:
        pytest.skip(f"Chromium does not start here: {error}")


def test_the_owner_ticks_and_saves_in_a_browser(folder: Path, frugal: Frugal, browser: Browser) -> None:
    for name in HOSTILE:
        aged(folder / name, 30)
    Path(os.fsdecode(os.fsencode(folder) + b"/\xff.txt")).write_text("clay")
    digest = _plan(frugal, folder)
    try:
        browser.open(folder / "review.html")
        assert browser.run("document.title.startsWith('Please check')")
        assert browser.run("document.scripts.length") == 1
        assert browser.run("document.querySelectorAll('section img').length") == 0
        of = len(HOSTILE) + 7
        assert browser.run("document.querySelectorAll('input[type=checkbox]').length") == of
        tick = "[...document.querySelectorAll('tr')].filter(row => /f[1-3][.]txt/.test(row.textContent))"
        browser.run(f"{tick}.forEach(row => row.querySelector('input').click())")
        assert f"{of - 3} of {of} changes" in browser.run("document.getElementById('sum').textContent")
        browser.run("document.querySelector('form button').click()")
        assert browser.run("document.activeElement.id") == "by" and not names(browser.downloads)
        browser.run("document.getElementById('by').value = '  Maren   of the  front desk '")
        browser.run("document.querySelector('form button').click()")
        saved = browser.downloads / "review.txt"
        wait_until(lambda: saved.exists() and saved.stat().st_size)
        assert digest in saved.read_text() and saved.read_text() == browser.run("document.getElementById('text').value")
    finally:
        browser.close()
    (folder / "review.txt").write_bytes(saved.read_bytes())
    assert "approved by Maren of the front desk, 20" in _tidy(frugal)
    assert {"f1.txt", "f2.txt", "f3.txt"} <= names(folder) and set(HOSTILE) <= names(folder / "Texts")
    assert len(names(folder / "Texts")) == of - 3


def test_ten_thousand_changes_are_ticked_in_one_click(folder: Path, frugal: Frugal, browser: Browser) -> None:
    _plan(frugal, folder, 10_000)
    try:
        browser.open(folder / "review.html")
        browser.run("document.querySelector('button.all').click()")
        assert "0 of 10000 changes" in browser.run("document.getElementById('sum').textContent")
        browser.run("document.querySelector('input[value=\"5000\"]').click()")
        assert browser.run("document.getElementById('text').value").endswith("Stays: 1-4999,5001-10000\n")
    finally:
        browser.close()


def test_of_very_many_the_rules_are_not_printed_and_no_schedule_is_offered(folder: Path, frugal: Frugal) -> None:
    _answer(folder, _plan(frugal, folder, 80), "1-70", 80)
    said = _tidy(frugal)
    assert "add --keep-out RULES" in said and "[[rule]]" not in said and "schedule add" not in said
