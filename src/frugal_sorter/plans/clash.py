"""Target names: which are free, and how a newcomer is numbered."""

from __future__ import annotations

import os
import re

from frugal_sorter.files.record import Place
from frugal_sorter.rules.patterns import shortened

_NUMBERED = re.compile(r"_(\d+)(?=\.|$)")


def is_numbered_form(name: str, plain: str) -> bool:
    """Tell whether a name is what numbering made of a plain one: `name_2.ext` of `name.ext`."""
    return any(
        not match[1].startswith("0") and int(match[1]) > 1 and shortened(plain, f"_{match[1]}") == name
        for match in _NUMBERED.finditer(name)
        if len(match[1]) < 10
    )


class Names:
    """Names that are free in target folders: not on the disk, and not given out in this plan.

    A name that a step of the plan will free is not free: steps may fail.
    """

    def __init__(self) -> None:
        self._given: set[Place] = set()
        self._next: dict[Place, int] = {}

    def on_disk(self, place: Place) -> bool:
        """Tell whether something of that name stands there now."""
        return os.path.lexists(place.path)

    def give(self, wanted: Place) -> Place:
        """Return a free place, the wanted one or the first free number of it, and keep it."""
        place = wanted
        if not self.is_free(place):
            number = self._next.get(wanted, 2)
            while not self.is_free(place):
                place = Place(wanted.folder, shortened(wanted.name, f"_{number}"))
                number += 1
            self._next[wanted] = number
        self._given.add(place)
        return place

    def is_free(self, place: Place) -> bool:
        """Tell whether nothing of that name stands there, or will by this plan."""
        return place not in self._given and not self.on_disk(place)
