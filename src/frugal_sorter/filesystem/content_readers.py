"""Facts inside a file: each is read by its library, in a process of its own.

Files are other people's: damaged, hostile, endless. So this module is run by `filesystem.contents` in a
child with bounded memory, and is killed when it takes too long. It never changes anything.
"""

from __future__ import annotations

import json
import os
import stat
import sys
from collections.abc import Callable
from datetime import datetime
from typing import Any, BinaryIO

from frugal_sorter.filesystem.record import OTHER, TYPE_OF_SUFFIX, suffix_of
from frugal_sorter.platforms import disk, processes

HEAD_BYTES = 16_384
TEXT_BYTES = 8_000_000
PDF_BYTES = 100_000_000
PDF_PAGES = 200
MEMORY_BYTES = 1 << 30
# The longer side of a small picture, in pixels.
THUMBNAIL = 72

# Types whose contents are text, whatever else they are.
_WRITTEN = frozenset({"text", "log", "code", "web", "data", "mail", "calendar", "contact", "config"})
_WRITTEN_SUFFIXES = frozenset({"csv", "tsv", "rtf", "svg", "tex", "sh", "bat", "cmd", "ps1", "vbs"})
# Suffixes with the same kind of contents. Many formats are a zip, or what was
# once the common office container; so these are one family.
_FAMILIES = {
    "image": "picture",
    "video": "recording",
    "audio": "recording",
    "document": "document",
    "spreadsheet": "document",
    "presentation": "document",
    "ebook": "document",
    "archive": "document",
    "installer": "program",
    "program": "program",
    "disk-image": "disk image",
    "font": "font",
    "database": "database",
}
_PACKED_SUFFIXES = frozenset({"jar", "apk", "appx", "msix", "3mf", "cbz", "kmz"})


class Unreadable(Exception):
    """A fact that is not available, and why."""


def family_of(suffix: str) -> str | None:
    """Return the family of contents that a suffix promises, or None where it promises none."""
    group = TYPE_OF_SUFFIX.get(suffix, OTHER)
    if group in _WRITTEN or suffix in _WRITTEN_SUFFIXES:
        return "text"
    if suffix in _PACKED_SUFFIXES:
        return "document"
    return _FAMILIES.get(group)


def _magic(file: BinaryIO) -> list[tuple[str, str]]:
    """Return what the first bytes may be: suffixes and media types, the surest first."""
    import puremagic

    head = file.read(HEAD_BYTES)
    if not head:
        return []
    try:
        found = puremagic.magic_string(head)
    except (puremagic.PureError, ValueError):
        return []
    return [(one.extension.removeprefix(".").lower(), one.mime_type) for one in found]


def mime(file: BinaryIO, _suffix: str) -> str:
    """Return the media type of the contents."""
    for _, named in _magic(file):
        if named:
            return named
    raise Unreadable("unknown file format")


def mislabelled(file: BinaryIO, suffix: str) -> bool:
    """Return True if the contents belong to another family than the suffix says."""
    promised = family_of(suffix)
    if promised is None:
        raise Unreadable("this extension does not imply a file format")
    found = {family for found, _ in _magic(file) if (family := family_of(found))}
    if not found:
        raise Unreadable("unknown file format")
    return promised not in found


def taken(file: BinaryIO, _suffix: str) -> int | None:
    """Return when a photo was taken (Exif 2.32, DateTimeOriginal), in ns since the epoch."""
    from PIL import Image

    with Image.open(file) as image:
        # 0x8769 is the table of the photo itself (Exif), 0x9003 in it DateTimeOriginal.
        exif = image.getexif()
        text = exif.get_ifd(0x8769).get(0x9003)
    if not text:
        return None
    try:
        moment = datetime.strptime(str(text).strip("\0 ")[:19], "%Y:%m:%d %H:%M:%S")
        return int(moment.timestamp()) * 1_000_000_000
    except (ValueError, OverflowError):
        raise Unreadable("the photo's date is invalid") from None


def thumbnail(file: BinaryIO, _suffix: str) -> str:
    """Return a small picture of a picture, as JPEG in base64."""
    import base64
    import io

    from PIL import Image, ImageOps

    with Image.open(file) as image:
        # Only as much of a large one is read as is needed.
        image.draft("RGB", (THUMBNAIL, THUMBNAIL))
        image.thumbnail((THUMBNAIL, THUMBNAIL))
        small, body = ImageOps.exif_transpose(image).convert("RGB"), io.BytesIO()
        small.save(body, "JPEG", quality=60)
    return base64.b64encode(body.getvalue()).decode("ascii")


