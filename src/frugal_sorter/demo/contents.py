"""Made-up but real file contents: photos, scans, documents, models, archives."""

from __future__ import annotations

import io
import math
import random
import struct
import zipfile
from datetime import datetime

_EXIF_DATE = "%Y:%m:%d %H:%M:%S"


def _segment(marker: int, body: bytes) -> bytes:
    return struct.pack(">BBH", 0xFF, marker, len(body) + 2) + body


def _exif(taken: datetime) -> bytes:
    """Return an Exif block with the date a photo was taken (Exif 2.32, sections 4.5 and 4.6)."""
    date = taken.strftime(_EXIF_DATE).encode() + b"\0"
    model = b"Shelf camera\0"
    first, second = 8, 8 + 2 + 3 * 12 + 4
    data = second + 2 + 12 + 4
    directory = struct.pack("<H", 3)
    directory += struct.pack("<HHII", 0x0110, 2, len(model), data)
    directory += struct.pack("<HHII", 0x0132, 2, len(date), data + len(model))
    directory += struct.pack("<HHII", 0x8769, 4, 1, second) + struct.pack("<I", 0)
    details = (
        struct.pack("<H", 1) + struct.pack("<HHII", 0x9003, 2, len(date), data + len(model)) + struct.pack("<I", 0)
    )
    return b"Exif\0\0" + b"II*\0" + struct.pack("<I", first) + directory + details + model + date


class _Bits:
    """Collects bits into the entropy-coded bytes of a JPEG."""

    def __init__(self) -> None:
        self._bytes = bytearray()
        self._held = 0
        self._count = 0

    def put(self, value: int, length: int) -> None:
        self._held = self._held << length | value
        self._count += length
        while self._count >= 8:
            self._count -= 8
            byte = self._held >> self._count & 0xFF
            self._bytes.append(byte)
            if byte == 0xFF:
                self._bytes.append(0)
        self._held &= (1 << self._count) - 1

    def done(self) -> bytes:
        if self._count:
            self.put((1 << (8 - self._count)) - 1, 8 - self._count)
        return bytes(self._bytes)


def photo(chance: random.Random, taken: datetime, across: int = 40, down: int = 30) -> bytes:
    """Return a JPEG of a glazed test tile, with its Exif date: one flat colour a block of 8x8.

    A baseline file after ITU-T T.81 with codes of its own: twelve of four bits for the first
    coefficient of a block, a single one for its end.
    """
    base = [chance.randrange(60, 200), chance.randrange(90, 165), chance.randrange(90, 165)]
    run = chance.uniform(0.5, 3)
    bits = _Bits()
    before = [0, 0, 0]
    for row in range(down):
        edge = 18 * math.sin(row / down * math.pi * run)
        for _ in range(across):
            speckle = chance.choice((0, 0, 0, 6, -6))
            for part in range(3):
                level = base[part] + (edge + speckle if part == 0 else edge / 4)
                value = round((level - 128) * 8 / 16)
                difference, before[part] = value - before[part], value
                length = abs(difference).bit_length()
                bits.put(length, 4)
                bits.put(difference if difference >= 0 else difference + (1 << length) - 1, length)
                bits.put(0, 1)
    parts = b"".join(struct.pack("BBB", number, 0x11, 0) for number in (1, 2, 3))
    scan = b"".join(struct.pack("BB", number, 0) for number in (1, 2, 3))
    return b"".join((
        b"\xff\xd8",
        _segment(0xE1, _exif(taken)),
        _segment(0xDB, b"\0" + bytes([16] * 64)),
        _segment(0xC0, struct.pack(">BHHB", 8, down * 8, across * 8, 3) + parts),
        _segment(0xC4, b"\x00" + bytes([0, 0, 0, 12] + [0] * 12) + bytes(range(12))),
        _segment(0xC4, b"\x10" + bytes([1] + [0] * 15) + b"\0"),
        _segment(0xDA, b"\x03" + scan + b"\0\x3f\0"),
        bits.done(),
        b"\xff\xd9",
    ))  # fmt: skip


def scan(chance: random.Random, scanned: datetime, width: int = 160, height: int = 226) -> bytes:
    """Return a grey TIFF of a page with lines of writing (TIFF 6.0, section 3)."""
    rows = bytearray()
    for row in range(height):
        written = row % 12 < 4 and 20 < row < height - 20
        end = chance.randrange(90, width - 12) if row % 12 == 0 else width - 20
        rows += bytes(40 if written and 14 < x < end and chance.random() < 0.6 else 240 for x in range(width))
    date = scanned.strftime(_EXIF_DATE).encode() + b"\0"
    tags = [
        (0x0100, 3, 1, width), (0x0101, 3, 1, height), (0x0102, 3, 1, 8), (0x0103, 3, 1, 1), (0x0106, 3, 1, 1),
        (0x0111, 4, 1, 8), (0x0115, 3, 1, 1), (0x0116, 3, 1, height), (0x0117, 4, 1, len(rows)),
    ]  # fmt: skip
    start = 8 + len(rows)
    tags.append((0x0132, 2, len(date), start + 2 + 12 * (len(tags) + 1) + 4))
    directory = struct.pack("<H", len(tags)) + b"".join(struct.pack("<HHII", *tag) for tag in tags)
    return b"II*\0" + struct.pack("<I", start) + bytes(rows) + directory + struct.pack("<I", 0) + date


