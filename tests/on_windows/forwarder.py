"""Write a library of Windows that only hands calls on to another one, without a compiler.

`forwarder.py OUT.dll NAME=LIBRARY.FUNCTION...`, after the "PE Format" of learn.microsoft.com.
"""

from __future__ import annotations

import struct
import sys
from pathlib import Path

_FILE_ALIGNMENT, _SECTION_ALIGNMENT = 0x200, 0x1000
_IMAGE_BASE = 0x180000000


def library(name: str, exports: dict[str, str]) -> bytes:
    """Return the bytes of a library.

    Args:
        name: its own, with its suffix.
        exports: by the name of each call, where it is handed on to.
    """
    known = sorted(exports.items())
    # The directory, the table of addresses, of names and of numbers; then the texts that they point to.
    names_at = 40 + 4 * len(known)
    numbers_at = names_at + 4 * len(known)
    texts_at = numbers_at + 2 * len(known)
    texts = bytearray()

    def address(text: str) -> int:
        at = _SECTION_ALIGNMENT + texts_at + len(texts)
        texts.extend(text.encode("ascii") + b"\0")
        return at

    own = address(name)
    called = [address(one) for one, _ in known]
    handed = [address(one) for _, one in known]
    body = struct.pack(
        "<IIHHIIIIIII", 0, 0, 0, 0, own, 1, len(known), len(known), _SECTION_ALIGNMENT + 40, _SECTION_ALIGNMENT + names_at,
        _SECTION_ALIGNMENT + numbers_at,
    )  # fmt: skip
    body += struct.pack(f"<{len(known)}I", *handed) + struct.pack(f"<{len(known)}I", *called)
    body += struct.pack(f"<{len(known)}H", *range(len(known))) + texts
    raw = body + bytes(-len(body) % _FILE_ALIGNMENT)
    dos = b"MZ" + bytes(58) + struct.pack("<I", 0x40)
    coff = struct.pack("<4sHHIIIHH", b"PE\0\0", 0x8664, 1, 0, 0, 0, 240, 0x2022)
    optional = struct.pack(
        "<HBBIIIIIQIIHHHHHHIIIIHHQQQQII", 0x20B, 14, 0, 0, len(raw), 0, 0, 0, _IMAGE_BASE, _SECTION_ALIGNMENT, _FILE_ALIGNMENT,
        6, 0, 0, 0, 6, 0, 0, 2 * _SECTION_ALIGNMENT, _FILE_ALIGNMENT, 0, 2, 0x160, 0x100000, 0x1000, 0x100000, 0x1000, 0, 16,
    )  # fmt: skip
    optional += struct.pack("<II", _SECTION_ALIGNMENT, len(body)) + bytes(8 * 15)
    section = struct.pack(
        "<8sIIIIIIHHI", b".rdata", len(body), _SECTION_ALIGNMENT, len(raw), _FILE_ALIGNMENT, 0, 0, 0, 0, 0x40000040
    )  # fmt: skip
    head = dos + coff + optional + section
    return head + bytes(_FILE_ALIGNMENT - len(head)) + raw


if __name__ == "__main__":
    out = Path(sys.argv[1])
    out.write_bytes(library(out.name, dict(one.split("=") for one in sys.argv[2:])))
