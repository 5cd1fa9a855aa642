"""The table of verbs: what a step may do, and which class does it."""

from __future__ import annotations

from collections.abc import Mapping

from frugal_sorter.plans.plan import VerbName
from frugal_sorter.work.archives import Pack, Unpack
from frugal_sorter.work.attributes import SetAttribute
from frugal_sorter.work.copies import Copy, MoveAcross
from frugal_sorter.work.folders import MakeFolder, RemoveFolder
from frugal_sorter.work.hard_links import HardLink, OwnFile
from frugal_sorter.work.links import Link
from frugal_sorter.work.mark import Job, Verb
from frugal_sorter.work.moves import Move
from frugal_sorter.work.programs import RunProgram
from frugal_sorter.work.removals import Delete, RemoveMade
from frugal_sorter.work.times import NoteTimes, RestoreTimes
from frugal_sorter.work.trash import Empty, Restore, Trash


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