def document(lines: list[str]) -> bytes:
    """Return a PDF of one page of text (ISO 32000-1, section 7.5)."""
    escaped = [line.replace("\\", "\\\\").replace("(", "\\(").replace(")", "\\)") for line in lines]
    text = "BT /F1 12 Tf 60 780 Td 16 TL " + " ".join(f"({line}) Tj T*" for line in escaped) + " ET"
    stream = text.encode("latin-1", "replace")
    objects = [
        b"<< /Type /Catalog /Pages 2 0 R >>",
        b"<< /Type /Pages /Kids [3 0 R] /Count 1 >>",
        b"<< /Type /Page /Parent 2 0 R /MediaBox [0 0 595 842] /Contents 4 0 R"
        b" /Resources << /Font << /F1 5 0 R >> >> >>",
        b"<< /Length %d >>\nstream\n%s\nendstream" % (len(stream), stream),
        b"<< /Type /Font /Subtype /Type1 /BaseFont /Helvetica >>",
    ]
    out = bytearray(b"%PDF-1.4\n")
    offsets = []
    for number, body in enumerate(objects, 1):
        offsets.append(len(out))
        out += b"%d 0 obj\n%s\nendobj\n" % (number, body)
    table = len(out)
    out += b"xref\n0 %d\n0000000000 65535 f \n" % (len(objects) + 1)
    out += b"".join(b"%010d 00000 n \n" % offset for offset in offsets)
    out += b"trailer << /Size %d /Root 1 0 R >>\nstartxref\n%d\n%%%%EOF\n" % (len(objects) + 1, table)
    return bytes(out)


def model(chance: random.Random, around: int = 24, up: int = 10) -> bytes:
    """Return a binary STL of a turned form, such as a mug mould."""
    profile = [30 + 8 * math.sin(level / up * 3) + chance.uniform(0, 3) for level in range(up + 1)]

    def point(level: int, step: int) -> tuple[float, float, float]:
        angle = 2 * math.pi * step / around
        return profile[level] * math.cos(angle), profile[level] * math.sin(angle), level * 9.0

    faces = []
    for level in range(up):
        for step in range(around):
            a, b = point(level, step), point(level, step + 1)
            c, d = point(level + 1, step), point(level + 1, step + 1)
            faces += [(a, b, c), (b, d, c)]
    body = b"".join(struct.pack("<12fH", 0, 0, 0, *a, *b, *c, 0) for a, b, c in faces)
    return b"Tidewater Pottery mould".ljust(80, b" ") + struct.pack("<I", len(faces)) + body


def archive(members: dict[str, bytes]) -> bytes:
    """Return a zip with some members."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as packed:
        for name, body in members.items():
            packed.writestr(zipfile.ZipInfo(name, (2026, 1, 1, 9, 0, 0)), body)
    return out.getvalue()


def kiln_log(chance: random.Random, fired: datetime, kiln: int) -> bytes:
    """Return the log of one firing: a temperature every ten minutes."""
    peak = chance.choice((1000, 1060, 1220, 1260))
    lines = [f"kiln {kiln}  fired {fired:%Y-%m-%d}  peak {peak} C"]
    for minute in range(0, 600, 10):
        heat = 20 + (peak - 20) * math.sin(min(minute, 420) / 420 * math.pi / 2) * (1 if minute < 420 else 420 / minute)
        lines.append(f"{minute // 60:02}:{minute % 60:02}  {heat + chance.uniform(-3, 3):7.1f} C")
    return ("\n".join(lines) + "\n").encode()


def recipe_table(chance: random.Random, glaze: str) -> bytes:
    """Return a glaze recipe as CSV."""
    parts = [
        "potash feldspar",
        "whiting",
        "silica",
        "kaolin",
        "red iron oxide",
        "cobalt carbonate",
        "bone ash",
    ]
    rows = [f"{part},{chance.uniform(0.5, 45):.1f}" for part in parts]
    return ("\r\n".join([f"{glaze},percent", *rows]) + "\r\n").encode()


def booking(day: datetime, title: str) -> bytes:
    """Return one event as iCalendar (RFC 5545)."""
    return (
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Tidewater Pottery//EN\r\nBEGIN:VEVENT\r\n"
        f"UID:{day:%Y%m%d}@tidewater.example\r\nDTSTAMP:{day:%Y%m%d}T090000Z\r\nDTSTART:{day:%Y%m%d}T140000Z\r\n"
        f"SUMMARY:{title}\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
    ).encode()


def contact(name: str) -> bytes:
    """Return one contact as vCard (RFC 6350)."""
    local = "".join(letter for letter in name.lower() if letter.isascii() and letter.isalpha())
    return f"BEGIN:VCARD\r\nVERSION:4.0\r\nFN:{name}\r\nEMAIL:{local}@example.org\r\nEND:VCARD\r\n".encode()


def noise(chance: random.Random, size: int, head: bytes = b"") -> bytes:
    """Return bytes that mean nothing, after a head that names their kind."""
    return head + chance.randbytes(size)