def label(file: BinaryIO, suffix: str) -> dict[str, str]:
    """Return title, artist and album of a recording or a PDF."""
    if suffix == "pdf":
        info = _pdf(file).metadata
        return {"title": str((info and info.title) or ""), "artist": str((info and info.author) or ""), "album": ""}
    import mutagen

    tags = mutagen.File(file, easy=True)
    if tags is None:
        raise Unreadable("not a recording that can be read")
    return {name: ", ".join(map(str, tags.get(name) or [])) for name in ("title", "artist", "album")}


def _pdf(file: BinaryIO) -> Any:
    import logging

    import pypdf

    logging.getLogger("pypdf").setLevel(logging.CRITICAL)
    if disk.fstat(file.fileno()).st_size > PDF_BYTES:
        raise Unreadable(f"larger than {PDF_BYTES // 1_000_000} MB")
    return pypdf.PdfReader(file)


def text(file: BinaryIO, suffix: str) -> str:
    """Return the text inside a text file, in any common encoding, or inside a PDF."""
    if suffix == "pdf":
        pages = _pdf(file).pages
        if len(pages) > PDF_PAGES:
            raise Unreadable(f"more than {PDF_PAGES} pages")
        return "\n".join(page.extract_text() for page in pages)
    if disk.fstat(file.fileno()).st_size > TEXT_BYTES:
        raise Unreadable(f"larger than {TEXT_BYTES // 1_000_000} MB")
    raw = file.read(TEXT_BYTES)
    for mark, encoding in (
        # The marks of UTF-32 first: that of UTF-16 is their beginning.
        (b"\xef\xbb\xbf", "utf-8-sig"),
        (b"\xff\xfe\0\0", "utf-32"),
        (b"\0\0\xfe\xff", "utf-32"),
        (b"\xff\xfe", "utf-16"),
        (b"\xfe\xff", "utf-16"),
    ):
        if raw.startswith(mark):
            return raw.decode(encoding, "replace")
    if b"\0" in raw:
        raise Unreadable("neither a text file nor a PDF")
    try:
        return raw.decode("utf-8")
    except UnicodeDecodeError:
        # What is not UTF-8 mostly comes from older programs of Windows.
        return raw.decode("cp1252", "replace")


READERS: dict[str, Callable[[BinaryIO, str], Any]] = {
    "mime": mime,
    "mislabelled": mislabelled,
    "taken": taken,
    "thumbnail": thumbnail,
    "label": label,
    "text": text,
}


def _open(path: str) -> int:
    # Without O_NONBLOCK a pipe that took the file's place would wait for a writer.
    flags = disk.O_RDONLY | disk.O_NOFOLLOW | disk.O_NONBLOCK | disk.O_CLOEXEC
    try:
        # Looking must not count as opening; only the owner may ask for that.
        return disk.open(path, flags | disk.O_NOATIME)
    except PermissionError:
        return disk.open(path, flags)


def read(fact: str, path: str) -> dict[str, Any]:
    """Return `{"value": ...}`, or `{"unknown": reason}`; nothing that a file holds raises."""
    try:
        descriptor = _open(path)
        with open(descriptor, "rb") as file:
            # From what was opened: by its name another entry could be there by now.
            if not stat.S_ISREG(disk.fstat(descriptor).st_mode):
                return {"unknown": "not a regular file"}
            return {"value": READERS[fact](file, suffix_of(os.path.basename(path)))}
    except Unreadable as reason:
        return {"unknown": str(reason)}
    except MemoryError:
        return {"unknown": "needs too much memory"}
    except OSError as error:
        if error.errno is None:
            return {"unknown": "damaged"}
        return {"unknown": (error.strerror or "cannot be read").lower()}
    except Exception:  # whatever a library trips over in a damaged file
        return {"unknown": "damaged"}


def serve() -> None:
    """Answer questions, a line each, until there are no more."""
    processes.limit(MEMORY_BYTES)
    for line in sys.stdin:
        fact, path = json.loads(line)
        sys.stdout.write(json.dumps(read(fact, path)) + "\n")
        sys.stdout.flush()
