"""Tags, comments and origins that other desktop programs keep in extended attributes.

After the freedesktop.org "Guidelines for extended attributes": `user.xdg.tags` holds tags with commas
between them, `user.xdg.comment` a text, `user.xdg.origin.url` an address; all in UTF-8.
"""

from __future__ import annotations

import errno

from frugal_sorter.filesystem.tree import current, real_path
from frugal_sorter.platforms import attributes

TAGS = "user.xdg.tags"
COMMENT = "user.xdg.comment"
ORIGIN = "user.xdg.origin.url"

# No such attribute: Linux says ENODATA, macOS ENOATTR.
_ABSENT = frozenset({errno.ENODATA, getattr(errno, "ENOATTR", errno.ENODATA)})


def read_attribute(path: str | int, name: str) -> str:
    """Return the text of an extended attribute of an entry, no link being followed; empty where it has none.

    Args:
        path: its path, or what `attributes.by_descriptor` returned.
        name: of the attribute.

    Raises:
        OSError: it cannot be read, or the file system keeps no attributes (ENOTSUP).
    """
    if not attributes.ARE_KEPT:
        if name == ORIGIN:
            return attributes.origin_of(str(path))
        raise OSError(errno.ENOTSUP, "this system keeps no extended attributes")
    try:
        if isinstance(path, int) or path.startswith("/proc/self/fd/"):
            # What a descriptor stands for in /proc is a link to it.
            return attributes.getxattr(path, name).decode("utf-8", "surrogateescape")
        if (view := current()) is not None and (given := view.given(path, name)) is not None:
            return given
        return attributes.getxattr(real_path(path), name, follow_symlinks=False).decode("utf-8", "surrogateescape")
    except OSError as error:
        if error.errno in _ABSENT:
            return ""
        raise


def tags_text(path: str) -> str:
    """Return the tags of an entry in one text, empty where it has none or its file system keeps none."""
    try:
        return ", ".join(split_tags(read_attribute(path, TAGS)))
    except OSError:
        return ""


def split_tags(text: str) -> tuple[str, ...]:
    """Return the tags of a comma-separated list."""
    # Some programs write a blank after the comma, and some a comma at the end.
    return tuple(tag.strip() for tag in text.split(",") if tag.strip())
