"""What a trash is on each system: where entries are, where it keeps their origins, and how."""

from __future__ import annotations

from abc import ABC, abstractmethod
from datetime import datetime

from frugal_sorter.filesystem.record import Place
from frugal_sorter.values import frozen


@frozen
class TrashBin(ABC):
    """One trash folder.

    Args:
        root: its path, without symbolic links.
        top: the folder that its volume is mounted at; empty for the one in the home.
        dev: the device it is on, or will be on.
    """

    root: str
    top: str
    dev: int

    @property
    @abstractmethod
    def files(self) -> str:
        """The folder that holds what was trashed."""

    @property
    @abstractmethod
    def info(self) -> str:
        """The folder that holds where each came from."""

    @property
    def sizes(self) -> str:
        """The name of the file that says how big trashed folders are; empty where there is none."""
        return ""

    @property
    def desktop_ini(self) -> bytes:
        """What a file in it says, by which the desktop knows it for a trash; empty where none is needed."""
        return b""

    @property
    def notes_all(self) -> bool:
        """Whether each entry has an info file; else those of other programs have none."""
        return True

    @abstractmethod
    def info_name(self, name: str) -> str:
        """Return the name of the info file of an entry, by its name in the trash."""

    @abstractmethod
    def is_entry(self, name: str) -> bool:
        """Return True if a name in its folder of entries is that of one."""

    @abstractmethod
    def entry_name(self, info_name: str) -> str | None:
        """Return the name of the entry of an info file, None where a file is none."""

    @abstractmethod
    def info_bytes(self, place: Place, deleted: datetime, size: int) -> bytes:
        """Return what the info file of an entry holds.

        Args:
            place: where it was.
            deleted: the local time of its deletion.
            size: in bytes; of a folder, all inside.
        """

    @abstractmethod
    def may_begin(self, raw: bytes, place: Place) -> bool:
        """Return True if some bytes can be the beginning of the info file of an entry of a place: a kill may leave that."""

    @abstractmethod
    def parse(self, raw: bytes) -> tuple[str, datetime | None]:
        """Return where an entry was, absolute, and the local time of its deletion, as far as its info file says."""

    @abstractmethod
    def name_for(self, place: Place, number: int) -> str:
        """Return a name in it for an entry of a place.

        Args:
            place: where the entry is.
            number: 1 for the name that it should have; further ones for when that is taken.
        """


@frozen
class Trashed:
    """One entry of a trash.

    Args:
        bin: where it is.
        name: its name there, which is its number for a person, too.
        original: where it was, absolute; empty where the info does not say.
        deleted: the local time of its deletion, None where the info does not say.
        orphan: `info` where the file is missing, `file` where the info is; empty otherwise.
    """

    bin: TrashBin
    name: str
    original: str
    deleted: datetime | None
    orphan: str = ""

    @property
    def place(self) -> Place:
        """Where it is now."""
        return Place(self.bin.files, self.name)

    @property
    def info_place(self) -> Place:
        """Where its info file is."""
        return Place(self.bin.info, self.bin.info_name(self.name))
