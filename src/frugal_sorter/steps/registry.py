"""The table of verbs: what a step may do, and which class does it."""

from __future__ import annotations

from collections.abc import Mapping

from frugal_sorter.steps.base import Job, Verb
from frugal_sorter.steps.copy import Copy
from frugal_sorter.steps.delete import Delete
from frugal_sorter.steps.empty import Empty
from frugal_sorter.steps.hard_link import HardLink
from frugal_sorter.steps.link import Link
from frugal_sorter.steps.make_folder import MakeFolder
from frugal_sorter.steps.move import Move
from frugal_sorter.steps.move_across import MoveAcross
from frugal_sorter.steps.note_times import NoteTimes
from frugal_sorter.steps.own_file import OwnFile
from frugal_sorter.steps.pack import Pack
from frugal_sorter.steps.remove_folder import RemoveFolder
from frugal_sorter.steps.remove_made import RemoveMade
from frugal_sorter.steps.restore import Restore
from frugal_sorter.steps.restore_times import RestoreTimes
from frugal_sorter.steps.run import RunProgram
from frugal_sorter.steps.set_attribute import SetAttribute
from frugal_sorter.steps.step import VerbName
from frugal_sorter.steps.trash import Trash
from frugal_sorter.steps.unpack import Unpack


def verbs_for(job: Job) -> Mapping[VerbName, Verb]:
    """Return every verb by its name."""
    return {
        "move": Move(job),
        "move-across": MoveAcross(job),
        "trash": Trash(job),
        "restore": Restore(job),
        "delete": Delete(job),
        "empty": Empty(job),
        "copy": Copy(job),
        "remove-made": RemoveMade(job),
        "link": Link(job),
        "hard-link": HardLink(job),
        "own-file": OwnFile(job),
        "pack": Pack(job),
        "unpack": Unpack(job),
        "set-attribute": SetAttribute(job),
        "run": RunProgram(job),
        "make-folder": MakeFolder(job),
        "remove-folder": RemoveFolder(job),
        "note-times": NoteTimes(job),
        "restore-times": RestoreTimes(job),
    }
