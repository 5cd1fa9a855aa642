"""What keeps a trash small: limits by age, size and a condition, as a rule file or a command gives them."""

from __future__ import annotations

from frugal_sorter.rules.conditions.tree import Node
from frugal_sorter.rules.file.mistakes import InvalidValue
from frugal_sorter.rules.units import Duration
from frugal_sorter.values import field, frozen

# Dearer facts would be read from where an entry was, not from where it lies.
_DEAREST = 5
_NO_TIME = Duration(0, 0)
# What a rule file leaves in the trash unless it says otherwise: it is what an undo needs.
WEEK = Duration(0, 7 * 86_400)


@frozen
class TrashLimits:
    """What leaves the trash for good, the oldest first: what is too old, and what is too much.

    Args:
        older_than: what lies in the trash for longer.
        shrink_to: also as much as is needed for all that lies in the trash to have no more bytes than this.
        where: only what a condition is true of, asked of the place and name that an entry had. Without an
            age and a size all of that leaves.
        keep: nothing that came to the trash within this time.
        at_most: with more files than this nothing leaves; None where that is not said.
        line: where it stands in a rule file; 0 in none.
    """

    older_than: Duration | None = None
    shrink_to: int | None = None
    where: Node | None = None
    keep: Duration = _NO_TIME
    at_most: int | None = None
    line: int = field(default=0, compare=False)

    @property
    def goes_by_time(self) -> bool:
        """Whether time alone can make it remove more."""
        dated = self.where is not None and any(leaf.check.changes for leaf in self.where.leaves())
        return self.older_than is not None or dated or self.keep != _NO_TIME

    @property
    def overruled(self) -> str:
        """What `keep` holds back for good of what the age asks for; an empty text for nothing."""
        if self.older_than is None or self.older_than.before(0) <= self.keep.before(0):
            return ""
        older, keep = self.older_than.text, self.keep.text
        return f"`older_than` is {older}, but `keep` holds everything for {keep}: it acts after that only"


def refuse_expensive(node: Node) -> Node:
    """Return a condition that can be asked of the trash.

    Raises:
        InvalidValue: it asks what would have to be read from the file itself.
    """
    for leaf in node.leaves():
        if leaf.on.cost > _DEAREST:
            raise InvalidValue(
                f"`{leaf.on.name}` cannot be asked of what lies in the trash",
                "names, types, sizes, dates and owners can",
            )
    return node
