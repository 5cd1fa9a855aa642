"""Two offices of the studio, each sorted by a habit of its own: what a few moves by hand teach.

Each task is a kind of paper that somebody began to put away by hand: 3 to 12 moves, while the rest is still there among
everything else. What `suggest --since` would move now is compared with what that person meant.
"""

from __future__ import annotations

import random
import re
from pathlib import Path
from typing import NamedTuple

import pytest

from tests.conftest import Frugal
from tests.support import put

POTTERS = ("Maren Holt", "Søren Lind", "Roy Atelier", "Ada Okada")


class Task(NamedTuple):
    """A kind of file: how the names are made, where it goes, and how many of it were moved by hand."""

    office: str
    form: str
    target: str
    moves: int


# The front desk names its files by what they are, the workshop by date and potter.
TASKS = [
    Task("desk", "Invoice-{n}.pdf", "Bills", 3),
    Task("desk", "Delivery note {n} Harbour Clay.pdf", "Deliveries/Harbour Clay", 4),
    Task("desk", "Booking {day} {potter}.pdf", "Bookings", 5),
    Task("desk", "scan{n:04}.tif", "Scans", 12),
    Task("desk", "Price list {day}.xlsx", "Prices", 3),
    Task("desk", "Re_ order {n}.eml", "Mail", 6),
    Task("workshop", "{day} {potter} kiln log.csv", "Kiln logs", 4),
    Task("workshop", "glaze_{n}_test.jpg", "Glaze tests", 5),
    Task("workshop", "IMG_{n:04}.jpg", "Photos", 8),
    Task("workshop", "mould {n} v{v}.stl", "Moulds", 3),
    Task("workshop", "{day} firing plan.ods", "Plans", 4),
    Task("workshop", "recipe {n} celadon.txt", "Recipes/Celadon", 10),
]
EACH = 30


def _names(task: Task, chance: random.Random) -> list[str]:
    found: dict[str, None] = {}
    while len(found) < EACH:
        day = f"2026-{chance.randrange(1, 12):02}-{chance.randrange(1, 28):02}"
        number = chance.randrange(1, 9_999)
        found[task.form.format(n=number, v=chance.randrange(1, 9), day=day, potter=chance.choice(POTTERS))] = None
    return list(found)


def learned(task: Task, folder: Path, frugal: Frugal) -> tuple[int, int, int]:
    """Return how many files would be moved rightly and wrongly, and how many are left that should have been."""
    chance = random.Random(task.form)
    office = folder / task.office
    for one in TASKS:
        if one.office == task.office:
            for name in _names(one, random.Random(one.form)):
                put(office / name, name)
    # And what fits nothing: single files of all kinds.
    for number in range(20):
        put(
            office
            / f"{chance.choice(['letter', 'note', 'draft'])} to {chance.choice(POTTERS)} {chr(97 + number)}.{chance.choice(['pdf', 'txt', 'jpg'])}"
        )
    frugal("inventory", task.office, "--save", "before")
    mine = _names(task, random.Random(task.form))
    (office / task.target).mkdir(parents=True)
    for name in chance.sample(mine, task.moves):
        (office / name).rename(office / task.target / name)
    said = frugal("suggest", task.office, "--since", "1 day").stdout
    if "[[rule]]" not in said:
        return 0, 0, EACH - task.moves
    put(folder / "rules.toml", said)
    frugal("tidy", "rules.toml", "--yes", code=None)
    put_there = {path.name for path in (office / task.target).iterdir()}
    moved = {path.name for path in office.rglob("*") if path.is_file() and path.parent != office}
    return len(put_there & set(mine)) - task.moves, len(moved - set(mine)), len(set(mine) - put_there)


@pytest.mark.parametrize("task", TASKS, ids=[re.sub(r"\W+", "-", task.form) for task in TASKS])
def test_a_few_moves_teach_where_the_rest_goes(task: Task, folder: Path, frugal: Frugal) -> None:
    right, wrong, left = learned(task, folder, frugal)
    assert (wrong, left) == (0, 0) and right == EACH - task.moves
