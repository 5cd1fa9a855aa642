"""What is known of an entry, and the types of files."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Mapping
from typing import Annotated, Any, Literal, NamedTuple, TypedDict, get_args

from frugal_sorter.platforms import slashed
from frugal_sorter.reasons import Reason
from frugal_sorter.state import is_count, is_name, is_number, is_text
from frugal_sorter.values import field, frozen, mutable

EntryKind = Literal["file", "folder", "link", "other"]
# FAT keeps times to two seconds.
COARSEST_TIME_NS = 2_000_000_000


# What fits into the columns of a search and into a database; the years 1677 to 2262.
_EARLIEST_NS, _LATEST_NS = -(1 << 63), (1 << 63) - 1


def storable_ns(ns: int) -> int:
    """Return a moment in ns since the epoch, or the nearest one that fits into 64 bits: a file can have any date."""
    return min(max(ns, _EARLIEST_NS), _LATEST_NS)


@frozen
class Unknown:
    """A fact that may exist but was not available, and why."""

    reason: str


class Place(NamedTuple):
    """A name in a folder. Folder strings are absolute, resolved, and shared between places."""

    folder: str
    name: str

    @property
    def path(self) -> str:
        """The absolute path, undecodable bytes as surrogates (PEP 383)."""
        return f"{self.folder.rstrip('/')}/{self.name}"


def name_order(name: str) -> tuple[list[str | int], str]:
    """Return a key that sorts names as people do: whatever the case of their letters, and numbers by their value."""
    return [int(part) if at % 2 else part for at, part in enumerate(re.split("([0-9]+)", name.casefold()))], name


def is_inside(path: str, folder: str) -> bool:
    """Return True if an absolute path is a folder or is below it."""
    return path == folder or path.startswith(folder.rstrip("/") + "/")


def place_of(path: str) -> Place:
    """Split an absolute path into its folder and name."""
    folder, name = os.path.split(path)
    return Place(folder, name)


class Identity(NamedTuple):
    """WHO an entry is (device, inode, birth time) and its STATE (size, modification time).

    Times are in nanoseconds since the epoch. `born_ns` is None where the file system keeps no
    birth time, or not for long (overlayfs). Folders have size and modification time 0: theirs do not tell what is inside;
    where that matters, `inside` is a digest over everything below. Where inode numbers do not
    last, `sample` is a digest of the first and the last block, and with size and time says WHO.
    """

    kind: EntryKind
    dev: int
    ino: int
    size: int
    mtime_ns: int
    born_ns: int | None = None
    inside: str | None = None
    sample: str | None = None

    def same_who(self, other: Identity) -> bool:
        """Return True if both are the same entry, the device number aside (it changes on a remount)."""
        # Both must have one: a run that was written down elsewhere may not.
        if self.sample is not None and other.sample is not None:
            mine, others = (self.kind, self.size, self.sample), (other.kind, other.size, other.sample)
            # Where inode numbers do not last, times are often kept to two seconds alone.
            return mine == others and abs(self.mtime_ns - other.mtime_ns) <= COARSEST_TIME_NS
        # An inode number is used again once a file is gone; the birth tells the next owner from it.
        is_born_apart = self.born_ns != other.born_ns and None not in (self.born_ns, other.born_ns)
        return (self.kind, self.ino) == (other.kind, other.ino) and not is_born_apart

    def same_state(self, other: Identity) -> bool:
        """Return True if neither was written to since the other was taken."""
        if self.sample is not None and other.sample is not None:
            return self.same_who(other)
        return (self.size, self.mtime_ns, self.inside) == (other.size, other.mtime_ns, other.inside)


class FileRecord(NamedTuple):
    """Everything that one status call says of an entry; `born_ns` also where it is not part of its identity."""

    place: Place
    identity: Identity
    mtime_ns: int
    ctime_ns: int
    mode: int
    nlink: int
    uid: int
    gid: int
    atime_ns: int
    born_ns: int | None = None


IsFit = Callable[[Any], bool]
_KINDS, _MODES = frozenset(get_args(EntryKind)), 0o7777


def is_mode(value: Any) -> bool:
    return is_count(value) and value <= _MODES


def is_owner(value: Any) -> bool:
    return is_count(value) and value < 1 << 32


def is_attributes(value: Any) -> bool:
    return isinstance(value, dict) and all(is_name(name) and is_base64(one) for name, one in value.items())


def is_base64(value: Any) -> bool:
    from base64 import b64decode

    try:
        b64decode(value, validate=True)
    except (ValueError, TypeError):
        return False
    return True


def is_identity(value: Any) -> bool:
    """Return True if values are those of an `Identity`."""
    if not isinstance(value, (list, tuple)) or not 5 <= len(value) <= len(Identity._fields):
        return False
    kind, dev, ino, size, mtime_ns, born_ns, inside, sample = (*value, None, None, None)[: len(Identity._fields)]
    return (
        isinstance(kind, str)
        and kind in _KINDS
        and all(map(is_count, (dev, ino, size)))
        and is_number(mtime_ns)
        and (born_ns is None or is_number(born_ns))
        and all(one is None or is_text(one) for one in (inside, sample))
    )


def is_place(value: Any) -> bool:
    return (
        isinstance(value, (list, tuple))
        and len(value) == 2
        and all(map(is_name, value))
        and slashed.is_absolute(value[0])
        and "/" not in value[1]
    )


class AsItWas(TypedDict, total=False):
    """How a file or folder must be described again: rights, owner, times in ns, attributes in base64."""

    mode: Annotated[int, is_mode]
    uid: Annotated[int, is_owner]
    gid: Annotated[int, is_owner]
    mtime_ns: Annotated[int, is_number]
    atime_ns: Annotated[int, is_number]
    attributes: Annotated[Mapping[str, str], is_attributes]


class Unread(NamedTuple):
    """A path that was not read, and why."""

    path: str
    reason: Reason


@mutable
class Listing:
    """One folder as columns: lists side by side, not an object a file; only one is held at a time.

    `names`, `status`, `size` (bytes) and `mtime_ns` hold the regular files, at the same index. All
    but the names are empty where the walk was told that no one needs them. `version_control` says
    that this is the root of a tree under version control, `further` that the folder was read in parts and
    this is not the first of them.
    """

    folder: str
    dev: int
    names: list[str] = field(default_factory=list)
    folders: list[str] = field(default_factory=list)
    links: list[str] = field(default_factory=list)
    others: list[str] = field(default_factory=list)
    unread: list[Unread] = field(default_factory=list)
    version_control: bool = False
    further: bool = False
    status: list[os.stat_result] = field(default_factory=list)

    @property
    def size(self) -> list[int]:
        """The bytes of the files."""
        return [status.st_size for status in self.status]

    @property
    def mtime_ns(self) -> list[int]:
        """The modification times of the files, in ns since the epoch."""
        return [status.st_mtime_ns for status in self.status]

    def place(self, index: int) -> Place:
        """Return the place of the file at an index."""
        return Place(self.folder, self.names[index])


SIZE_BANDS = ((0, "empty"), (100_000, "up to 100 KB"), (1_000_000, "up to 1 MB"), (10_000_000, "up to 10 MB"),
              (100_000_000, "up to 100 MB"), (1_000_000_000, "up to 1 GB"))  # fmt: skip
LARGEST_BAND = "over 1 GB"
_DAY_NS = 86_400_000_000_000
AGE_BANDS = ((1, "up to 1 day"), (7, "up to 1 week"), (30, "up to 30 days"), (90, "up to 90 days"),
             (365, "up to 1 year"), (1095, "up to 3 years"))  # fmt: skip
OLDEST_BAND, FUTURE_BAND = "over 3 years", "in the future"


def size_band(size: int) -> str:
    """Return the band of a size in bytes."""
    return next((name for limit, name in SIZE_BANDS if size <= limit), LARGEST_BAND)


def age_band(mtime_ns: int, now_ns: int) -> str:
    """Return the band of the age of what was last written at a moment (ns since the epoch)."""
    age_ns = now_ns - mtime_ns
    if age_ns < 0:
        return FUTURE_BAND
    return next((name for days, name in AGE_BANDS if age_ns <= days * _DAY_NS), OLDEST_BAND)


def band_order(name: str) -> int:
    """Return the place of a band in its order, the newest or smallest first."""
    names = [FUTURE_BAND, *(name for _, name in AGE_BANDS), OLDEST_BAND, *(name for _, name in SIZE_BANDS), LARGEST_BAND]
    return names.index(name) if name in names else len(names)


# Packed tar files carry two suffixes that only mean something together.
_PACKED = frozenset({"gz", "bz2", "xz", "zst", "lz", "lzma", "z", "br", "lz4"})

_GROUPS = {
    "image": "jpg jpeg jpe jfif png gif bmp tif tiff webp heic heif avif svg psd xcf ico raw cr2 cr3 nef arw "
    "dng orf rw2 raf pef jxl jp2 eps ai",
    "video": "mp4 m4v mov avi mkv webm wmv mpg mpeg flv 3gp mts m2ts ts ogv vob",
    "audio": "mp3 m4a aac wav flac ogg oga opus wma aif aiff mid midi amr",
    "text": "txt md rst rtf tex nfo text",
    "document": "pdf doc docx docm dot dotx odt ott pages ps xps djvu wpd",
    "spreadsheet": "xls xlsx xlsm xlsb ods ots numbers csv tsv",
    "presentation": "ppt pptx pptm pps ppsx odp otp key",
    "ebook": "epub mobi azw azw3 fb2 cbz cbr",
    "archive": "zip 7z rar tar gz tgz bz2 tbz tbz2 xz txz zst lz lzma cab arj "
    "tar.gz tar.bz2 tar.xz tar.zst tar.lz tar.lzma tar.z tar.br tar.lz4",
    "disk-image": "iso img dmg vhd vhdx vmdk vdi qcow2 wim",
    "installer": "exe msi msix appx deb rpm pkg apk appimage flatpak snap",
    "program": "com bat cmd ps1 sh bash zsh vbs jar app dll so dylib sys",
    "font": "ttf otf woff woff2 ttc fon pfb",
    "code": "py js jsx tsx c h cpp cc hpp cs java go rs rb php pl swift kt lua r m sql ipynb",
    "web": "html htm xhtml mhtml css scss url webloc",
    "data": "json xml yaml yml toml parquet geojson gpx kml avro ndjson jsonl",
    "model": "stl obj 3mf ply step stp iges igs gltf glb fbx dae blend dwg dxf gcode skp",
    "mail": "eml msg mbox pst ost emlx",
    "calendar": "ics ical ifb",
    "contact": "vcf vcard ldif",
    "log": "log evtx etl trace",
    "temporary": "tmp temp swp swo cache dmp chk",
    "partial": "part crdownload partial download filepart opdownload",
    "backup": "bak old orig bkp backup sav",
    "database": "db sqlite sqlite3 mdb accdb dbf frm ldb",
    "config": "ini cfg conf config reg plist properties env desktop",
}

OTHER = "other"

TYPE_OF_SUFFIX: Mapping[str, str] = {suffix: group for group, suffixes in _GROUPS.items() for suffix in suffixes.split()}
TYPES: tuple[str, ...] = (*_GROUPS, OTHER)
# Suffixes as they are mostly written, without those that may be half of a double one.
PLAIN_SUFFIXES = {
    written: suffix
    for suffix in TYPE_OF_SUFFIX
    if suffix not in _PACKED and "." not in suffix
    for written in (suffix, suffix.upper())
}


def suffix_of(name: str) -> str:
    """Return the suffix of a name, in lower case, without its dot; empty where it has none.

    A leading dot starts no suffix, nor does a dot before white space ("Invoice no. 12"). Packed
    tar files have a double suffix: "tar.gz".
    """
    head, dot, last = name.rpartition(".")
    known = PLAIN_SUFFIXES.get(last)
    if known is not None and head and head[0] != ".":
        return known  # nearly every name ends here; this runs once for each file of a tree
    if not dot or not last or not head.strip("."):
        return ""
    if not (last.isascii() and last.isalnum()) and any(letter.isspace() for letter in last):
        return ""
    # From here on names are rare: capitals, double suffixes, suffixes that no type knows.
    last = last.lower()
    if last in _PACKED and head[-4:].lower() == ".tar" and len(head) > 4:
        return f"tar.{last}"
    return last


def may_be_double(end: str) -> bool:
    """Return True if the letters after the last dot may be half of a double suffix."""
    return end.lower() in _PACKED


def stem_of(name: str) -> str:
    """Return the name without its suffix and the dot before it."""
    suffix = suffix_of(name)
    # Lower-casing may change a length (İ), so what to cut is found by counting dots.
    for _ in range(suffix.count(".") + 1 if suffix else 0):
        name = name.rpartition(".")[0]
    return name
